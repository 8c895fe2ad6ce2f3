#!/usr/bin/env bash
# Installs what is missing and builds one preset: release (the default), debug, asan or
# tsan.
set -euo pipefail
cd "$(dirname "$0")/.."
preset=${1:-release}
if [ "$preset" = asan ] || [ "$preset" = tsan ]; then
  scripts/install-packages.sh --sanitizers
else
  scripts/install-packages.sh
fi
cmake --preset "$preset" > /dev/null
cmake --build --preset "$preset"
