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
  [ "$code" -le 1 ]  # what cannot be read is no failure of a step
}
serve() {  # SOCKET SECTOR...
  "$OLDPWD/scripts/failing-server.sh" failing-card.img "$@" &
  while [ ! -S "$1" ]; do sleep 0.1; done
}
printf '\nA medium that is slow, and of which some sectors fail:\n'
serve failing.sock 401 402 600 601 602 2000 40000
shown image 'nbd+unix:///?socket=failing.sock' --to copy.img --first metadata
shown scan copy.img --shelf copy.shelf
shown list copy.shelf --rating partial
printf '\nThe same one after a rest, when all of it can be read:\n'
serve rested.sock
shown image 'nbd+unix:///?socket=rested.sock' --to copy.img --attempts 4
shown scan copy.img --shelf copy.shelf
cmp failing-card.img copy.img
echo "The copy is the medium, byte for byte."
