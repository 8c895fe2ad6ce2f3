"""What one wrong bit does: each bit of the headers that a driver uses is flipped, one at a time, all
other copies of what it says left whole; then the living files are held against the truth.

    python3 recipes/header_flips.py [--samples NAME,...] [--every N]

A cell is one flipped bit. It holds if all living files that the whole volume gives come back with
their bytes, none with others, and nothing is promised whole or likely that is not. Needs the built
program (UNDERSHELF, or build/release) and zstd. Prints the table of docs/recovery/headers.md.
"""
import argparse
import concurrent.futures
import json
import os
import pathlib
import subprocess
import tempfile

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = os.environ.get("UNDERSHELF", str(ROOT / "build/release/src/undershelf"))

# Where the fields of each header stand: a sample, a name for it, byte ranges of the image. Boot code
# and what every specification calls reserved are left out.
HEADERS = {
    "fat12-floppy": ("FAT12, boot sector", [(0, 62), (510, 512)]),
    "fat16-logger": ("FAT16, boot sector", [(0, 62), (510, 512)]),
    "fat32-logger": ("FAT32, boot sector", [(0, 52), (64, 90), (510, 512)]),
    "exfat-camera": ("exFAT, boot sector", [(0, 11), (64, 113), (510, 512)]),
    "ntfs-office": ("NTFS, boot sector", [(0, 84), (510, 512)]),
    "hfsplus-charts": ("HFS+, volume header", [(1024, 1024 + 512)]),
}


def run(*arguments):
    return subprocess.run([PROGRAM, *map(str, arguments)], capture_output=True, text=True)


def rows_of(image, folder):
    shelf = folder / "shelf"
    for beside in folder.glob("shelf*"):
        beside.unlink()
    code = run("scan", image, "--shelf", shelf, "--check", "full", "--check-living", "--quiet").returncode
    if not shelf.exists():
        return code, []
    listed = run("list", shelf, "--kind", "file", "--format", "jsonl").stdout
    return code, [json.loads(line) for line in listed.splitlines()]


def living(rows):
    return {(r["path"], r["stream"]): (r["size"], r["sha256"]) for r in rows if r["state"] == "live"}


def judge(rows, whole, contents):
    """Living files that are right; promises with other bytes."""
    right = sum(1 for key, value in living(rows).items() if whole.get(key) == value)
    wrong = [r["path"] for r in rows if r["rating"] in ("whole", "likely") and r["size"]
             and (r["size"], r["sha256"]) not in contents]
    return right, wrong


def flip(image, place, bit):
    with open(image, "r+b") as file:
        file.seek(place)
        byte = file.read(1)[0]
        file.seek(place)
        file.write(bytes([byte ^ (1 << bit)]))


def work(sample, cells):
    found = []
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        image = folder / "image"
        subprocess.run(["zstd", "-dq", ROOT / f"samples/{sample}.img.zst", "-o", image], check=True)
        _, rows = rows_of(image, folder)
        whole = living(rows)
        contents = {(r["size"], r["sha256"]) for r in rows}
        for place, bit in cells:
            flip(image, place, bit)
            _, rows = rows_of(image, folder)
            flip(image, place, bit)
            right, wrong = judge(rows, whole, contents)
            found.append((place, bit, right, len(whole), wrong))
    return found


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--samples", default=",".join(HEADERS))
    parser.add_argument("--every", type=int, default=1, help="only every N-th bit")
    options = parser.parse_args()
    print("| header | bits | all living files right | some | none | promises with other bytes |")
    print("|---|---|---|---|---|---|")
    failed = []
    for sample in options.samples.split(","):
        name, ranges = HEADERS[sample]
        cells = [(place, bit) for begin, end in ranges for place in range(begin, end) for bit in range(8)]
        cells = cells[:: options.every]
        workers = os.cpu_count() or 1
        with concurrent.futures.ProcessPoolExecutor(workers) as pool:
            parts = [cells[i::workers] for i in range(workers)]
            found = [cell for part in pool.map(work, [sample] * workers, parts) for cell in part]
        all_right = sum(1 for c in found if c[2] == c[3])
        none = sum(1 for c in found if c[2] == 0)
        wrong = sum(1 for c in found if c[4])
        print(f"| {name} | {len(found)} | {all_right} ({100 * all_right / len(found):.1f} %) | "
              f"{len(found) - all_right - none} | {none} | {wrong} |", flush=True)
        failed += [(sample, *cell) for cell in sorted(found) if cell[2] != cell[3] or cell[4]]
    print()
    for sample, place, bit, right, of, wrong in failed:
        print(f"{sample} byte {place} bit {bit}: {right} of {of} right", *(["promised:", *wrong[:2]] if wrong else []))


if __name__ == "__main__":
    main()
