#!/usr/bin/env bash
# Installs what is missing, builds, and runs all tests. `scripts/test.sh asan` does so with the
# address and undefined-behaviour sanitizers; `scripts/test.sh tsan` runs the tests of what works in
# threads with the thread sanitizer.
set -euo pipefail
cd "$(dirname "$0")/.."
preset=${1:-release}
scripts/build.sh "$preset"
ctest --preset "$preset" -j "$(nproc)"
