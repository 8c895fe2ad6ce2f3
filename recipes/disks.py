"""Whole disks: the logger volumes behind partition maps that sfdisk wrote.

The volumes are those of fat_logger.py; their truth holds here as well, so a disk's truth file only
says which sample lies where.
"""
import io
import json
import os
import pathlib
import random
import subprocess
import sys
import zipfile

from card import Card
from scenario import chart, note, readings

SAMPLES = pathlib.Path(__file__).resolve().parent.parent / "samples"


def disk(name, size, map_text, volumes, then=lambda image: None):
    """`volumes`: (byte offset, sample) pairs; `then`: what happens to the image afterwards."""
    image = SAMPLES / f"{name}.img"
    image.unlink(missing_ok=True)
    with open(image, "wb") as f:
        f.truncate(size)
    subprocess.run(["/sbin/sfdisk", "-q", image], input=map_text.encode(), check=True)
    with open(image, "r+b") as f:
        for offset, sample in volumes:
            f.seek(offset)
            f.write(unpacked(sample))
    then(image)
    with open(SAMPLES / f"{name}.truth.jsonl", "w", encoding="utf-8") as out:
        for offset, sample in volumes:
            out.write(json.dumps({"offset": offset, "sample": sample}) + "\n")
    packed = SAMPLES / f"{name}.img.zst"
    subprocess.run(["zstd", "-q", "-f", "-19", "--long=27", "--rm", image, "-o", packed],
                   check=True)
    print(f"{packed.name}: {packed.stat().st_size} bytes")


MIB = 1 << 20
S = 512  # bytes a sector


def mbr_logical():
    disk("disk-mbr-logical", 80 * MIB,
         f"label: dos\nstart={MIB // S}, size={16 * MIB // S}, type=6\n"
         f"start={20 * MIB // S}, size={58 * MIB // S}, type=5\n"
         f"start={21 * MIB // S}, size={2 * MIB // S}, type=83\n"
         f"start={25 * MIB // S}, size={32 * MIB // S}, type=6\n",
         [(MIB, "fat16-fragments"), (25 * MIB, "fat16-logger")])


def gpt():
    disk("disk-gpt", 60 * MIB,
         f"label: gpt\nstart={MIB // S}, size={32 * MIB // S}, type=EBD0A0A2-B9E5-4433-87C0-"
         f"68B6B72699C7, name=\"Logger party\"\n"
         f"start={40 * MIB // S}, size={16 * MIB // S}, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n",
         [(MIB, "fat16-logger"), (40 * MIB, "fat16-fragments")])


def repartitioned():
    """Two volumes; then the disk was divided anew, into one partition that begins within the first of
    them and holds the second, and that was formatted and written to."""
    start, size = 20 * MIB, 56 * MIB

    def anew(image):
        subprocess.run(["/sbin/sfdisk", "-q", "-w", "never", image], check=True,
                       input=f"label: gpt\nstart={start // S}, size={size // S}, type=EBD0A0A2-B9E5-"
                             "4433-87C0-68B6B72699C7, name=\"New party\"\n".encode())
        subprocess.run(["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11CE78", "-n", "NEW", "--offset",
                        str(start // S), image, str(size // 1024)], check=True,
                       stdout=subprocess.DEVNULL)
        for number in range(1, 4):
            subprocess.run(["mcopy", "-i", f"{image}@@{start}", "-", f"::New line {number}.csv"],
                           check=True, input=readings(f"NEW{number}", "2026-06-01", 9000),
                           env={**os.environ, "LC_ALL": "C.UTF-8", "MTOOLS_SKIP_CHECK": "1"})

    disk("disk-repartitioned", 80 * MIB,
         f"label: dos\nstart={MIB // S}, size={32 * MIB // S}, type=6\n"
         f"start={40 * MIB // S}, size={16 * MIB // S}, type=6\n",
         [(MIB, "fat16-logger"), (40 * MIB, "fat16-fragments")], anew)


def with_images():
    """A volume that keeps disk images as ordinary files, some of them deleted, besides content that
    looks like nothing."""
    card = Card("fat32-images", 100 * MIB, ["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11CE77", "-n",
                                            "IMAGES"], 512)
    noise = random.Random(77)
    counted = b"".join(n.to_bytes(4, "little") for n in range(200_000))
    when = "2026-05-01 08:00:00"
    card.mtools_write("Noise.bin", noise.randbytes(200_000), when)
    card.mtools_write("Counted.bin", counted, when)
    card.mtools_write("Plain.txt", note("Plain", "2026-05-01", 300_000), when)
    card.mtools_write("Chart.png", chart("Chart", 400, 300), when)
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        for n in range(40):
            stamp = zipfile.ZipInfo(f"Lines/Line {n}.csv", (2026, 5, 1, 8, 0, 0))
            archive.writestr(stamp, readings(f"Z{n}", "2026-05-01", 2000))
    card.mtools_write("Lines.zip", packed.getvalue(), when)
    for sample in ("fat12-floppy", "fat16-fragments", "ntfs-4k-sectors", "hfsplus-iso"):
        card.mtools_write(f"{sample}.img", unpacked(sample), when)
    card.mtools_write("Lost floppy.img", unpacked("fat12-floppy"), when)
    card.mtools_write("Lost office.img", unpacked("ntfs-64k-clusters")[:40 * MIB], when)
    card.mtools_delete("Lost floppy.img", "2026-05-02 08:00:00")
    card.mtools_delete("Lost office.img", "2026-05-02 08:00:00")
    card.finish()


def unpacked(sample):
    return subprocess.run(["zstd", "-dcq", SAMPLES / f"{sample}.img.zst"], check=True,
                          capture_output=True).stdout


RECIPES = {"fat32-images": with_images, "disk-mbr-logical": mbr_logical, "disk-gpt": gpt,
           "disk-repartitioned": repartitioned}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted]()
