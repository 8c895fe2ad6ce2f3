"""Scans that are killed (SIGKILL) at moments spread over their last second, or over all of a shorter one.

    python3 recipes/killed_scans.py [--kills 300]

After each kill every shelf must be readable, or say in one sentence that the same call mends it; the
same call must go on; and what it ends with must be what a scan that nobody killed finds, ids included.
Needs the built program (UNDERSHELF, or build/release) and zstd.
"""
import argparse
import json
import os
import pathlib
import random
import subprocess
import sys
import tempfile
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = os.environ.get("UNDERSHELF", str(ROOT / "build/release/src/undershelf"))
CASES = (("ntfs-office", "quick"), ("fat32-logger", "quick"), ("fat16-fragments", "deep"), ("exfat-camera", "deep"))


def run(*arguments):
    return subprocess.run([PROGRAM, *map(str, arguments)], capture_output=True, text=True)


def rows_of(shelf):
    return [json.loads(line) for line in run("list", shelf, "--format", "jsonl", "--system").stdout.splitlines()]


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=300)
    options = parser.parse_args()
    draw = random.Random(options.kills)
    failed = 0
    for sample, depth in CASES:
        with tempfile.TemporaryDirectory() as name:
            folder = pathlib.Path(name)
            image = folder / "image"
            subprocess.run(["zstd", "-dq", ROOT / f"samples/{sample}.img.zst", "-o", image], check=True)

            def call(shelf):
                return [PROGRAM, "scan", str(image), "--shelf", str(shelf), "--depth", depth, "--quiet"]
            begun = time.monotonic()
            subprocess.run(call(folder / "whole"), capture_output=True)
            took = time.monotonic() - begun
            expected = rows_of(folder / "whole")
            kills = readable = told = wrong = 0
            while kills < options.kills // len(CASES):
                shelf = folder / "shelf"
                for left in folder.glob("shelf*"):
                    left.unlink()
                scan = subprocess.Popen(call(shelf), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
                try:
                    scan.wait(max(0.0, took - min(1.0, took) * draw.random() * 1.1))
                    continue
                except subprocess.TimeoutExpired:
                    scan.kill()
                    scan.wait()
                kills += 1
                if not shelf.exists() or shelf.stat().st_size == 0:
                    readable += 1  # there is none yet
                else:
                    listed = run("list", shelf)
                    readable += listed.returncode == 0
                    told += listed.returncode == 3 and "the same call" in listed.stderr.lower()
                again = subprocess.run(call(shelf), capture_output=True, text=True)
                one_file = [path.name for path in folder.glob("shelf*")] == ["shelf"]
                # One that had ended when it was killed is refused, as it should be.
                good = again.returncode in (0, 1, 4) and rows_of(shelf) == expected and one_file
                if not good:
                    wrong += 1
                    print("   wrong:", again.returncode, again.stderr.strip()[:200], one_file)
            print(f"{sample} {depth}: {took:.2f} s, {kills} kills, {readable} shelves readable at once, "
                  f"{told} say what mends them, {wrong} end otherwise", flush=True)
            failed += wrong + (kills - readable - told)
    sys.exit(failed > 0)


if __name__ == "__main__":
    main()
