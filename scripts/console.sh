#!/usr/bin/env bash
# Builds the console into console/dist, unless what is there is newer than its sources.
set -euo pipefail
cd "$(dirname "$0")/../console"

command -v npm >/dev/null || { echo "npm is missing: install Node 20.19 or newer" >&2; exit 1; }
node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' ||
  { echo "Node $(node --version) is too old: 20.19 or newer is needed" >&2; exit 1; }

if [ ! -d node_modules ] || [ package-lock.json -nt node_modules/.package-lock.json ]; then
  npm ci
fi
if [ -f dist/index.html ] && [ -z "$(find src index.html package.json package-lock.json vite.config.ts ../docs/reference/openapi.json -not -name schema.ts -newer dist/index.html -print -quit)" ]; then
  exit 0
fi
echo "building the console ..." >&2
npm run build
# An output that is older than a source by its clock would be built again and again.
touch dist/index.html
