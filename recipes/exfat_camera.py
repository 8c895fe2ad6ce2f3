"""The aerial camera cards: exFAT volumes of pictures and clips.

The same life under two drivers, which leave different traces: the kernel's own, in a virtual machine,
and exfat-fuse over a loop device (as root). Without arguments rebuilds every sample here.
"""
import sys

from card import Card
from mounted import MountedCard
from scenario import chart, note, readings, sound

MIB = 1 << 20


def heap_start(image):
    """First byte of the cluster heap, from the boot sector."""
    return int.from_bytes(image[88:92], "little") << image[108]


class KernelCamera(Card):
    def data_start(self, image):
        return heap_start(image)


class FuseCamera(MountedCard):
    def data_start(self, image):
        return heap_start(image)


def camera_life(card):
    card.mount()
    card.at("2026-04-02 06:00:00")
    card.write("SCRATCH.TXT", note("Scratch", "2026-04-02", 24000))
    card.at("2026-04-02 07:00:00")
    for folder in ("DCIM", "DCIM/100COAST", "DCIM/101COAST", "CLIPS", "LOG", "Flight plans",
                   "Flight plans/Südküste, zweiter Überflug", "MISC"):
        card.folder(folder)
    for n in range(1, 41):
        card.at(f"2026-04-02 08:{n:02}:00")
        card.write(f"DCIM/100COAST/COAST{n:04}.PNG", chart(f"Coast {n}", 150 + n, 60 + n))
    card.at("2026-04-02 09:30:00")
    for n in range(1, 5):
        card.write(f"DCIM/101COAST/A rather long name for picture {n} of the breakwater, seen from the "
                   f"seaward side at low water springs.png", chart(f"Long {n}", 140, 80 + n))
        card.write(f"Flight plans/Südküste, zweiter Überflug/Leg {n}.txt",
                   note(f"Leg {n}", "2026-04-02", 1500 * n))
    card.write("Flight plans/飛行計画.txt", note("Plan", "2026-04-02", 7000))
    card.write("Flight plans/Storm \U0001F30A line.txt", note("Storm", "2026-04-02", 3000))
    card.write("EMPTY.TXT", b"")
    # Clips that grow while logs are written: fragments.
    for minute in range(6):
        card.at(f"2026-04-02 10:{minute:02}:00")
        part = sound(f"Clip {minute}", 5)
        for clip in ("CLIPS/CLIP0001.WAV", "CLIPS/CLIP0002.WAV"):
            (card.write if minute == 0 else card.append)(clip, part)
        card.write(f"LOG/FLIGHT{minute}.CSV", readings(f"F{minute}", "2026-04-02", 5000))
    card.at("2026-04-02 11:00:00")
    card.move("DCIM/100COAST/COAST0007.PNG", "DCIM/101COAST/Best picture.png")
    card.move("LOG/FLIGHT5.CSV", "LOG/Last flight of the day.csv")
    card.unmount()
    card.play()
    card.mount()
    card.at("2026-04-03 09:00:00")
    card.delete("SCRATCH.TXT", "CLIPS/CLIP0001.WAV", "DCIM/100COAST/COAST0003.PNG", "DCIM/100COAST/COAST0012.PNG",
                "DCIM/100COAST/COAST0040.PNG", "EMPTY.TXT", "LOG/FLIGHT2.CSV",
                "Flight plans/飛行計画.txt", "Flight plans/Storm \U0001F30A line.txt")
    card.delete_tree("Flight plans/Südküste, zweiter Überflug")
    card.delete_tree("DCIM/101COAST")
    card.unmount()
    card.play()
    card.mount()
    card.at("2026-04-04 09:00:00")
    card.write("MISC/AFTER.TXT", note("After", "2026-04-04", 9000))
    card.unmount()
    card.play()
    card.finish()


def kernel():
    camera_life(KernelCamera("exfat-camera", 48 * MIB,
                             ["mkfs.exfat", "-c", "4K", "-L", "COAST"], 4096,
                             system="exfat", options="iocharset=utf8"))


def fuse():
    camera_life(FuseCamera("exfat-camera-fuse", 48 * MIB,
                           ["mkfs.exfat", "-c", "8K", "-L", "COAST2"], 8192,
                           ["mount.exfat-fuse"]))


def shortened():
    """exfat-fuse gives a folder's last clusters back once the last files in it are deleted: their
    entries lie in clusters that belong to nobody."""
    card = FuseCamera("exfat-shortened", 16 * MIB, ["mkfs.exfat", "-c", "4K", "-L", "TOWER"], 4096,
                      ["mount.exfat-fuse"])
    card.mount()
    card.folder("TOWER")
    card.folder("MAST")
    for n in range(1, 151):
        card.at(f"2026-04-05 {8 + n // 60:02}:{n % 60:02}:00")
        folder = "TOWER" if n <= 90 or n % 7 == 0 else "MAST"
        card.write(f"{folder}/Reading {n} of the day{', taken twice' * (n % 4)}.csv",
                   readings(f"T{n}", "2026-04-05", 500 + 20 * n))
    card.unmount()
    card.mount()
    card.at("2026-04-06 09:00:00")
    card.delete(*[path for path in card.files
                  if int(path.split()[1]) > 30 and int(path.split()[1]) != 94])
    card.unmount()
    card.finish()


RECIPES = {"exfat-camera": kernel, "exfat-camera-fuse": fuse, "exfat-shortened": shortened}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted]()
