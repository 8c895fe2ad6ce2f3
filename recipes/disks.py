"""Whole disks: the logger volumes behind partition maps that sfdisk wrote.

The volumes are those of fat_logger.py; their truth holds here as well, so a disk's truth file only
says which sample lies where.
"""
import json
import pathlib
import subprocess
import sys

SAMPLES = pathlib.Path(__file__).resolve().parent.parent / "samples"


def disk(name, size, map_text, volumes):
    """`volumes`: (byte offset, sample) pairs."""
    image = SAMPLES / f"{name}.img"
    image.unlink(missing_ok=True)
    with open(image, "wb") as f:
        f.truncate(size)
    subprocess.run(["/sbin/sfdisk", "-q", image], input=map_text.encode(), check=True)
    with open(image, "r+b") as f:
        for offset, sample in volumes:
            packed = SAMPLES / f"{sample}.img.zst"
            f.seek(offset)
            f.write(subprocess.run(["zstd", "-dcq", packed], check=True,
                                   capture_output=True).stdout)
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


RECIPES = {"disk-mbr-logical": mbr_logical, "disk-gpt": gpt}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted]()
