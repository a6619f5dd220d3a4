#!/usr/bin/env bash
# Copies the pinned npm packages' browser files, with their licences, to where the application serves them.
set -euo pipefail
cd "$(dirname "$0")/.."
npm install --silent --no-audit --no-fund
into=src/keen_horizon/web/static/vendor
rm -rf "$into"
mkdir -p "$into"/{alpinejs,bootstrap,archivo} tests/browser/vendor
cp node_modules/@alpinejs/csp/dist/module.esm.min.js "$into/alpinejs/alpine.js"
cp node_modules/bootstrap/dist/css/bootstrap.min.css "$into/bootstrap/bootstrap.css"
sed -i '/sourceMappingURL/d' "$into/bootstrap/bootstrap.css"
cp node_modules/bootstrap/LICENSE "$into/bootstrap/LICENSE"
cp node_modules/@fontsource-variable/archivo/files/archivo-latin-wdth-normal.woff2 "$into/archivo/archivo.woff2"
cp node_modules/@fontsource-variable/archivo/LICENSE "$into/archivo/LICENSE"
cp node_modules/axe-core/axe.min.js tests/browser/vendor/axe.min.js
cp scripts/alpine-licence.txt "$into/alpinejs/LICENSE"
