#!/usr/bin/env python3
"""Whole-program comparison: a quick scan, as a ratio to what it cannot do without.

Makes a FAT32 volume of N entries (half of them deleted) in a temporary folder, then compares
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

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "build/release/src/undershelf"
CLUSTER = 512
PER_FOLDER = 500


def entry(name, attributes, cluster, size, deleted, number):
    name = (b"\xe5" + name[1:]) if deleted else name
    time_, date = (number % 86400) // 2, 0x5C61 + number % 20
    return struct.pack("<11sBBBHHHHHHHI", name, attributes, 0, number % 200, time_ & 0xBF7D, date,
                       date, cluster >> 16, time_ & 0xBF7D, date, cluster & 0xFFFF, size)


def make_volume(path, count, content):
    """FAT32, written directly: a boot sector, two FATs, folders of PER_FOLDER files each."""
    folders = (count + PER_FOLDER - 1) // PER_FOLDER
    per_folder = (PER_FOLDER + 2) * 32 // CLUSTER + 1
    clusters = 1000 + folders * (per_folder + 1) + count * content
    fat_sectors = (clusters * 4 + 8191) // 512
    total = 32 + 2 * fat_sectors + clusters
    boot = bytearray(512)
    struct.pack_into("<3s8sHBHBHHBHHHII", boot, 0, b"\xeb\x58\x90", b"bench   ", 512, 1, 32, 2, 0,
                     0, 0xF8, 0, 63, 255, 0, total)
    struct.pack_into("<IHHIHH", boot, 36, fat_sectors, 0, 0, 2, 1, 6)
    boot[510:512] = b"\x55\xaa"
    fat = bytearray(fat_sectors * 512)
    heap = bytearray()
    next_cluster = 2

    def allocate(how_many, chained=True):
        nonlocal next_cluster
        first = next_cluster
        next_cluster += how_many
        for c in range(first, next_cluster if chained else first):
            last = c + 1 == next_cluster
            struct.pack_into("<I", fat, 4 * c, 0x0FFFFFFF if last else c + 1)
        return first

    struct.pack_into("<II", fat, 0, 0x0FFFFFF8, 0x0FFFFFFF)
    root_clusters = (folders * 32) // CLUSTER + 1
    allocate(root_clusters)
    root = bytearray()
    body = []
    number = 0
    for f in range(folders):
        first = allocate(per_folder)
        root += entry(f"D{f:07}   ".encode(), 0x10, first, 0, False, f)
        inside = bytearray(entry(b".          ", 0x10, first, 0, False, f)
                           + entry(b"..         ", 0x10, 0, 0, False, f))
        body.append((first, per_folder, inside))
        for _ in range(min(PER_FOLDER, count - number)):
            deleted = number % 2 == 1
            c = allocate(content, chained=not deleted)
            inside += entry(f"F{number:07}CSV".encode(), 0x20, c, content * CLUSTER - 12, deleted,
                            number)
            number += 1
    with open(path, "wb") as out:
        out.write(boot.ljust(32 * 512, b"\0"))
        out.write(fat)
        out.write(fat)
        heap_at = out.tell()
        out.write(root.ljust(root_clusters * CLUSTER, b"\0"))
        line = b"station,time,level_mm\n" * 24
        for first, length, inside in body:
            out.seek(heap_at + (first - 2) * CLUSTER)
            out.write(inside.ljust(length * CLUSTER, b"\0"))
            files = (len(inside) // 32 - 2) * content
            out.write((line[:CLUSTER]) * files)
        out.truncate(heap_at + clusters * CLUSTER)
    return 2 * len(fat) + len(root) + folders * per_folder * CLUSTER


def least(runs, prepare, action):
    best = None
    for _ in range(runs):
        prepare()
        begin = time.perf_counter()
        action()
        spent = time.perf_counter() - begin
        best = spent if best is None else min(best, spent)
    return best


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--entries", type=int, default=100_000)
    parser.add_argument("--runs", type=int, default=5)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        image, shelf, plain = work / "card.img", work / "card.shelf", work / "plain"
        metadata = make_volume(image, options.entries, 2)
        (work / "metadata").write_bytes(os.urandom(metadata))
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
        print(f"{options.entries} entries, {metadata} bytes of metadata, "
              f"least of {options.runs} runs")
        print(f"  read {read:.3f} s, insert {inserted:.3f} s, sum {total:.3f} s")
        for check, spent in times.items():
            print(f"  scan --check {check:<6} {spent:.3f} s   {spent / total:.2f} times the sum")
        print(f"  peak memory of the scan: {before / 1024:.0f} MiB")

        bag, copy = work / "bag", work / "copy"
        exported = least(options.runs, lambda: shutil.rmtree(bag, ignore_errors=True),
                         lambda: subprocess.run([PROGRAM, "export", shelf, "--to", bag, "--quiet",
                                                 "--limit", "20000"], check=True))
        copied = least(options.runs, lambda: shutil.rmtree(copy, ignore_errors=True),
                       lambda: subprocess.run(["cp", "-r", bag / "data", copy], check=True))
        files = work / "files"
        files.write_bytes(b"\0".join(os.fsencode(p) for p in (bag / "data").rglob("*")
                                     if p.is_file()))
        hashed = least(options.runs, lambda: None, lambda: subprocess.run(
            ["xargs", "-0", "-a", files, "openssl", "dgst", "-sha256"],
            stdout=subprocess.DEVNULL, check=True))
        slower = max(copied, hashed)
        print(f"  export of 20,000 files {exported:.3f} s, cp -r {copied:.3f} s, openssl "
              f"{hashed:.3f} s   {exported / slower:.2f} times the slower")


if __name__ == "__main__":
    sys.exit(main())
