#!/usr/bin/env bash
# Installs what is missing, builds, and does the whole job on the shipped sample volumes. Any
# arguments go to `undershelf demo`, such as --to DIR.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/build.sh release
build/release/src/undershelf demo "$@"
