#!/usr/bin/env bash
# Formats all C++ of the project; with --check only tells what would change, and fails then.
set -euo pipefail
cd "$(dirname "$0")/.."
mode=(-i)
[ "${1:-}" != --check ] || mode=(--dry-run --Werror)
git ls-files -z --cached --others --exclude-standard '*.cc' '*.h' | xargs -0 clang-format "${mode[@]}"
