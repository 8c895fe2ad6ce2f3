#!/usr/bin/env bash
# Draws docs/screenshots anew: each main command's output on the sample data, in a terminal window
# under Xvfb. For those who change what the program prints; installs what that takes.
#   scripts/screenshots.sh [NAME...]: only these, if any are named
set -euo pipefail
only=" $* "
cd "$(dirname "$0")/.."
tools=(xvfb xterm imagemagick chromium fonts-dejavu-core fonts-wqy-microhei fonts-symbola)
dpkg-query -W "${tools[@]}" > /dev/null 2>&1 || apt-get install -q -y --no-install-recommends "${tools[@]}"
scripts/build.sh release > /dev/null
program=$PWD/build/release/src
shots=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'kill $display 2>/dev/null; rm -rf "$work"' EXIT
cd "$work"
for packed in "$OLDPWD"/samples/{fat16-logger,fat32-logger,exfat-camera,ntfs-office,formatted-fat32-to-ntfs,fat32-kinds,bare-card}.img.zst; do
  zstd -dq "$packed" -o "$(basename "$packed" .zst)"
done
Xvfb :97 -screen 0 1280x800x24 > /dev/null 2>&1 &
display=$!
sleep 1

pause=3  # seconds until what was run is done
# shot NAME COMMAND: runs COMMAND as typed, and keeps a picture of the window.
shot() {
  printf 'PS1=; cd %q; PATH=%q:$PATH; clear\n' "$work" "$program" > run
  printf '%s\n' "$2" | while IFS= read -r line; do
    printf 'echo %q\n%s\n' "\$ $line" "$line"
  done >> run
  if [[ $only =~ [^\ ] && $only != *" $1 "* ]]; then
    bash run > /dev/null 2>&1 || true  # later ones go on with what it made
    return
  fi
  printf 'sleep %d\n' $((pause + 1)) >> run
  DISPLAY=:97 LC_ALL=C.UTF-8 xterm -ti vt340 -geometry 140x44+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg white \
    -fg black +sb -e bash run &
  local terminal=$!
  sleep $pause
  DISPLAY=:97 import -window root "$shots/$1.png"
  wait $terminal || true
}

shot survey 'undershelf survey fat16-logger.img
undershelf survey fat32-logger.img --format jsonl'
cp "$OLDPWD/scripts/failing-server.sh" .
pause=12
shot image "./failing-server.sh fat16-logger.img disk.sock 401 402 600 601 602 2000 40000 & sleep 1
undershelf image 'nbd+unix:///?socket=disk.sock' --to copy.img --first metadata
undershelf scan copy.img --shelf copy.shelf
undershelf list copy.shelf --rating partial
tail -n 3 copy.img.ledger; kill %1
./failing-server.sh fat16-logger.img disk2.sock & sleep 1
undershelf image 'nbd+unix:///?socket=disk2.sock' --to copy.img --attempts 4
undershelf scan copy.img --shelf copy.shelf"
pause=3
shot scan 'undershelf scan fat16-logger.img --shelf fat16-logger.shelf
undershelf volumes fat16-logger.shelf'
shot list "undershelf list fat16-logger.shelf --state deleted --kind file
undershelf list fat16-logger.shelf --type picture --rating likely+ --count"
shot tree 'undershelf tree fat16-logger.shelf --state deleted'
shot show 'undershelf show fat16-logger.shelf 31'
shot peek 'undershelf peek fat16-logger.shelf 31 --bytes 400
undershelf peek fat16-logger.shelf 9 --bytes 160
undershelf scan fat32-kinds.img --shelf kinds.shelf --quiet
undershelf peek kinds.shelf Sound/clip.mkv'
shot export "undershelf export fat16-logger.shelf --to recovered --state deleted --even-gone
undershelf verify recovered --shelf fat16-logger.shelf
cd recovered
cat bag-info.txt
grep overwritten exported.jsonl"
shot mount 'mkdir found
undershelf mount fat16-logger.shelf found --state deleted 2> told &
sleep 1; cat told
find found -type f | sort | head -12
head -3 found/volume-1-LOGGER1/Exactly26LettersInName.csv
kill %1; wait'
shot formatted "undershelf scan formatted-fat32-to-ntfs.img --shelf card.shelf --depth deep
undershelf volumes card.shelf
undershelf tree card.shelf --state former --path 'Charts/*/*' --path 'Sound notes/*'"
shot check "undershelf scan fat32-kinds.img --shelf kinds.shelf --check full
undershelf list kinds.shelf --path /Harmed --kind file
undershelf show kinds.shelf 52 | tail -n +13"
shot totals "undershelf totals kinds.shelf --state deleted
undershelf totals kinds.shelf --state deleted --by folder
undershelf list kinds.shelf --find chart"
shot carved "undershelf scan bare-card.img --shelf bare-card.shelf --depth deep
undershelf tree bare-card.shelf --type document
undershelf show bare-card.shelf '[carved]/document/2013-12-23 23.15.docx'"
shot advise "undershelf scan ntfs-office.img --shelf office.shelf --quiet
undershelf advise office.shelf --name 'Levels 3.csv' --path 'Plans/**'
undershelf advise office.shelf --find report --type document --state deleted"
sed 's/^source .*/source   = exfat-camera.img/; s/recovered.zip/camera.zip/' "$OLDPWD/docs/examples/job.conf" > job.conf
shot job "cat job.conf
undershelf job job.conf
unzip -l camera.zip | head -7"

# What is drawn: kept as it is, and a page as a browser shows it.
if [[ ! $only =~ [^\ ] || $only == *" figures "* ]]; then
  PATH=$program:$PATH
  undershelf scan fat32-kinds.img --shelf figures.shelf --depth deep --quiet
  undershelf report figures.shelf --to page --shop 'Quay workshop' --case 17 \
    --customer 'Tide-gauge survey party'
  cp page/map.png "$shots/map.png"
  cp page/sheet.png "$shots/sheet.png"
  chromium --headless --no-sandbox --disable-gpu --window-size=1280,800 \
    --screenshot="$shots/report.png" "file://$work/page/report.html" 2> /dev/null
fi
