"""Tries what is said of block devices, and what is refused, on a real kernel.

The built program runs in the guest of guest.py, among disks that machines of technicians have: a SCSI
disk, a USB stick, an array, a mapping, swap space, file systems on several devices, loop devices.
Needs no root; prints what does not hold, and says so in its exit code.
"""
import json
import pathlib
import re
import shutil
import subprocess
import sys
import tempfile

import guest

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
TOOLS = [shutil.which(tool) for tool in ("dmsetup", "mdadm", "mkfs.btrfs", "mkfs.ext4")]
MIB = 1 << 20

# Disks of the guest: vda is a card with a partition map; the others by their order.
SCRIPT = """
mkdir -p /scratch /var/tmp /usr/share /etc /run /mnt/a /mnt/b /mnt/c /mnt/swap
mount -t tmpfs none /scratch
export LC_ALL=C.UTF-8 PATH=/bin:/sbin:/usr/bin:/usr/sbin
for wait in 1 2 3 4 5 6 7 8 9 10; do [ -b /dev/sdd ] || sleep 1; done
stick=$(for d in sda sdb sdc sdd; do grep -q USB /sys/block/$d/device/vendor && echo $d; done; true)
stick=${stick:-$(for d in sda sdb sdc sdd; do [ $(cat /sys/block/$d/removable) = 1 ] && echo $d; done)}
set -- $(for d in sda sdb sdc sdd; do [ $d = "$stick" ] || echo $d; done)
A=/dev/$1 B=/dev/$2 C=/dev/$3 STICK=/dev/$stick
survey() { echo "SURVEY $1 $(PROGRAM survey $2 --format jsonl 2>/scratch/err | head -1)"; grep WARNING /scratch/err | sed "s/^/SAID $1 /" || true; }
scan() { code=0; PROGRAM scan $2 --shelf $3 $4 --quiet > /scratch/out 2> /scratch/err || code=$?; echo "SCAN $1 $code $(tail -1 /scratch/err)"; rm -f $3; }

survey scsi $A
survey stick $STICK
survey card /dev/vda
survey partition /dev/vda1
scan idle /dev/vda /scratch/shelf

mount -t vfat -o utf8 /dev/vda1 /volume
survey card-mounted /dev/vda
scan card-mounted /dev/vda /scratch/shelf
scan other-partition /dev/vda2 /volume/shelf
scan partition-mounted /dev/vda1 /scratch/shelf
umount /volume
mount -t vfat -o ro,utf8 /dev/vda1 /volume
survey card-read-only /dev/vda
scan card-read-only /dev/vda /scratch/shelf
umount /volume

# A mapping over the second partition, with a file system in use on it.
echo "0 $(cat /sys/block/vda/vda2/size) linear /dev/vda2 0" | dmsetup create --noudevsync chart
MAPPED=/dev/dm-0
mkfs.ext4 -q $MAPPED
mount -t ext4 $MAPPED /mnt/a
survey mapped-card /dev/vda
survey mapping $MAPPED
scan mapped-card /dev/vda /scratch/shelf
scan on-mapping /dev/vda1 /mnt/a/shelf --mounted-anyway
dd if=/dev/zero of=/mnt/a/image bs=1M count=4 2> /dev/null
scan image-on-mapping /mnt/a/image /mnt/a/shelf
LOOP=$(losetup -f); losetup $LOOP /mnt/a/image
mkfs.ext4 -q $LOOP; mount -t ext4 $LOOP /mnt/b
scan image-mounted /mnt/a/image /scratch/shelf
scan inside-image /mnt/a/image /mnt/b/shelf --mounted-anyway
scan through-loop /dev/vda /mnt/b/shelf --mounted-anyway
umount /mnt/b; losetup -d $LOOP; umount /mnt/a; dmsetup remove --noudevsync chart

# A file system on two disks, which has a device number of its own.
mkfs.btrfs -q -d raid1 -m raid1 $A $B
[ ! -e /dev/btrfs-control ] || true
mount -t btrfs -o device=$A,device=$B $A /mnt/c
survey btrfs-first $A
survey btrfs-second $B
scan btrfs-second $B /scratch/shelf
scan on-btrfs $B /mnt/c/shelf --mounted-anyway
umount /mnt/c
dd if=/dev/zero of=$A bs=1M count=8 2> /dev/null; dd if=/dev/zero of=$B bs=1M count=8 2> /dev/null

# An array and swap space.
mdadm --create /dev/md0 --level=1 --raid-devices=2 --metadata=1.2 --assume-clean --run $A $B > /dev/null 2>&1
survey array-member $A
mkfs.ext4 -q /dev/md0; mount -t ext4 /dev/md0 /mnt/a
survey array-member-mounted $B
scan array-member $B /scratch/shelf
scan on-array $A /mnt/a/shelf --mounted-anyway
umount /mnt/a; mdadm --stop /dev/md0 > /dev/null 2>&1
mkswap $C > /dev/null; swapon $C
survey swap $C
swapoff $C
"""


def main():
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        card = work / "card.img"
        with open(card, "wb") as f:
            f.truncate(96 * MIB)
        subprocess.run(["sfdisk", "-q", card], input=b"label: dos\n2048,65536,c\n67584,,83\n", check=True)
        subprocess.run(["mkfs.fat", "-F", "16", "-n", "LOGGER", "--offset", "2048", card, "32768"],
                       check=True, stdout=subprocess.DEVNULL)
        machine = ["-device", "virtio-scsi-pci", "-device", "qemu-xhci", "-m", "1024"]
        for n, kind in enumerate(["scsi-hd", "scsi-hd", "scsi-hd", "usb-storage"]):
            disk = work / f"disk{n}.img"
            with open(disk, "wb") as f:
                f.truncate(160 * MIB)
            more = {0: ",rotation_rate=7200", 3: ",removable=on"}.get(n, "")
            machine += ["-drive", f"file={disk},format=raw,if=none,id=d{n},cache=unsafe,discard=unmap",
                        "-device", f"{kind},drive=d{n}{more}"]
        log = guest.run(card, SCRIPT.replace("PROGRAM", str(PROGRAM)), {}, "devices",
                        [PROGRAM, *TOOLS], machine, also=["vfat"])
    if len(sys.argv) > 1:
        pathlib.Path(sys.argv[1]).write_text(log)
    check(log)


def check(log):
    found = {m[1]: json.loads(m[2]) for m in re.finditer(r"^SURVEY (\S+) (\{.*)$", log, re.M)}
    surveys = {name: source["device"] for name, source in found.items()}
    sources = {name: source["path"] for name, source in found.items()}
    scans = {m[1]: (int(m[2]), m[3]) for m in re.finditer(r"^SCAN (\S+) (\d+) ?(.*)$", log, re.M)}
    wrong = []

    def facts(name, **expected):
        for fact, value in expected.items():
            if surveys[name][fact] != value:
                wrong.append(f"{name}: {fact} is {surveys[name][fact]!r}, not {value!r}")

    def scan(name, code, *words):
        told, sentence = scans[name]
        if told != code or any(word not in sentence for word in words):
            wrong.append(f"{name}: exit {told}, {sentence!r}; not {code} with {words}")

    facts("scsi", model="QEMU HARDDISK", removable=False, rotating=True, discards=True, holders=[])
    facts("stick", model="QEMU HARDDISK", removable=True)
    facts("card", removable=False, rotating=True, mounted_for_writing=[], mounted_for_reading=[], swap=[])
    facts("card-mounted", mounted_for_writing=["/volume"])
    facts("card-read-only", mounted_for_writing=[], mounted_for_reading=["/volume"])
    facts("mapped-card", mounted_for_writing=["/mnt/a"], holders=["dm-0"])
    facts("mapping", mounted_for_writing=["/mnt/a"])
    facts("btrfs-first", mounted_for_writing=["/mnt/c"])
    facts("btrfs-second", mounted_for_writing=["/mnt/c"])
    facts("array-member", holders=["md0"], mounted_for_writing=[])
    facts("array-member-mounted", holders=["md0"], mounted_for_writing=["/mnt/a"])
    facts("swap", swap=[sources["swap"]])
    scan("idle", 0)
    scan("card-mounted", 4, "mounted for writing at /volume")
    scan("partition-mounted", 4, "mounted for writing at /volume")
    scan("other-partition", 4, "lies on the source")
    scan("card-read-only", 0)
    scan("mapped-card", 4, "mounted for writing at /mnt/a")
    scan("on-mapping", 4, "lies on the source")
    scan("image-on-mapping", 1, "")
    scan("image-mounted", 4, "mounted for writing at /mnt/b")
    scan("inside-image", 4, "lies on the source")
    scan("through-loop", 4, "lies on the source")
    scan("btrfs-second", 4, "mounted for writing at /mnt/c")
    scan("on-btrfs", 4, "lies on the source")
    scan("array-member", 4, "mounted for writing at /mnt/a")
    scan("on-array", 4, "lies on the source")
    for line in re.findall(r"^SAID .*$", log, re.M):
        print(line)
    print("\n".join(wrong) or "All of it holds.")
    if wrong:
        sys.exit(1)


if __name__ == "__main__":
    main()
