"""An HFS+ volume in use for long: thousands of files written and deleted by the kernel's driver.

    python3 recipes/hfsplus_busy.py [--seed 1] [--files 2400] [--once] [--folder samples]

Files of many kinds come and go over several mounts, until most are gone: what is left of their records lies between
those of others, some have a name only. With --once nothing is deleted before all is written, so that no space is used
again. With another folder or seed the name says the seed. Needs what `scripts/install-packages.sh --recipes` installs.
"""
import argparse
import io
import pathlib
import random
import tempfile

from PIL import Image

from bare_card import MAKERS, archive, document, jpeg, png, report, saved
from card import SAMPLES
from hfsplus_charts import Charts, play
from scenario import chart, note, readings

MIB = 1 << 20
MOUNTS = 6
PLACES = ("Pier", "Kelp Point", "Südkai", "Gauge", "Outer light", "Basalt")
KEPT = 0.12  # of all files


def small_picture(chance, _):
    return chart(f"Sheet {chance.randrange(100000)}", chance.randrange(60, 220), chance.randrange(60, 160))


def small_jpeg(chance, _):
    plain = Image.open(io.BytesIO(small_picture(chance, None))).convert("RGB")
    return saved(plain, "JPEG", quality=chance.randrange(60, 95))


def text(chance, _):
    return note(f"Note {chance.randrange(100000)}", "2026-05-04", chance.randrange(200, 9000))


def table(chance, _):
    return readings(f"Gauge {chance.randrange(100000)}", "2026-05-04", chance.randrange(200, 6000))


# Maker and how often of a hundred.
KINDS = {"png": (small_picture, 34), "jpg": (small_jpeg, 30), "txt": (text, 12), "csv": (table, 8), "JPG": (jpeg, 5),
         "zip": (archive, 1), "docx": (document, 4), "pdf": (report, 2), "PNG": (png, 3), "mp4": (MAKERS["mp4"], 1)}


class Busy(Charts):
    after_write = ""


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--files", type=int, default=2400)
    parser.add_argument("--once", action="store_true")
    parser.add_argument("--folder", type=pathlib.Path, default=SAMPLES)
    asked = parser.parse_args()
    own = asked.folder == SAMPLES and asked.seed == 1 and not asked.once
    chance = random.Random(f"busy {asked.seed}")
    size = (24 + asked.files // (20 if asked.once else 50)) * MIB
    card = Busy("hfsplus-busy" if own else f"hfsplus-busy-{asked.seed}", size, "BUSY", folder=asked.folder)
    folders = [""]
    with tempfile.TemporaryDirectory() as scratch:
        for mount in range(MOUNTS):
            card.mount()
            card.at(f"2026-05-{4 + mount:02} 08:00:00")
            for n in range(6):
                parent = chance.choice(folders)
                path = f"{parent}/{chance.choice(PLACES)} {len(folders)}".lstrip("/")
                card.folder(path)
                folders.append(path)
            for n in range(asked.files // MOUNTS):
                ending = chance.choices(list(KINDS), [often for _, often in KINDS.values()])[0]
                path = f"{chance.choice(folders)}/{chance.choice(PLACES)} {mount}-{n:03}.{ending}".lstrip("/")
                card.write(path, KINDS[ending][0](chance, pathlib.Path(scratch)))
                if not asked.once and chance.random() < 0.25:
                    card.delete(chance.choice(list(card.files)))
            if not asked.once:
                gone = chance.sample(sorted(card.files), int(len(card.files) * chance.uniform(0.3, 0.7)))
                card.delete(*gone)
            card.unmount()
            play(card)
    card.mount()
    last = sorted(card.files)
    card.delete(*chance.sample(last, max(0, len(last) - int(asked.files * KEPT))))
    card.unmount()
    play(card)
    print(f"{len(card.lost)} deletions, {len(card.files)} files left")
    card.keep_what_is_told()
    card.finish()


if __name__ == "__main__":
    main()
