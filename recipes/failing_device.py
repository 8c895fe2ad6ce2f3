"""Copies block devices that fail, on a real kernel, and asks disks how they are.

In the guest of guest.py the device mapper makes sectors that fail, an area that is slow and a disk that
comes and goes; `image` copies each past the page cache. One bad sector must cost one sector. While it
copies, the kernel must hold the device read-only, and let go of it after. A SATA and an NVMe disk are
asked for their health. Prints what does not hold, and says so in its exit code.
"""
import json
import pathlib
import random
import re
import subprocess
import sys
import tempfile

import guest

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
MIB = 1 << 20
SECTORS = 64 * MIB // 512
BAD = [1, 5000, 5001, 90000, SECTORS - 1]

SCRIPT = r"""
mkdir -p /scratch /tmp /var/tmp
mount -t tmpfs -o size=700m none /scratch
mount -t tmpfs none /tmp
export LC_ALL=C.UTF-8 PATH=/bin:/sbin:/usr/bin:/usr/sbin
S=SECTORS
copied() {  # name device options...
  name=$1; device=$2; shift 2
  code=0; PROGRAM image $device --to /scratch/$name --format jsonl "$@" > /scratch/out 2> /scratch/err || code=$?
  echo "COPY $name $code $(cat /scratch/out)"
  sed "s/^/ERR $name /" /scratch/err
  grep failed /scratch/$name.ledger | sed "s/^/LEDGER $name /" || true
}

# Fixed sectors that fail.
{ at=0
  for bad in BAD; do
    [ $bad = $at ] || echo "$at $((bad - at)) linear /dev/vda $at"
    echo "$bad 1 error"; at=$((bad + 1))
  done
  [ $at = $S ] || echo "$at $((S - at)) linear /dev/vda $at"; } > /scratch/table
dmsetup create --noudevsync bad < /scratch/table
copied bad /dev/dm-0
for bad in BAD; do dd if=/dev/zero of=/scratch/zeroed bs=512 count=1 2> /dev/null; done
cp /dev/vda /scratch/expected
for bad in BAD; do dd if=/dev/zero of=/scratch/expected bs=512 seek=$bad count=1 conv=notrunc 2> /dev/null; done
cmp /scratch/bad /scratch/expected && echo SAME bad
PROGRAM scan /dev/dm-0 --through /scratch/bad --shelf /scratch/shelf --quiet || true
rm -f /scratch/bad* /scratch/shelf

# The kernel holds it read-only as long as it is read.
PROGRAM image /dev/dm-0 --to /scratch/slowly --rate 8M --quiet > /dev/null 2>&1 &
sleep 2; echo "HELD $(cat /sys/block/dm-0/ro)"; kill -INT $!; wait $! || true
echo "LET-GO $(cat /sys/block/dm-0/ro)"; rm -f /scratch/slowly*
dmsetup remove --noudevsync bad

# An area that is slow: stepped over, and read in the end.
printf '0 20480 linear /dev/vda 0\n20480 4096 delay /dev/vda 20480 1500\n24576 %d linear /dev/vda 24576\n' $((S - 24576)) \
  | dmsetup create --noudevsync slow
copied slow /dev/dm-0
cmp /scratch/slow /dev/vda && echo SAME slow
dmsetup remove --noudevsync slow; rm -f /scratch/slow*

# One that works for three seconds and fails for one.
echo "0 $S flakey /dev/vda 0 3 1" | dmsetup create --noudevsync flaky
copied flaky /dev/dm-0 --attempts 40 --rate 16M
cmp /scratch/flaky /dev/vda && echo SAME flaky
dmsetup remove --noudevsync flaky; rm -f /scratch/flaky*

for wait in 1 2 3 4 5; do [ -b /dev/nvme0n1 ] || sleep 1; done
for disk in /dev/sda /dev/nvme0n1; do
  echo "HEALTH $disk $(PROGRAM survey $disk --format jsonl 2> /scratch/err | head -1)"
done
"""


def main():
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        card = work / "card.img"
        card.write_bytes(random.Random(1).randbytes(64 * MIB))
        subprocess.run(["mkfs.fat", "-F", "16", "-n", "LOGGER", card], check=True, stdout=subprocess.DEVNULL)
        machine = ["-m", "1536", "-device", "ich9-ahci,id=ahci"]
        for name, device in (("sata", "ide-hd,drive=sata,bus=ahci.0"), ("nvme", "nvme,drive=nvme,serial=TIDE7")):
            disk = work / name
            disk.write_bytes(bytes(32 * MIB))
            machine += ["-drive", f"file={disk},format=raw,if=none,id={name}", "-device", device]
        script = SCRIPT.replace("PROGRAM", str(PROGRAM)).replace("SECTORS", str(SECTORS))
        script = script.replace("BAD", " ".join(map(str, BAD)))
        log = guest.run(card, script, {}, "failing", [PROGRAM, "/usr/sbin/dmsetup"], machine, also=["vfat"])
    if len(sys.argv) > 1:
        pathlib.Path(sys.argv[1]).write_text(log)
    check(log)


def check(log):
    wrong = []

    def hold(what, holds):
        if not holds:
            wrong.append(what)

    copies = {m[1]: (int(m[2]), json.loads(m[3])) for m in re.finditer(r"^COPY (\S+) (\d+) (\{.*)$", log, re.M)}
    last = {}
    for match in re.finditer(r"^LEDGER bad (\{.*)$", log, re.M):
        line = json.loads(match[1])
        last[line["offset"]] = line
    hold(f"bad: failed {sorted(last)}", sorted(last) == [bad * 512 for bad in BAD])
    hold("bad: one sector each", all(line["length"] == 512 for line in last.values()))
    hold("bad: sum and code", copies["bad"][0] == 1 and copies["bad"][1]["failed"] == 512 * len(BAD))
    for name in ("bad", "slow", "flaky"):
        hold(f"{name}: the image is right", f"SAME {name}" in log)
    hold("slow: told", copies["slow"][1]["slow"] > 0)
    hold("held read-only", "HELD 1" in log and "LET-GO 0" in log)
    for match in re.finditer(r"^HEALTH (\S+) (\{.*)$", log, re.M):
        device = json.loads(match[2])["device"]
        print(match[1], device["health"], *device["health_facts"], sep="\n  ")
        # The SATA disk of the machine has no SMART data that the library takes.
        hold(f"{match[1]}: health", device["health"] == ("sound" if "nvme" in match[1] else "untold"))
        hold(f"{match[1]}: serial", device["serial"] != "")
    for line in re.findall(r"^ERR .*$", log, re.M):
        print(line)
    print("\n".join(f"WRONG {what}" for what in wrong) or "All of it holds.")
    if wrong:
        sys.exit(1)


if __name__ == "__main__":
    main()
