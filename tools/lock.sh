#!/usr/bin/env bash
# Write requirements.lock anew: the newest versions that pyproject.toml admits, installed into an empty environment.
set -euo pipefail
cd "$(dirname "$0")/.."
fresh="$(mktemp -d)"
trap 'rm -rf "$fresh"' EXIT
"${PYTHON:-python3}" -m venv "$fresh"
"$fresh/bin/pip" install --quiet --disable-pip-version-check -e ".[test]"
{
  echo "# Every Python package that set-up installs, at the version that was tested.  Made by tools/lock.sh."
  "$fresh/bin/pip" freeze --exclude-editable
} > requirements.lock
