#!/usr/bin/env bash
# Writes the front end's types from the server's own schema.
set -euo pipefail
cd "$(dirname "$0")"
../.venv/bin/python -m tidy_caravan.server.openapi > "${TMPDIR:-/tmp}/tidy-caravan-openapi.json"
npx openapi-typescript "${TMPDIR:-/tmp}/tidy-caravan-openapi.json" -o "${1:-src/api/schema.d.ts}"
