#!/usr/bin/env python3
"""Whole-program comparison: a deep scan of a source without remnants, and without carving (bench/carve.py), as a
ratio to `cat SOURCE`.

Makes a sparse source, one that is full of random bytes, and one of a real mixture (a tar of this system's
libraries, programs and documents) in a temporary folder, and reads each with
`cat` and with `undershelf scan --depth deep --no-carve`, in turn, from the page cache; with --direct also past it
(`dd iflag=direct` for cat; the cache is emptied before each scan, which takes root). Least of several
runs each. Peak memory is that of the largest scan. Needs nothing but python3 and coreutils.
"""
import argparse
import os
import pathlib
import random
import subprocess
import tempfile
import time

BLOCK = 64 << 20
PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"


def timed(command):
    begin = time.perf_counter()
    subprocess.run(command, shell=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begin


def empty_cache():
    os.sync()
    pathlib.Path("/proc/sys/vm/drop_caches").write_text("3")


def compare(name, source, options, work, direct):
    shelf = work / "shelf"
    scan = f"rm -f {shelf}*; {PROGRAM} scan {source} --shelf {shelf} --depth deep --no-carve --quiet"
    cached = [(timed(f"cat {source}"), timed(scan)) for _ in range(options.runs + 1)][1:]
    cat, deep = (min(times) for times in zip(*cached))
    print(f"{name:8} cached    cat {cat:6.2f} s  scan {deep:6.2f} s  ratio {deep / cat:.2f}")
    if direct:
        cat = timed(f"dd if={source} of=/dev/null bs=1M iflag=direct")
        empty_cache()
        deep = timed(scan)
        print(f"{name:8} uncached  dd  {cat:6.2f} s  scan {deep:6.2f} s  ratio {deep / cat:.2f}")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--gib", type=int, default=4)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--direct", action="store_true")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        sparse, full = work / "sparse.img", work / "full.img"
        with open(sparse, "wb") as out:
            out.truncate(options.gib << 30)
        fill(full, options.gib << 30)
        compare("sparse", sparse, options, work, False)
        compare("full", full, options, work, options.direct)
        full.unlink()
        mix(full, options.gib << 30)
        compare("mixture", full, options, work, options.direct)
        scan = f"{PROGRAM} scan {full} --shelf {work}/last --depth deep --no-carve"
        print(f"peak memory of a scan: {peak_of(scan):.0f} MiB")


def peak_of(command):
    """In a process of its own: what others took must not count."""
    script = ("import resource,subprocess,sys; subprocess.run(sys.argv[1].split(), capture_output=True)\n"
              "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024)")
    return float(subprocess.run(["python3", "-c", script, command], capture_output=True).stdout)


def fill(path, size):
    noise = random.Random(1).randbytes(BLOCK)
    with open(path, "wb") as out:
        for i in range(size // BLOCK):
            out.write(noise[i * 4096:] + noise[:i * 4096])


def mix(path, size):
    folders = [pathlib.Path("/usr") / name for name in ("lib", "share", "bin", "include")]
    subprocess.run(f"tar -c {' '.join(str(f) for f in folders if f.exists())} 2>/dev/null | head -c {size} "
                   f"> {path}", shell=True)


if __name__ == "__main__":
    main()
