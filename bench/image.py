#!/usr/bin/env python3
"""Whole-program comparisons of copies and of sources behind a server, as ratios in one run.

Makes a FAT32 volume (--size MiB, 4096 if not given) with 10,000 files in a temporary folder, then
compares
  image:    undershelf image of it, which hashes what it reads, with the slower of `dd` by direct reads
            with a flush at the end, and `openssl dgst -sha256` on one core
  metadata: the share of it that `--first metadata` reads, and how many of the names a scan then has
  select:   what `--select` of 100 files reads, as a ratio to their bytes, and how many are whole then
  server:   undershelf scan by way of a server on this machine, with the scan of the file, both from
            the disk and from memory
Needs mtools, dosfstools and nbdkit.
"""
import argparse
import json
import os
import pathlib
import random
import subprocess
import tempfile
import time

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
MIB = 1 << 20
FILES = 10_000


def make(folder, mib):
    source = folder / "card.img"
    with open(source, "wb") as file:
        file.truncate(mib * MIB)
    subprocess.run(["mkfs.fat", "-F", "32", source], check=True, stdout=subprocess.DEVNULL)
    rng = random.Random(1)
    files = folder / "files"
    for number in range(FILES):
        path = files / f"survey {number // 250:02}" / f"reading {number:05}.bin"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rng.randbytes(rng.randrange(mib * MIB // FILES // 5 * 8)))
    subprocess.run(["mcopy", "-s", "-i", source, *sorted(files.iterdir()), "::"], check=True)
    subprocess.run(["rm", "-r", files])
    return source


def timed(*command):
    os.sync()
    began = time.perf_counter()
    subprocess.run(command, check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - began


def least(runs, prepare, *command):
    best = None
    for _ in range(runs):
        prepare()
        spent = timed(*command)
        best = spent if best is None else min(best, spent)
    return best


def output(*command):
    return subprocess.run([PROGRAM, *command], capture_output=True, text=True).stdout


def remove(folder, *names):
    for name in names:
        for path in (folder / name, folder / f"{name}.ledger"):
            path.unlink(missing_ok=True)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--size", type=int, default=4096)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--to", default=os.environ.get("TMPDIR"))
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=arguments.to) as name:
        folder = pathlib.Path(name)
        source = make(folder, arguments.size)
        size = source.stat().st_size
        image, copy, shelf = folder / "image", folder / "copy", folder / "shelf"
        clear = lambda: remove(folder, "image", "copy")
        ours = least(arguments.runs, clear, PROGRAM, "image", source, "--to", image, "--quiet")
        theirs = least(arguments.runs, clear, "dd", f"if={source}", f"of={copy}", "bs=1M",
                       "iflag=direct", "conv=fsync")
        hashed = least(arguments.runs, clear, "openssl", "dgst", "-sha256", source)
        print(f"image: {ours:.2f} s; dd {theirs:.2f} s, ratio {ours / theirs:.2f}; hash alone on one core "
              f"{hashed:.2f} s, ratio to the slower of both {ours / max(theirs, hashed):.2f}")
        clear()
        account = json.loads(output("image", source, "--to", image, "--first", "metadata",
                                    "--first-only", "--format", "jsonl", "--quiet"))
        output("scan", image, "--shelf", shelf, "--quiet")
        names = output("list", shelf, "--kind", "file", "--format", "jsonl").count("\n")
        print(f"metadata: {account['read'] / size:.2%} of {size >> 20} MiB read, "
              f"{names} of {FILES} names")
        rows = [json.loads(line) for line in
                output("list", shelf, "--kind", "file", "--format", "jsonl").splitlines()]
        chosen = random.Random(2).sample([row for row in rows if row["size"] > 0], 100)
        ids = ",".join(str(row["id"]) for row in chosen)
        more = json.loads(output("image", source, "--to", image, "--select", shelf, "--id", ids,
                                 "--first-only", "--format", "jsonl", "--quiet"))
        output("scan", image, "--shelf", shelf, "--quiet")
        whole = output("list", shelf, "--id", ids, "--rating", "whole", "--format", "jsonl").count("\n")
        wanted = sum(row["size"] for row in chosen)
        print(f"select: {(more['read'] - account['read']) / wanted:.3f} times the bytes of 100 files "
              f"read, {whole} whole")
        for where in ("shelf", "image"):
            remove(folder, where)
        def cold():
            remove(folder, "shelf")
            with open(source) as file:
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)

        def cached():
            remove(folder, "shelf")
            subprocess.run(["cat", source], stdout=subprocess.DEVNULL, check=True)

        scan = [PROGRAM, "scan", source, "--shelf", shelf, "--depth", "deep", "--no-carve", "--check",
                "sample", "--quiet"]
        call = " ".join(map(str, scan)).replace(str(source), '"$uri"', 1)
        for how, prepare in (("cold", cold), ("cached", cached)):
            here = least(arguments.runs, prepare, *scan)
            there = least(arguments.runs, prepare, "nbdkit", "--unix", "-", "file", source, "--run", call)
            print(f"server, {how}: deep scan {there:.2f} s, of the file {here:.2f} s, ratio {there / here:.2f}")


if __name__ == "__main__":
    main()
