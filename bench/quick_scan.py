#!/usr/bin/env python3
"""Whole-program comparison: a quick scan, as a ratio to what it cannot do without.

Makes a volume of N entries (half of them deleted; --system says of which kind) in a temporary folder,
then compares
  scan:   undershelf scan, --check none and --check sample
with the sum of
  read:   `cat` of the bytes it must read (FATs and folders)
  insert: a plain SQLite insert of as many rows of the same columns
and, for export, with the slower of `cp -r` and `openssl dgst -sha256` of the same files.
Least of several runs each, all in one run of this program. Needs nothing but python3 and openssl.
"""
import argparse
import os
import pathlib
import resource
import shutil
import sqlite3
import struct
import subprocess
import sys
import tempfile
import time

import volumes

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "build/release/src/undershelf"
MAKERS = {"fat": volumes.make_fat, "ntfs": volumes.make_ntfs, "exfat": volumes.make_exfat,
          "hfsplus": volumes.make_hfsplus}


def least(runs, prepare, action):
    best = None
    for _ in range(runs):
        prepare()
        begin = time.perf_counter()
        action()
        spent = time.perf_counter() - begin
        best = spent if best is None else min(best, spent)
    return best


def time_of(*command):
    begin = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - begin


def compare_export(what, shelf, work, runs):
    """In turn, each into new folders, and none removed in between: some file systems are slow to make
    files while those just removed are remembered. The export flushes what it lists, `cp` does not:
    a flush after it is shown besides."""
    work.mkdir()
    files = work / "files"
    exported, copied, flushed, hashed = [], [], [], []
    for run in range(runs):
        bag, copy = work / f"bag{run}", work / f"copy{run}"
        exported.append(time_of(PROGRAM, "export", shelf, "--to", bag, "--quiet"))
        subprocess.run(["sync", "-f", work], check=True)
        copied.append(time_of("cp", "-r", bag / "data", copy))
        flushed.append(copied[-1] + time_of("sync", "-f", work))
        files.write_bytes(b"\0".join(os.fsencode(p) for p in (bag / "data").rglob("*")
                                     if p.is_file()))
        hashed.append(time_of("xargs", "-0", "-a", files, "openssl", "dgst", "-sha256"))
    exported, copied, flushed, hashed = min(exported), min(copied), min(flushed), min(hashed)
    print(f"  export of {what} {exported:.3f} s, cp -r {copied:.3f} s (with a flush {flushed:.3f} s), "
          f"openssl {hashed:.3f} s")
    print(f"    {exported / max(copied, hashed):.2f} times the slower, "
          f"{exported / max(flushed, hashed):.2f} times with the flush")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--entries", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--system", choices=MAKERS, default="fat")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        image, shelf, plain = work / "card.img", work / "card.shelf", work / "plain"
        metadata = MAKERS[options.system](image, options.entries)
        (work / "metadata").write_bytes(bytes(metadata))
        peak = {}

        def scan(check):
            subprocess.run([PROGRAM, "scan", image, "--shelf", shelf, "--check", check, "--quiet"],
                           check=True)

        def fresh():
            shelf.unlink(missing_ok=True)

        times = {check: least(options.runs, fresh, lambda c=check: scan(c))
                 for check in ("none", "sample")}
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        read = least(options.runs, lambda: None, lambda: subprocess.run(
            ["cat", work / "metadata"], stdout=subprocess.DEVNULL, check=True))
        source = sqlite3.connect(shelf)
        tables = {}
        for table in ("entries", "streams"):
            rows = source.execute(f"SELECT * FROM {table}").fetchall()
            schema = source.execute("SELECT sql FROM sqlite_master WHERE name=?",
                                    (table,)).fetchone()[0]
            tables[table] = (schema, rows)

        def insert():
            plain.unlink(missing_ok=True)
            db = sqlite3.connect(plain)
            for table, (schema, rows) in tables.items():
                db.execute(schema)
                marks = ",".join("?" * len(rows[0]))
                db.executemany(f"INSERT INTO {table} VALUES({marks})", rows)
            db.commit()
            db.close()

        inserted = least(options.runs, lambda: None, insert)
        total = read + inserted
        print(f"{options.system}: {options.entries} entries, {metadata} bytes of metadata, "
              f"least of {options.runs} runs")
        print(f"  read {read:.3f} s, insert {inserted:.3f} s, sum {total:.3f} s")
        for check, spent in times.items():
            print(f"  scan --check {check:<6} {spent:.3f} s   {spent / total:.2f} times the sum")
        print(f"  peak memory of the scan: {before / 1024:.0f} MiB")

        if options.system != "fat":
            return
        for what, files, clusters in (("20,000 files of 1 KiB", 20_000, 2),
                                      ("200 files of 4 MiB", 200, 8192)):
            volumes.make_fat(image, files, clusters)
            shelf.unlink()
            scan("none")
            image.read_bytes()
            compare_export(what, shelf, work / what, options.runs)


if __name__ == "__main__":
    sys.exit(main())
