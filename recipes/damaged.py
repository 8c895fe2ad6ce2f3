"""Sample volumes with random damage, and whether the built program stands it.

    python3 recipes/damaged.py --images 1..200 [--keep DIR]

Each number stands for a sample and some damage to it: flipped bits, sectors lost or of another place, records of
metadata with numbers out of range, a cut end. The program scans it (deeply, every third time), lists it, and
exports all of it. What may not be: a crash, a message of a sanitizer, a raw message of a library, an exit code
that is none of the documented ones, a changed source, more than a minute or a GiB. Run it with the program
built under the sanitizers: UNDERSHELF=build/asan/src/undershelf.
"""
import argparse
import hashlib
import os
import pathlib
import random
import resource
import shutil
import subprocess
import sys
import tempfile
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = pathlib.Path(os.environ.get("UNDERSHELF", ROOT / "build/release/src/undershelf")).resolve()
CODES = {0, 1, 2, 3, 4, 5}
RAW = ("AddressSanitizer", "runtime error", "LeakSanitizer", "terminate called", "std::", "SQLite", "database is", "database disk",
       "basic_string", "vector::")
SECTOR = 512
MOST_SECONDS = 60
MARKS = (b"FILE0", b"INDX(", b"RCRD(", b"H+\0\4", b"\x85\x02", b"\x85\x03", b".          \x10", b"..         \x10",
         b"EXFAT   ", b"NTFS    ", b"FAT32   ", b"FAT16   ", b"FAT12   ")


def places_of_metadata(image, r):
    """Where some structure stands, one for each mark that is found from a random place on."""
    found = [0, 1024, 3 * SECTOR]
    for mark in MARKS:
        at = image.find(mark, r.randrange(len(image)))
        if at >= 0:
            found.append(at)
    return found


def damage(image, r):
    for _ in range(r.choice((1, 3, 10, 40))):
        kind = r.choice(("bits", "number", "number", "number", "zeros", "noise", "elsewhere"))
        at = r.choice(places_of_metadata(image, r)) if r.random() < 0.8 else r.randrange(len(image))
        if kind == "bits":
            for _ in range(8):
                place = min(len(image) - 1, at + r.randrange(SECTOR))
                image[place] ^= 1 << r.randrange(8)
        elif kind == "number":
            width = r.choice((1, 2, 4, 8))
            place = min(len(image) - width, at + r.randrange(SECTOR))
            value = r.choice((0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 1 << 40, 2 ** 63,
                              2 ** 64 - 1, r.getrandbits(64)))
            image[place:place + width] = (value & (256 ** width - 1)).to_bytes(width, r.choice(("little", "big")))
        else:
            begin = at // SECTOR * SECTOR
            length = min(r.choice((1, 1, 8, 64)) * SECTOR, len(image) - begin)
            other = r.randrange(max(1, len(image) - length)) // SECTOR * SECTOR
            image[begin:begin + length] = {"zeros": bytes(length), "noise": r.randbytes(length),
                                           "elsewhere": bytes(image[other:other + length])}[kind]
    if r.random() < 0.1:
        del image[r.randrange(len(image)) // SECTOR * SECTOR + SECTOR:]


def run(wrong, *command):
    limits = lambda: resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    begun = time.monotonic()
    try:
        done = subprocess.run([str(PROGRAM), *map(str, command)], capture_output=True, timeout=MOST_SECONDS,
                              preexec_fn=limits)
    except subprocess.TimeoutExpired:
        wrong.append(f"{command[0]}: more than {MOST_SECONDS} s")
        return
    said = done.stderr.decode(errors="replace")
    if done.returncode not in CODES:
        wrong.append(f"{command[0]}: exit code {done.returncode}: {said[-2000:]}")
    wrong += [f"{command[0]}: {word}: {said[:2000]}" for word in RAW if word in said][:1]
    if time.monotonic() - begun > MOST_SECONDS / 2:
        wrong.append(f"{command[0]}: {time.monotonic() - begun:.0f} s")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--images", default="1..100")
    parser.add_argument("--keep", type=pathlib.Path, help="keep images that something is wrong with here")
    options = parser.parse_args()
    first, _, last = options.images.partition("..")
    samples = sorted((ROOT / "samples").glob("*.img.zst"))
    broken = 0
    for number in range(int(first), int(last or first) + 1):
        r = random.Random(number)
        packed = r.choice(samples)
        with tempfile.TemporaryDirectory() as work:
            folder = pathlib.Path(work)
            image = folder / "card.img"
            subprocess.run(["zstd", "-q", "-d", "--long=27", packed, "-o", image], check=True)
            content = bytearray(image.read_bytes())
            damage(content, r)
            image.write_bytes(content)
            before = hashlib.sha256(content).digest()
            wrong = []
            depth = "deep" if number % 3 == 0 else "quick"
            run(wrong, "scan", image, "--shelf", folder / "shelf", "--depth", depth)
            if (folder / "shelf").exists():
                run(wrong, "list", folder / "shelf", "--system", "--format", "jsonl")
                run(wrong, "tree", folder / "shelf")
                run(wrong, "volumes", folder / "shelf")
                run(wrong, "export", folder / "shelf", "--to", folder / "bag", "--even-gone", "--system")
            if hashlib.sha256(image.read_bytes()).digest() != before:
                wrong.append("the source was changed")
            for line in wrong:
                print(f"{number} ({packed.name}, {depth}): {line}", flush=True)
            broken += bool(wrong)
            if wrong and options.keep:
                options.keep.mkdir(parents=True, exist_ok=True)
                shutil.copy(image, options.keep / f"{number}.img")
    print(f"{int(last or first) - int(first) + 1} images, {broken} with something wrong")
    sys.exit(broken > 0)


if __name__ == "__main__":
    main()
