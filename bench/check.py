#!/usr/bin/env python3
"""What looking at whole files costs: lost documents, pictures and clips, against hashing the same bytes.

Makes a FAT32 image of about --mib of real files by real encoders, deletes them all, and compares, from the page cache
and in turn, what `scan --check full` takes longer than `scan --check sample` with `openssl dgst -sha256` of the same
bytes on as many cores. Prints the least ratio of several runs, and the peak memory of the largest process. Needs
what `scripts/install-packages.sh --recipes` installs: run it with /usr/bin/python3.
"""
import argparse
import io
import os
import pathlib
import subprocess
import sys
import tempfile
import time

from PIL import Image

PROGRAM = pathlib.Path(os.environ.get("UNDERSHELF", pathlib.Path(__file__).resolve().parent.parent /
                                      "build/release/src/undershelf")).resolve()


def picture(number):
    """A photograph's worth of JPEG: smooth ground under grain."""
    width, height = 4000, 3000
    ground = Image.effect_noise((250, 188), 80).resize((width, height), Image.BICUBIC)
    grain = Image.effect_noise((width, height), 12)
    out = io.BytesIO()
    Image.merge("RGB", (Image.blend(ground, grain, 0.3), ground, ground)).save(out, "JPEG", quality=86,
                                                                              comment=f"{number}")
    return out.getvalue()


def clip(folder, number):
    path = folder / f"clip{number}.mp4"
    subprocess.run(["ffmpeg", "-y", "-f", "lavfi", "-i", f"mandelbrot=size=1280x720:rate=30:start_scale={number + 1}",
                    "-t", "12", "-c:v", "libx264", "-preset", "ultrafast", "-b:v", "30M", path], check=True,
                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return path.read_bytes()


def document(folder, number):
    path = folder / f"report{number}.zip"
    (folder / "levels.bin").write_bytes(os.urandom(2 << 20) + b"levels of the tide " * 300_000)
    subprocess.run(["zip", "-q", "-j", path, folder / "levels.bin"], check=True)
    return path.read_bytes()


def fill(image, mib):
    """Returns how many bytes of files were written and deleted."""
    with tempfile.TemporaryDirectory() as work:
        folder = pathlib.Path(work)
        makers = [(".jpg", [picture(n) for n in range(4)]), (".mp4", [clip(folder, n) for n in range(2)]),
                  (".zip", [document(folder, n) for n in range(2)])]
        with open(image, "wb") as f:
            f.truncate((mib + 200) << 20)
        subprocess.run(["mkfs.fat", "-F", "32", "-s", "8", image], check=True, stdout=subprocess.DEVNULL)
        total, names = 0, []
        while total < mib << 20:
            end, contents = makers[len(names) % 3 if len(names) % 9 < 3 else 0]
            name = f"FILE{len(names):04}{end}"
            content = contents[len(names) % len(contents)]
            subprocess.run(["mcopy", "-i", image, "-", f"::{name}"], input=content, check=True)
            total += len(content)
            names.append(name)
        for name in names:
            subprocess.run(["mdel", "-i", image, f"::{name}"], check=True)
    return total


# From a small process: what one takes counts for what it starts.
MEASURED = """
import os, sys, time
begin = time.perf_counter()
process = os.posix_spawn(sys.argv[1], sys.argv[1:], os.environ)
_, status, usage = os.wait4(process, 0)
print(time.perf_counter() - begin, usage.ru_maxrss >> 10)
"""


def timed(*command):
    """Seconds, and the MiB of the largest of the processes it had."""
    said = subprocess.run([sys.executable, "-c", MEASURED, *map(str, command)], check=True, capture_output=True,
                          text=True).stdout
    seconds, mebibytes = said.split()
    return float(seconds), int(mebibytes)


def hashing(image, total):
    """All bytes, on all cores."""
    cores = os.cpu_count()
    share = total // cores
    begin = time.perf_counter()
    running = [subprocess.Popen(["sh", "-c", f"tail -c +{n * share + 1} '{image}' | head -c {share} | "
                                             "openssl dgst -sha256"], stdout=subprocess.DEVNULL) for n in range(cores)]
    for process in running:
        process.wait()
    return time.perf_counter() - begin


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--mib", type=int, default=2048)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--folder", default="/dev/shm")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=options.folder) as work:
        image, shelf = pathlib.Path(work) / "card.img", pathlib.Path(work) / "shelf"
        total = fill(image, options.mib)
        best = None
        for _ in range(options.runs):
            times, peak = [], 0
            for level in ("sample", "full"):
                for left in pathlib.Path(work).glob("shelf*"):
                    left.unlink()
                seconds, taken = timed(PROGRAM, "scan", image, "--shelf", shelf, "--check", level, "--quiet")
                times.append(seconds)
                peak = max(peak, taken)
            hashed = hashing(image, total)
            ratio = (times[1] - times[0]) / hashed
            print(f"{total >> 20} MiB: check {times[1] - times[0]:.2f} s, hashing {hashed:.2f} s: {ratio:.2f} times")
            best = min(best or ratio, ratio)
    print(f"least: {best:.2f} times; the largest process took {peak} MiB")


if __name__ == "__main__":
    main()
