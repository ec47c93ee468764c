#!/usr/bin/env python3
"""Lists names that two of our types share: in the whole workspace a name means one type. Ends with 1 when there are any."""
import collections
import pathlib
import re
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
# `pub` and `pub(...)` at any depth; private types at the top of their module.
VISIBLE = re.compile(r"^\s*pub(?:\([^)]*\))? (?:struct|enum|trait|type) (\w+)|^(?:struct|enum|trait|type) (\w+)", re.MULTILINE)
# Types that a trait of another crate names.
OTHERS = {"Err", "Error", "Name", "Rejection"}

homes = collections.defaultdict(set)
for file in sorted(ROOT.glob("crates/*/src/**/*.rs")):
    if file.name.endswith("tests.rs") or "tests" in file.parts:
        continue
    text = file.read_text(encoding="utf-8").split("#[cfg(test)]\nmod tests {")[0]
    for found in VISIBLE.finditer(text):
        homes[found[1] or found[2]].add(str(file.relative_to(ROOT)))
shared = {name: files for name, files in homes.items() if len(files) > 1 and name not in OTHERS}
for name, files in sorted(shared.items()):
    print(f"{name}: {', '.join(sorted(files))}")
sys.exit(1 if shared else 0)
