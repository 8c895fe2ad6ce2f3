#!/usr/bin/env bash
# Plays a failing medium for the demo: serves FILE as a network block device on SOCKET, slowly, and
# with sectors that cannot be read. Ends with what started it.
#   scripts/failing-server.sh FILE SOCKET SECTOR...
set -euo pipefail
file=$(realpath "$1")
socket=$2
shift 2
exec nbdkit -f --exit-with-parent -U "$socket" --filter=delay eval delay-read=2ms \
  get_size="stat -Lc %s '$file'" \
  pread='first=$(( $4 / 512 )); last=$(( ($4 + $3 - 1) / 512 ))
    for bad in '"$*"'; do
      if [ $bad -ge $first ] && [ $bad -le $last ]; then echo EIO the sector fails >&2; exit 1; fi
    done
    dd if='"'$file'"' iflag=skip_bytes,count_bytes skip=$4 count=$3 bs=1M status=none' 2> /dev/null
