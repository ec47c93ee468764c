#!/usr/bin/env bash
# Formatting, lints, and the types of the console.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo fmt --all --check
scripts/type-names.py
cargo clippy --workspace --all-targets --locked -- -D warnings
scripts/console.sh
npm --prefix console run check
