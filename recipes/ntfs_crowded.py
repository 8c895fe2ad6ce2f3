"""NTFS volumes whose living files are hard to read: a folder so large that the bitmap of its index lies outside
of its record, and compressed files of lengths around every border of their units and chunks.

    python3 recipes/ntfs_crowded.py [--many N]

Writes samples/ntfs-crowded and samples/ntfs-packed with what ntfs-3g itself reads of them. With --many it
makes N compressed files instead, on a volume that is thrown away, and holds an export of the built
program against what ntfs-3g reads, byte for byte. Needs root, and what `scripts/install-packages.sh
--recipes` installs.
"""
import argparse
import hashlib
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
BORDERS = (512, 4096, 65536)  # of sectors, chunks and units; bytes


def run(*command, **more):
    return subprocess.run([str(part) for part in command], check=True, stdout=subprocess.PIPE,
                          stderr=subprocess.PIPE, **more)


class Volume:
    """Mounted by ntfs-3g while it is a context."""

    def __init__(self, image, size, *options):
        self.image = image
        run("truncate", "-s", size, image)
        run("mkntfs", "-F", "-Q", "-q", *options, image)

    def mounted(self, options="compression"):
        return Mounted(self.image, options)


class Mounted:
    def __init__(self, image, options):
        self.image, self.options = image, options

    def __enter__(self):
        self.folder = tempfile.mkdtemp()
        run("ntfs-3g", "-o", self.options, self.image, self.folder)
        return pathlib.Path(self.folder)

    def __exit__(self, *_):
        run("fusermount3", "-u", self.folder)
        time.sleep(1)  # it lets go of the image a little later
        os.rmdir(self.folder)


def listed(folder):
    """What the driver lists and reads: living files, their sizes and hashes."""
    rows = []
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if path.is_file():
            content = path.read_bytes()
            rows.append({"path": name, "kind": "file", "state": "live", "former_names": [], "size": len(content),
                         "sha256": hashlib.sha256(content).hexdigest()})
        else:
            rows.append({"path": name, "kind": "folder", "state": "live", "former_names": []})
    return rows


def ship(name, image, rows):
    run("zstd", "-q", "-f", "-19", image, "-o", ROOT / f"samples/{name}.img.zst")
    with open(ROOT / f"samples/{name}.truth.jsonl", "w", encoding="utf-8") as file:
        file.writelines(json.dumps(row, ensure_ascii=False) + "\n" for row in rows)
    print(name, len(rows), "rows")


def crowded(folder):
    image = folder / "image"
    volume = Volume(image, 40 << 20, "-c", "4096", "-L", "CROWDED")
    with volume.mounted() as root:
        (root / "Soundings").mkdir()
        for number in range(9000):
            (root / f"Soundings/{number:06} {'n' * 200}").touch()
        for number in range(300, 8900):
            (root / f"Soundings/{number:06} {'n' * 200}").unlink()
        (root / "Later").mkdir()
        for number in range(6000):
            (root / f"Later/reading {number:05}.csv").touch()
    with volume.mounted("ro") as root:
        living = {folder.name: len(list(folder.iterdir())) for folder in root.iterdir()}
    # The names say themselves which they are.
    assert living == {"Soundings": 400, "Later": 6000}, living
    run("zstd", "-q", "-f", "-19", image, "-o", ROOT / "samples/ntfs-crowded.img.zst")
    print("ntfs-crowded", living)


def content_of(length, draw):
    """Of what compresses, what does not, or both by turns."""
    mix = draw.randrange(3)
    if mix == 0:
        return (b"2026-03-02 07:00;0.%d m\n" * (length // 22 + 1) % tuple([7] * (length // 22 + 1)))[:length]
    if mix == 1:
        return draw.randbytes(length)
    parts = b""
    while len(parts) < length:
        size = draw.choice((700, 4096, 5000, 70000))
        parts += draw.randbytes(size) if draw.random() < 0.5 else bytes([65 + size % 26]) * size
    return parts[:length]


def lengths(count, draw):
    """Around every multiple of each border, up to some units."""
    found = []
    while len(found) < count:
        border = draw.choice(BORDERS)
        most = 4 * 65536 // border
        found.append(max(1, draw.randrange(1, most + 1) * border + draw.choice((-110, -9, -2, -1, 0, 1, 2, 7, 120))))
    return found


def packed(folder, count, most):
    image = folder / "image"
    volume = Volume(image, "600M" if count > 1000 else "24M", "-C", "-c", "4096", "-L", "PACKED")
    draw = random.Random(count)
    with volume.mounted() as root:
        for number, length in enumerate(lengths(count, draw)):
            (root / f"{number:05}.bin").write_bytes(content_of(min(length, most), draw))
    with volume.mounted("ro") as root:
        return image, listed(root)


def judge(folder, image, rows):
    shelf, bag = folder / "shelf", folder / "bag"
    run(PROGRAM, "scan", image, "--shelf", shelf, "--quiet")
    run(PROGRAM, "export", shelf, "--to", bag, "--state", "live", "--quiet")
    came = {r["path"]: r for r in map(json.loads, open(bag / "exported.jsonl", encoding="utf-8"))}
    wrong = [row["path"] for row in rows if came.get(row["path"], {}).get("sha256") != row["sha256"]
             or came[row["path"]]["missing"]]
    print(f"{len(rows)} living compressed files, {len(wrong)} come out other than the driver reads them", wrong[:5])
    return not wrong


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--many", type=int)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        if options.many:
            image, rows = packed(folder, options.many, 1 << 30)
            sys.exit(not judge(folder, image, rows))
        crowded(folder)
        (folder / "image").unlink()
        image, rows = packed(folder, 60, 8200)
        ship("ntfs-packed", image, rows)


if __name__ == "__main__":
    main()
