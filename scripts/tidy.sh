#!/usr/bin/env bash
# clang-tidy over the program, as .clang-tidy says. `--quick` leaves out the analyzer, which takes two
# thirds of the time. Needs a built preset (asan unless given): `scripts/tidy.sh [--quick] [preset]`.
set -euo pipefail
cd "$(dirname "$0")/.."
checks=()
if [ "${1:-}" = --quick ]; then
  checks=(-checks=-clang-analyzer-*)
  shift
fi
if ! told=$(run-clang-tidy -quiet -p "build/${1:-asan}" "${checks[@]}" "$PWD/src/|Unity/" 2> /dev/null); then
  grep -v '^clang-tidy' <<< "$told"
  exit 1
fi
echo "clang-tidy has nothing to say."
