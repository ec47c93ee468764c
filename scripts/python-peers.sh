#!/usr/bin/env bash
# Real programs for the tests that Debian does not package: Python libraries at fixed versions, in a folder of their own.
# Prints the folder.
set -euo pipefail
cd "$(dirname "$0")/.."

folder=${CARGO_TARGET_DIR:-$PWD/target}/python-peers
if ! cmp -s scripts/python-peers.txt "$folder/installed.txt"; then
  scripts/need.sh /usr/lib/python3/dist-packages/pip=python3-pip
  rm -rf "$folder"
  /usr/bin/python3 -m pip install --quiet --disable-pip-version-check --no-input --root-user-action=ignore \
    --only-binary :all: --target "$folder" --requirement scripts/python-peers.txt >&2
  cp scripts/python-peers.txt "$folder/installed.txt"
fi
echo "$folder"
