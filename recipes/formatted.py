"""Volumes that were formatted: the party's life on each file system, then a format over it, with the
same or with another layout or system, then a few new files.

Without arguments rebuilds every sample here, otherwise those named. Needs root for the volumes that
FUSE drivers write.
"""
import pathlib
import shutil
import struct
import subprocess
import sys
import tempfile
import unicodedata

import hfsplus_format
from card import Card
from exfat_camera import FuseCamera, heap_start
from hfsplus_charts import WHEN, Charts, play
from mounted import MountedCard
from ntfs_office import Office
from scenario import chart, note, readings, sound

MIB = 1 << 20


def filler(size):
    """What lies at the front of a volume, where a new file system puts its own."""
    return b"".join(b"%08d index of soundings, not to be thrown away\r\n" % n
                    for n in range(size // 53))


def life(card, end=lambda card: card.play(), many=70):
    card.mount()
    card.at("2026-04-20 07:00:00")
    card.folder("Index")
    card.write("Index/All soundings.txt", filler(7 * MIB))
    card.at("2026-04-20 08:00:00")
    for folder in ("Soundings", "Soundings/North line", "Soundings/Südlinie, zweite Fahrt", "Charts",
                   "Charts/Outer bank", "Charts/Outer bank/Details of the bar", "Sound notes", "Many"):
        card.folder(folder)
    for n in range(1, 9):
        card.at(f"2026-04-20 09:{n:02}:00")
        card.write(f"Soundings/North line/Line {n} north.csv", readings(f"N{n}", "2026-04-20", 2500 * n))
        card.write(f"Soundings/Südlinie, zweite Fahrt/Linie {n}.csv",
                   readings(f"S{n}", "2026-04-20", 9000 + 100 * n))
        card.write(f"Charts/Outer bank/Sheet {n} of the outer bank.png", chart(f"Sheet {n}", 150, 60 + n))
        card.write(f"Charts/Outer bank/Details of the bar/Detail {n}.png", chart(f"Detail {n}", 90, 40 + n))
    card.at("2026-04-20 10:00:00")
    for n in range(1, 4):
        card.write(f"Sound notes/Swell {n}.wav", sound(f"Swell {n}", n))
    for n in range(1, many + 1):
        card.write(f"Many/Note number {n:03} of a long series.txt", note(f"Many {n}", "2026-04-20", 300 + n))
    card.write("Charts/潮位表.txt", note("Table", "2026-04-20", 6000))
    card.write("Charts/Grows while others are written.log", note("Grows", "2026-04-20", 20000))
    card.write("Charts/In between.csv", readings("IB", "2026-04-20", 15000))
    card.append("Charts/Grows while others are written.log", note("Grows on", "2026-04-20", 20000))
    card.at("2026-04-20 11:00:00")
    card.delete("Soundings/North line/Line 3 north.csv", "Many/Note number 010 of a long series.txt",
                "Charts/Outer bank/Sheet 5 of the outer bank.png")
    card.delete_tree("Charts/Outer bank/Details of the bar")
    card.unmount()
    end(card)


# Whether a name still stands in the image, as each file system writes it.
def places_of(text, image):
    at = image.find(text)
    while at >= 0:
        yield at
        at = image.find(text, at + 1)


def fat_told(name, image):
    text = name.encode("utf-16-le")
    units = (text if len(text) >= 26 else text + b"\0\0")[:26].ljust(26, b"\xff")
    slot = any(image[at + 10] == 0x0F and image[at + 13:at + 25] == units[10:22]
               and image[at + 27:at + 31] == units[22:] for at in places_of(units[:10], image))
    short = name.upper().encode("ascii", "replace")[:11].ljust(11)
    return slot or any(image[at + 11] in (0x10, 0x20) for at in places_of(short, image))


def exfat_told(name, image):
    units = name.encode("utf-16-le")[:30].ljust(30, b"\0")
    return any(image[at - 2] in (0xC1, 0x41) for at in places_of(units, image))


def ntfs_told(name, image):
    text = name.encode("utf-16-le")
    return any(image[at - 2] == len(text) // 2 for at in places_of(text, image))


def ntfs_placed(name, image):
    """Whether a record has the name: with its fix-ups, which may fall into it."""
    wanted = name.encode("utf-16-le")
    for at in places_of(b"FILE0\0", image):
        record = bytearray(image[at:at + 1024])
        for i in (1, 2):
            record[i * 512 - 2:i * 512] = record[48 + 2 * i:50 + 2 * i]
        if wanted in record and not record[22] & 2:  # not in a folder's own index
            return True
    return False


def hfsplus_placed(name, image):
    """Whether a catalog record has the name as its key, and not only a thread."""
    text = unicodedata.normalize("NFD", name).encode("utf-16-be")
    key = struct.pack(">H", len(text) // 2) + text
    return any(image[at + len(key):at + len(key) + 2] in (b"\0\1", b"\0\2") for at in places_of(key, image))


def hfsplus_told(name, image):
    text = unicodedata.normalize("NFD", name).encode("utf-16-be")
    return struct.pack(">H", len(text) // 2) + text in image


def run(*command):
    subprocess.run([str(c) for c in command], check=True, stdout=subprocess.DEVNULL,
                   stderr=subprocess.DEVNULL)


# Formatters.
def to_fat32(sectors):
    return lambda image: run("mkfs.fat", "-F", "32", "-s", sectors, "-i", "0A11CEF0", "-n", "AGAIN", image)


def to_exfat(cluster):
    return lambda image: run("mkfs.exfat", "-c", cluster, "-L", "AGAIN", image)


def to_ntfs(cluster):
    return lambda image: run("mkntfs", "-q", "-Q", "-F", "-L", "AGAIN", "-c", cluster, "-H", 16, "-S", 63,
                             "-p", 0, image)


def second_life(card):
    """Between two formats: shorter than the first, so that much of that one is left."""
    card.mount()
    card.at("2026-05-25 07:00:00")
    for folder in ("Second survey", "Second survey/Harbour basin", "Second survey/Fairway", "Logbook"):
        card.folder(folder)
    for n in range(1, 41):
        card.at(f"2026-05-25 08:{n:02}:00")
        card.write(f"Second survey/Harbour basin/Basin {n:02}.csv", readings(f"B{n}", "2026-05-25", 1500 + 90 * n))
        card.write(f"Second survey/Fairway/Fairway depths {n:02}.txt", note(f"Fairway {n}", "2026-05-25", 800 + n))
        card.write(f"Logbook/Watch {n:02} of the second survey.txt", note(f"Watch {n}", "2026-05-25", 500 + n))
    card.delete("Second survey/Fairway/Fairway depths 07.txt", "Logbook/Watch 09 of the second survey.txt")
    card.unmount()
    play(card)


def to_hfsplus(days=30, block=4096):
    return lambda image: hfsplus_format.format_volume(image, image.stat().st_size, "AGAIN",
                                                      WHEN + days * 86400, block=block)


NEW = {"New one.txt": note("New one", "2026-05-20", 5000),
       "New two.csv": readings("NEW", "2026-05-20", 9000)}


def on_fat(card):
    """Under the kernel's driver, whatever wrote the volume before."""
    card.system, card.options = "vfat", "utf8"
    Card.mount(card)
    Card.at(card, "2026-05-20 08:00:00")
    for name, content in NEW.items():
        Card.write(card, name, content)
    Card.unmount(card)
    Card.play(card)


def new_files_mounted(card, *command):
    """Under a FUSE driver, whatever wrote the volume before."""
    new = MountedCard.__new__(MountedCard)
    new.__dict__.update(card.__dict__)
    new.command, new.sector_size = command, 512
    new.work = pathlib.Path(tempfile.mkdtemp(prefix="undershelf-recipe-"))
    (new.work / "volume").mkdir()
    (new.work / "payload").mkdir()
    new.at("2026-05-20 08:00:00")
    new.play()
    new.mount()
    for name, content in NEW.items():
        new.write(name, content)
    new.unmount()
    shutil.rmtree(new.work)
    card.writes = new.writes


def on_exfat(card):
    new_files_mounted(card, "mount.exfat-fuse")


def on_ntfs(card):
    new_files_mounted(card, "ntfs-3g")


def on_hfsplus(card):
    card.mount()
    card.at("2026-06-20 08:00:00")
    for name, content in NEW.items():
        card.write(name, content)
    card.unmount()
    play(card)


def fat_start(card):
    return Card.data_start(card, card.image.read_bytes())


# The lives.
def on_card(name, sectors):
    card = Card(name, 64 * MIB, ["mkfs.fat", "-F", "32", "-s", str(sectors), "-i", "0A11CE42", "-n", "SURVEY"],
                512 * sectors)
    life(card)
    return card, fat_start(card), fat_told, fat_told


def on_camera(name, cluster):
    card = FuseCamera(name, 64 * MIB, ["mkfs.exfat", "-c", str(cluster), "-L", "SURVEY"], cluster,
                      ["mount.exfat-fuse"])
    life(card, lambda card: None)
    return card, heap_start(card.image.read_bytes()), exfat_told, exfat_told


def in_office(name, cluster):
    card = Office(name, 64 * MIB, "SURVEY", cluster_size=cluster)
    life(card, lambda card: None, many=400)
    return card, 0, ntfs_told, ntfs_placed


def in_chart_room(name, many=70):
    card = Charts(name, 64 * MIB, "SURVEY")
    life(card, play, many)
    return card, 0, hfsplus_told, hfsplus_placed


def twice_in_chart_room(name):
    card, start, is_told, is_placed = in_chart_room(name, many=300)
    card.format(start, is_told, is_placed, to_hfsplus())
    second_life(card)
    return card, start, is_told, is_placed


def formatted(made, formatter, new_files):
    card, start, is_told, is_placed = made
    card.format(start, is_told, is_placed, formatter)
    new_files(card)
    card.finish()


RECIPES = {
    "formatted-fat32-again": lambda name: formatted(on_card(name, 2), to_fat32(2), on_fat),
    "formatted-fat32-clusters": lambda name: formatted(on_card(name, 1), to_fat32(8), on_fat),
    "formatted-fat32-to-ntfs": lambda name: formatted(on_card(name, 4), to_ntfs(4096), on_ntfs),
    "formatted-exfat-again": lambda name: formatted(on_camera(name, 4096), to_exfat(4096), on_exfat),
    "formatted-exfat-clusters": lambda name: formatted(on_camera(name, 8192), to_exfat(32768), on_exfat),
    "formatted-exfat-to-fat32": lambda name: formatted(on_camera(name, 4096), to_fat32(8),
                                                       on_fat),
    "formatted-ntfs-again": lambda name: formatted(in_office(name, 4096), to_ntfs(4096), on_ntfs),
    "formatted-ntfs-clusters": lambda name: formatted(in_office(name, 1024), to_ntfs(65536), on_ntfs),
    "formatted-ntfs-to-exfat": lambda name: formatted(in_office(name, 4096), to_exfat(16384), on_exfat),
    "formatted-ntfs-to-fat32": lambda name: formatted(in_office(name, 65536), to_fat32(1), on_fat),
    "formatted-hfsplus-again": lambda name: formatted(in_chart_room(name), to_hfsplus(), on_hfsplus),
    "formatted-hfsplus-clusters": lambda name: formatted(in_chart_room(name), to_hfsplus(block=16384),
                                                         on_hfsplus),
    "formatted-hfsplus-twice": lambda name: formatted(twice_in_chart_room(name), to_hfsplus(65),
                                                      on_hfsplus),
    "formatted-hfsplus-to-ntfs": lambda name: formatted(in_chart_room(name), to_ntfs(4096), on_ntfs),
}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted](wanted)
