#!/usr/bin/env bash
# Bundle web/model.js with three.js into the application's assets: wants node and npm, and a package registry for the versions below.
set -euo pipefail
here=$(cd -- "$(dirname -- "${BASH_SOURCE[0]}")/.." && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp "$here/web/model.js" "$work/"
cd "$work"
npm init -y >/dev/null
npm install --silent --no-audit --no-fund three@0.187.0 esbuild >/dev/null
node_modules/.bin/esbuild model.js --bundle --minify --format=iife --legal-comments=none --outfile=model.bundle.js --log-level=warning
mkdir -p "$here/src/tidal_lens/assets/report"
cp model.bundle.js "$here/src/tidal_lens/assets/report/model.js"
cp node_modules/three/LICENSE "$here/src/tidal_lens/assets/report/LICENSE-three.txt"
