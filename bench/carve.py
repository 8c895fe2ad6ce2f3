#!/usr/bin/env python3
"""Whole-program comparison: a deep scan of a source full of documents and pictures, with carving and without, as
ratios to each other and to `cat SOURCE`.

Two sources of one size: a FAT32 volume with camera pictures, plans, reports and albums as living files, and one
without metadata that holds the same files at multiples of 4096 bytes. On the first, carving has only to see that all is
held; on the second every file is walked, decoded and hashed, though copies are one entry in the end. Least of
several runs each, from the page cache. Needs what `scripts/install-packages.sh --recipes` installs.
"""
import argparse
import io
import pathlib
import random
import resource
import subprocess
import tempfile
import zipfile

from PIL import Image

from deep_scan import PROGRAM, timed

CLUSTER = 4096


def picture(width, height, form, **how):
    plain = Image.radial_gradient("L").resize((width, height)).convert("RGB")
    grain = Image.effect_noise((width // 2, height // 2), random.randrange(30, 60)).resize((width, height))
    out = io.BytesIO()
    Image.blend(plain, grain.convert("RGB"), 0.25).save(out, form, **how)
    return out.getvalue()


def album():
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as members:
        for number in range(3):
            members.writestr(f"{number}.jpg", picture(1600, 1200, "JPEG", quality=88))
        members.writestr("words.txt", " ".join(random.choices(["pump", "level", "pier"], k=60000)))
    return out.getvalue()


def make_files():
    """Name to content: as large as cameras and offices make them."""
    random.seed(5)
    files = {f"IMG_{n:04}.JPG": picture(4000, 3000, "JPEG", quality=random.randrange(86, 94)) for n in range(16)}
    for n in range(8):
        files[f"PLAN{n}.PNG"] = picture(1600, 1200, "PNG")
        files[f"REPORT{n}.PDF"] = picture(2000, 1500, "PDF", quality=88)
        files[f"ALBUM{n}.ZIP"] = album()
    return files


def fill_volume(path, size, files, folder):
    for name, content in files.items():
        (folder / name).write_bytes(content)
    with open(path, "wb") as out:
        out.truncate(size)
    subprocess.run(["mkfs.vfat", "-F", "32", path], check=True, stdout=subprocess.DEVNULL)
    for number in range(size * 9 // 10 // sum(map(len, files.values()))):
        subprocess.run(["mmd", "-i", path, f"::SET{number}"], check=True)
        subprocess.run(["mcopy", "-i", path, *(folder / name for name in files), f"::SET{number}/"], check=True)


def fill_without_metadata(path, size, files):
    with open(path, "wb") as out:
        while out.tell() < size:
            for content in files.values():
                out.write(content + bytes(-len(content) % CLUSTER))


def compare(what, source, shelf, runs):
    scan = f"rm -f {shelf}*; {PROGRAM} scan {source} --shelf {shelf} --depth deep --quiet"
    times = [(timed(f"cat {source}"), timed(f"{scan} --no-carve"), timed(scan)) for _ in range(runs + 1)]
    cat, without, carving = (min(column) for column in zip(*times[1:]))
    count = subprocess.run([PROGRAM, "list", shelf, "--count", "--kind", "file"], capture_output=True, text=True,
                           check=True)
    print(f"{what}: cat {cat:.2f} s, deep scan {without:.2f} s, with carving {carving:.2f} s; "
          f"{count.stdout.split()[1]} files")
    print(f"    ratio to the scan without {carving / without:.2f}, to cat {carving / cat:.2f}")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=1024)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(dir="/dev/shm") as folder:
        work = pathlib.Path(folder)
        source, shelf = work / "source.img", work / "shelf"
        files = make_files()
        fill_volume(source, options.mib << 20, files, work)
        compare("living files", source, shelf, options.runs)
        fill_without_metadata(source, options.mib << 20, files)
        compare("no metadata ", source, shelf, options.runs)
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"peak memory of the largest process {peak:.0f} MiB")


if __name__ == "__main__":
    main()
