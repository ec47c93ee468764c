#!/usr/bin/env bash
# Throws made-up bytes at every parser of what strangers send, each for so many seconds (20): scripts/fuzz.sh [SECONDS]
# `cargo fuzz run TARGET` does the same with more comfort where there is a nightly toolchain. What breaks is left in
# target/fuzz/found.
set -euo pipefail
cd "$(dirname "$0")/.."
seconds=${1:-20}
export CARGO_TARGET_DIR=$PWD/target/fuzz
export RUSTFLAGS="--cfg fuzzing -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
  -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
  -Cllvm-args=-sanitizer-coverage-trace-compares -Ccodegen-units=1 -Copt-level=1 -Cdebug-assertions -Cdebuginfo=0"
scripts/need.sh g++=g++
# With a target named, only what is fuzzed is built with these flags, and not the programs that build it.
host=$(rustc -vV | sed -n 's/^host: //p')
cargo build --manifest-path fuzz/Cargo.toml --target "$host"
mkdir -p "$CARGO_TARGET_DIR/found"
for source in fuzz/fuzz_targets/*.rs; do
  target=$(basename "$source" .rs)
  echo "fuzzing $target for $seconds s ..." >&2
  "$CARGO_TARGET_DIR/$host/debug/$target" -max_total_time="$seconds" -max_len=4096 -verbosity=0 -print_final_stats=1 \
    -artifact_prefix="$CARGO_TARGET_DIR/found/$target-" 2>&1 | grep -E "number_of_executed_units|ERROR|panicked|Test unit" >&2 || true
  if ls "$CARGO_TARGET_DIR/found/$target-"* >/dev/null 2>&1; then
    echo "$target: something broke; see target/fuzz/found" >&2
    exit 1
  fi
done
