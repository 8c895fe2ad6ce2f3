#!/usr/bin/env python3
"""Whole-program comparison: a deep scan of a source full of files without metadata, with carving and without, as
ratios to each other and to `cat SOURCE`.

The source holds the real files of samples/kinds.tar.zst at multiples of 4096 bytes, over and over: all are walked,
checked and hashed, though copies are one entry in the end. Least of several runs each, from the page cache. Needs
nothing but python3, zstd and coreutils.
"""
import argparse
import io
import pathlib
import resource
import subprocess
import tarfile
import tempfile

from deep_scan import PROGRAM, timed

SAMPLES = pathlib.Path(__file__).resolve().parent.parent / "samples"
CLUSTER = 4096


def fill(path, size):
    unpacked = subprocess.run(["zstd", "-dcq", SAMPLES / "kinds.tar.zst"], check=True, stdout=subprocess.PIPE).stdout
    with tarfile.open(fileobj=io.BytesIO(unpacked)) as tar:
        files = [tar.extractfile(member).read() for member in tar]
    with open(path, "wb") as out:
        while out.tell() < size:
            for content in files:
                out.write(content + bytes(-len(content) % CLUSTER))


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=1024)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        work = pathlib.Path(folder)
        source, shelf = work / "source.img", work / "shelf"
        fill(source, options.mib << 20)
        scan = f"rm -f {shelf}*; {PROGRAM} scan {source} --shelf {shelf} --depth deep --quiet"
        times = [(timed(f"cat {source}"), timed(f"{scan} --no-carve"), timed(scan)) for _ in range(options.runs + 1)]
        cat, without, carving = (min(column) for column in zip(*times[1:]))
        count = subprocess.run([PROGRAM, "list", shelf, "--count", "--format", "jsonl"], capture_output=True, check=True)
        print(f"cat {cat:.2f} s, deep scan {without:.2f} s, with carving {carving:.2f} s")
        print(f"ratio to the scan without {carving / without:.2f}, to cat {carving / cat:.2f}")
        print(f"found: {count.stdout.decode().strip()}")
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"peak memory of the largest process {peak:.0f} MiB")


if __name__ == "__main__":
    main()
