#!/usr/bin/env bash
# Installs what is missing, builds, and does the whole job on the shipped sample volumes. Any
# arguments go to `undershelf demo`, such as --to DIR. Then a failing medium is copied: a server with
# delays and errors plays it.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/build.sh release
program=$PWD/build/release/src/undershelf
"$program" demo "$@"

samples=$PWD/samples
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
zstd -dq "$samples/fat16-logger.img.zst" -o failing-card.img
shown() {
  printf '\n$ undershelf %s\n' "$*"
  code=0
  "$program" "$@" || code=$?
  [ "$code" -le 1 ]  # errors of a medium are no failure of a step
}
export -f shown
export program
printf '\nA medium that is slow, and fails at some of its reads:\n'
nbdkit -U - --filter=error --filter=delay file failing-card.img error-pread=EIO \
  error-pread-rate=30% delay-read=4ms --run '
    shown image "$uri" --to copy.img --first metadata --attempts 1
    shown scan copy.img --shelf copy.shelf
    shown image "$uri" --to copy.img --attempts 20
    shown scan copy.img --shelf copy.shelf' 2> >(grep -v "injecting" >&2)
cmp failing-card.img copy.img
echo "The copy is the medium, byte for byte."
