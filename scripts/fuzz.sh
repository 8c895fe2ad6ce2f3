#!/usr/bin/env bash
# Runs every fuzzer for a while: `scripts/fuzz.sh [minutes in all]`, 10 if not given. What they learn
# is kept in build/corpus; an input that breaks something is left in build/findings, and is the exit
# code. One target: `scripts/fuzz.sh 10 fuzz-reader-ntfs`.
set -euo pipefail
cd "$(dirname "$0")/.."
minutes=${1:-10}
build=build/asan
scripts/build.sh asan > /dev/null

corpus=build/corpus
mkdir -p build/findings
if [ ! -e "$corpus/made" ]; then
  work=$(mktemp -d)
  trap 'rm -rf "$work"' EXIT
  for packed in samples/*.img.zst; do
    name=$(basename "$packed" .img.zst)
    zstd -q -d -f --long=27 "$packed" -o "$work/card.img"
    "$build/fuzz/make_corpus" "$work/card.img" "$name" "$corpus"
  done
  mkdir -p "$corpus/fuzz-shelf" "$corpus/fuzz-decode" "$corpus/fuzz-glob" "$corpus/fuzz-ledger"
  for name in fat12-floppy exfat-camera fat16-root-only; do
    zstd -q -d -f --long=27 "samples/$name.img.zst" -o "$work/card.img"
    rm -f "$corpus/fuzz-shelf/$name"
    "$build/src/undershelf" scan "$work/card.img" --shelf "$corpus/fuzz-shelf/$name" \
      --depth deep --quiet
  done
  printf '*/IMG_??.JPG\nDCIM/IMG_01.JPG' > "$corpus/fuzz-glob/path"
  "$build/src/undershelf" image "$work/card.img" --to "$work/copy.img" --quiet
  cp "$work/copy.img.ledger" "$corpus/fuzz-ledger/whole"
  touch "$corpus/made"
fi
if [ ! -e "$corpus/kinds" ]; then
  mkdir -p "$corpus/kinds"
  tar -I zstd -xf samples/kinds.tar.zst -C "$corpus/kinds"
  find "$corpus/kinds" -size +160k -delete
fi

# Those that several targets share are called by these targets' names.
shopt -s extglob
targets=("$build"/fuzz/fuzz-!(content|deep|reader))
[ $# -lt 2 ] || targets=("$build/fuzz/$2")
seconds=$((minutes * 60 * $(nproc) / ${#targets[@]}))
run() {
  name=$(basename "$1")
  mkdir -p "build/corpus/$name"
  log="build/findings/$name.log"
  first=()
  [[ $name != fuzz-@(content-*|preview|rejoin) ]] || first=(build/corpus/kinds)
  if "$1" -max_total_time="$2" -timeout=10 -rss_limit_mb=1024 -max_len=400000 -print_final_stats=1 \
    -artifact_prefix="build/findings/$name-" "build/corpus/$name" "${first[@]}" > "$log" 2>&1; then
    echo "$name: $(sed -n 's/stat::number_of_executed_units: *//p' "$log") inputs, none breaks it"
  else
    echo "$name: BROKEN, see $log"
    grep -E -A 8 'ERROR|runtime error' "$log" | head -20 || true
    grep -E '^(SUMMARY|Base64)' "$log" || true
    exit 1
  fi
}
export -f run
printf '%s\0' "${targets[@]}" | xargs -0 -P "$(nproc)" -I{} bash -c 'run "$1" "$2"' _ {} "$seconds"
