#!/usr/bin/env python3
"""How the time of putting lost volumes together grows with what is left of them.

Makes volumes of three sizes of which boot sectors, headers and tables are gone, so that a deep scan has
nothing but traces (FAT: folders; exFAT: entry sets; NTFS: records, and an index block for each 16 of them;
HFS+: catalog nodes), and scans them; and FAT32 volumes of 2 TB with deleted files of 4 GiB each, scanned
quickly. Prints the least time of several runs for each, what was found, and the slope between two sizes: 1
is in proportion. Needs nothing but python3.
"""
import argparse
import math
import os
import pathlib
import struct
import subprocess
import tempfile
import time

import volumes

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
MAKERS = {"fat": volumes.make_fat, "exfat": volumes.make_exfat, "ntfs": volumes.make_ntfs,
          "hfsplus": volumes.make_hfsplus}


def index_block(vcn, folder, names):
    """An INDX block of a folder: entries for (record, name), with its update sequence in place."""
    when = 133500000000000000
    entries = b""
    for record, name in names:
        text = name.encode("utf-16-le")
        key = struct.pack("<QQQQQQQIIBB", folder | 1 << 48, when, when, when, when, 4096, 4000, 0, 0,
                          len(name), 1) + text
        length = (16 + len(key) + 7) // 8 * 8
        entries += (struct.pack("<QHHI", record | 1 << 48, length, len(key), 0) + key).ljust(length, b"\0")
    entries += struct.pack("<QHHI", 0, 16, 0, 2)
    head = struct.pack("<4sHHQQIIIB3x", b"INDX", 0x28, 9, 0, vcn, 0x28, 0x28 + len(entries), 4096 - 0x18, 0)
    block = bytearray((head.ljust(0x40, b"\0") + entries).ljust(4096, b"\0"))
    block[0x28:0x2A] = b"\1\0"
    for i in range(1, 9):
        block[0x28 + 2 * i:0x2A + 2 * i] = block[512 * i - 2:512 * i]
        block[512 * i - 2:512 * i] = b"\1\0"
    return bytes(block)


def lost(system, path, count):
    """A volume of `count` files without what says that there is one."""
    MAKERS[system](path, count)
    size = path.stat().st_size
    with open(path, "r+b") as image:
        boot = image.read(512)
        if system == "fat":
            reserved, copies, fat = struct.unpack_from("<H", boot, 14)[0], boot[16], struct.unpack_from(
                "<I", boot, 36)[0]
            gone = (reserved + copies * fat) * 512
        elif system == "exfat":
            gone = struct.unpack_from("<I", boot, 88)[0] * 512 + 65536  # up to the heap, and its first clusters
        elif system == "ntfs":
            gone = 16 * 4096 + 64 * 1024  # the boot sector and the file system's own records
            for i in range(count // 16):
                first = 65 + i * 16
                image.seek(size - 4096 * (count // 16 - i) - 512 - (size - 512) % 4096)
                image.write(index_block(i, 64, [(first + n, f"Older {first + n:07}.csv") for n in range(16)]))
        else:
            gone = 4096
            image.seek(size - 4096)
            image.write(bytes(4096))
        image.seek(0)
        image.write(bytes(gone))


def large_files(path, count):
    """FAT32 of 2 TB (clusters of 32 KiB); its root lists that many deleted files of 4 GiB less a byte."""
    clusters = 2 * 10**12 // 32768
    fat_sectors = (clusters + 2) * 4 // 512 + 1
    total = 32 + 2 * fat_sectors + clusters * 64
    boot = bytearray(512)
    struct.pack_into("<3s8sHBHBHHBHHHII", boot, 0, b"\xeb\x58\x90", b"bench   ", 512, 64, 32, 2, 0, 0, 0xF8, 0,
                     63, 255, 0, total)
    struct.pack_into("<IHHIHH", boot, 36, fat_sectors, 0, 0, 2, 1, 6)
    boot[510:512] = b"\x55\xaa"
    root_clusters = count * 32 // 32768 + 1
    table = bytearray(struct.pack("<II", 0x0FFFFFF8, 0x0FFFFFFF))
    for cluster in range(2, 2 + root_clusters):
        table += struct.pack("<I", 0x0FFFFFFF if cluster == 1 + root_clusters else cluster + 1)
    with open(path, "wb") as image:
        image.truncate(total * 512)
        image.write(boot)
        for copy in range(2):
            image.seek((32 + copy * fat_sectors) * 512)
            image.write(table)
        image.seek((32 + 2 * fat_sectors) * 512)
        for n in range(count):
            first = 1000 + n * 5000 % (clusters - 200_000)
            image.write(struct.pack("<11sBBBHHHHHHHI", b"\xe5" + f"{n:07}AVI".encode(), 0x20, 0, 0, 0, 0x5C21,
                                    0x5C21, first >> 16, 0, 0x5C21, first & 0xFFFF, 0xFFFFFFFF))


def measure(what, make, sizes, depth, runs, work):
    image, shelf = work / "lost.img", work / "lost.shelf"
    last = None
    for count in sizes:
        make(image, count)
        os.sync()  # or what is written back meanwhile counts as well
        least = math.inf
        for _ in range(runs):
            for left in work.glob("lost.shelf*"):
                left.unlink()
            begin = time.perf_counter()
            subprocess.run([PROGRAM, "scan", image, "--shelf", shelf, "--depth", depth, "--check", "none",
                            "--quiet"], stdout=subprocess.DEVNULL)
            least = min(least, time.perf_counter() - begin)
        listed = subprocess.run([PROGRAM, "list", shelf, "--count"], capture_output=True, text=True).stdout
        slope = "" if last is None else f"  slope {math.log(least / last[1]) / math.log(count / last[0]):.2f}"
        print(f"{what:22} {count:8}  {least:7.2f} s{slope}  ({' '.join(listed.split()[:4])})", flush=True)
        last = count, least
        image.unlink()


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--files", type=int, default=500_000, help="of the largest volume")
    parser.add_argument("--runs", type=int, default=2)
    parser.add_argument("--system", choices=MAKERS)
    options = parser.parse_args()
    sizes = [options.files // 4, options.files // 2, options.files]
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        for system in [options.system] if options.system else MAKERS:
            measure(f"lost {system}", lambda path, count: lost(system, path, count), sizes, "deep", options.runs,
                    work)
        if not options.system:
            measure("4 GiB each on FAT32", large_files, [size // 50 for size in sizes], "quick", options.runs, work)


if __name__ == "__main__":
    main()
