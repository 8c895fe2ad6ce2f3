"""The chart room's older machine: HFS+ volumes of maps and documents.

Formatted by hfsplus_format.py, written by the kernel's driver in a virtual machine; one is made by
xorriso. What of the lost is still told is read off the finished image: a file is in the truth if its
name still stands in some record.
"""
import hashlib
import json
import os
import pathlib
import struct
import subprocess
import sys
import tempfile
import unicodedata
import zlib

import guest
import hfsplus_format
from card import SAMPLES, Card, iso as iso_time
from hfsplus_format import Volume, compressed_fork, decmpfs
from scenario import chart, note, readings

MIB = 1 << 20
WHEN = 1775000000
PRIVATE = ".HFS+ Private Directory Data\r"  # where hard-linked folders are kept


class Charts(Card):
    def __init__(self, name, size, label, extended=False, folder=None, **formatting):
        super().__init__(name, size, ["true"], 4096, system="hfsplus",
                         options="nls=utf8,umask=0", folder=folder)
        hfsplus_format.format_volume(self.image, size, label, WHEN, extended, **formatting)
        self.cnids = {"": 2}
        self.linked = {}  # link -> path it leads to
        self.nameless = []  # contents of files that no record names any more

    def folder(self, path):
        super().folder(path)
        self._note(path)

    def write(self, path, content, append=False):
        super().write(path, content, append)
        if not append:
            self._note(path)

    def link(self, old, new):
        self.script.append(f"ln {self._place(old)} {self._place(new)}")
        self.linked[new] = old

    def symlink(self, target, path):
        self.script.append(f"ln -s '{target}' {self._place(path)}")
        item = f"{path} as linked".replace(" ", "_")
        self.files[path], self.written[path] = target.encode(), item
        self.script.append(f"stat -c 'MODIFIED {item} %Y' {self._place(path)}")
        self.known[path] = {"link_target": target}

    def _note(self, path):
        self.script.append(f"stat -c 'CNID %i' {self._place(path)}")
        self.cnids[path] = None
        self.asked = getattr(self, "asked", []) + [path]

    def read_log(self, log):
        numbers = [int(line.split()[1]) for line in log.splitlines() if line.startswith("CNID ")]
        for path, number in zip(self.asked, numbers):
            self.cnids[path] = number
        self.asked = []

    def data_start(self, image):
        return 0

    def truth(self):
        yield from super().truth()
        for content in self.nameless:
            yield {"path": "", "kind": "content", "state": "deleted", "former_names": [],
                   "sha256": hashlib.sha256(content).hexdigest()}

    def keep_what_is_told(self):
        """Leaves out of the truth what no record in the image names any more."""
        image = self.image.read_bytes()

        def placed_name(path):
            folder, _, name = path.rpartition("/")
            text = unicodedata.normalize("NFD", name).encode("utf-16-be")
            return struct.pack(">IH", self.cnids[folder], len(text) // 2) + text

        def is_told(path, kind):
            placed = placed_name(path)
            wanted = struct.pack(">H", len(placed)) + placed
            at = image.find(wanted)
            while at >= 0:  # a key with the record behind it
                kind_at, cnid_at = at + len(wanted), at + len(wanted) + 8
                if (struct.unpack_from(">H", image, kind_at)[0] == (1 if kind == "folder" else 2)
                        and struct.unpack_from(">I", image, cnid_at)[0] == self.cnids[path]):
                    return True
                at = image.find(wanted, at + 1)
            # A thread tells neither size nor times.
            self.known[path] = {"size": 0, "size_known": False, "modified": None,
                                "surviving_bytes": 0}
            thread = struct.pack(">HIHHH", 6, self.cnids[path], 0, 3 if kind == "folder" else 4, 0)
            return thread + placed in image

        for path, names in self.former.items():
            self.former[path] = [n for n in names if placed_name(n) in image]
        lost, self.lost = self.lost, []
        for row in lost:
            if is_told(row[0], row[1]):
                self.lost.append(row)
            elif row[1] == "file":
                self.nameless.append(row[2])
        print(f"{len(self.lost)} of {len(lost)} lost ones are still named")


def life(card, with_links=True):
    card.mount()
    card.at("2026-05-04 07:00:00")
    for folder in ("Maps", "Maps/Inner harbour", "Maps/Kystkart før 1950", "Documents",
                   "Documents/Letters", "Drafts", "Drafts/Second round"):
        card.folder(folder)
    for n in range(1, 25):
        card.at(f"2026-05-04 08:{n:02}:00")
        card.write(f"Maps/Inner harbour/Sheet {n:02} of the inner harbour.png",
                   chart(f"Sheet {n}", 130 + n, 60 + n))
    for n in range(1, 9):
        card.at(f"2026-05-04 09:{n:02}:00")
        card.write(f"Maps/Kystkart før 1950/Kart {n} – Ærøsund.png", chart(f"Kart {n}", 120, 70 + n))
        card.write(f"Documents/Letters/Letter {n}.txt", note(f"Letter {n}", "2026-05-04", 700 * n))
        card.write(f"Drafts/Draft {n}.txt", note(f"Draft {n}", "2026-05-04", 900 * n))
        card.write(f"Drafts/Second round/Draft {n} again.txt", note(f"Again {n}", "2026-05-04",
                                                                   1100 * n))
    card.write("Documents/潮位表.csv", readings("CW", "2026-05-04", 6000))
    card.write("Documents/Notes 3/4.txt".replace("3/4", "3:4"), note("Notes", "2026-05-04", 2500))
    card.write("Empty.txt", b"")
    card.write("Maps/Old survey", note("Old survey", "2026-05-04", 1000))
    card.write("Documents/Packed manual.txt", b"")
    card.write("Documents/Packed small.txt", b"")
    # Many fragments: a log that grows between others.
    for n in range(14):
        card.at(f"2026-05-04 10:{n:02}:00")
        for name in ("Documents/Long log.txt", "Documents/Other log.txt"):
            (card.write if n == 0 else card.append)(name, note(f"{name} {n}", "2026-05-04", 5000))
    card.at("2026-05-04 10:30:00")
    card.symlink("../Maps/Old survey", "Documents/Latest map")
    if with_links:
        # What a folder with two names is made of; the link itself is marked as one afterwards.
        for folder in (PRIVATE, f"{PRIVATE}/dir_99"):
            card.folder(folder)
        card.write(f"{PRIVATE}/dir_99/Plate 1.png", chart("Plate 1", 100, 60))
        card.write("Maps/Plates", b"")
        card.link("Documents/Letters/Letter 2.txt", "Documents/Second name of letter 2.txt")
    card.unmount()


def losses(card):
    card.mount()
    card.at("2026-05-05 09:00:00")
    card.move("Drafts/Draft 3.txt", "Documents/Draft three, final.txt")
    for n in (24, 23, 12, 7):
        card.delete(f"Maps/Inner harbour/Sheet {n:02} of the inner harbour.png")
    for n in (8, 7, 2):
        card.delete(f"Maps/Kystkart før 1950/Kart {n} – Ærøsund.png")
    card.delete("Documents/Other log.txt", "Documents/潮位表.csv", "Empty.txt")
    card.delete_tree("Drafts")
    card.unmount()


def play(card):
    log = guest.run(card.image, "\n".join(card.script) + "\n", card.payload, card.system)
    for line in log.splitlines():
        if line.startswith("MODIFIED "):
            _, item, seconds = line.split()
            card.modified[item] = int(seconds)
    card.read_log(log)
    card.script, card.payload = [], {}


def charts():
    card = Charts("hfsplus-charts", 32 * MIB, "CHARTS")
    life(card)
    losses(card)
    play(card)
    volume = Volume(bytearray(card.image.read_bytes()))
    fork = b"map colours and notes ".join(b"%04d" % n for n in range(400))
    volume.set_resource_fork(card.cnids["Maps/Old survey"], fork, b"TEXTchrt")
    manual = note("Manual", "2026-05-04", 150000)
    small = note("Small manual", "2026-05-04", 3000)
    volume.set_resource_fork(card.cnids["Documents/Packed manual.txt"], compressed_fork(manual))
    volume.set_attributes([
        (card.cnids["Documents/Packed manual.txt"], "com.apple.decmpfs", decmpfs(4, b"", len(manual))),
        (card.cnids["Documents/Packed small.txt"], "com.apple.decmpfs",
         decmpfs(3, zlib.compress(small), len(small))),
        (card.cnids["Maps/Old survey"], "com.example.scale", b"1:5000")])
    link = volume.file_record(card.cnids["Maps/Plates"])
    volume.image[link + 44:link + 56] = struct.pack(">I", 99) + b"fdrpMACS"
    card.image.write_bytes(volume.image)
    del card.files["Maps/Plates"], card.folders[PRIVATE]
    card.folders["Maps/Plates"] = card.folders.pop(f"{PRIVATE}/dir_99")
    for kept in (card.files, card.written):
        kept["Maps/Plates/Plate 1.png"] = kept.pop(f"{PRIVATE}/dir_99/Plate 1.png")
    for path, content in (("Documents/Packed manual.txt", manual), ("Documents/Packed small.txt",
                                                                   small)):
        card.files[path] = content
        card.known[path] = {"surviving_bytes": len(content), "runs": 1}
    for kept in (card.files, card.written):
        kept["Documents/Second name of letter 2.txt"] = kept.pop("Documents/Letters/Letter 2.txt")
    card.known["Maps/Old survey"] = {"streams": {
        "resource-fork": hashlib.sha256(fork).hexdigest(),
        "com.example.scale": hashlib.sha256(b"1:5000").hexdigest()}}
    card.keep_what_is_told()
    card.finish()


def journalled(name, label, order, extended):
    card = Charts(name, 32 * MIB, label, extended)
    life(card, with_links=False)
    play(card)
    before = [(at, data) for at, data in Volume(bytearray(card.image.read_bytes())).nodes()
              if data[8] == 0xFF]
    losses(card)
    play(card)
    volume = Volume(bytearray(card.image.read_bytes()))
    volume.set_journal(before, order)
    card.image.write_bytes(volume.image)
    card.keep_what_is_told()
    card.finish()


def pieces():
    """A catalog that grew between the files: in more pieces than its record has room for."""
    card = Charts("hfsplus-pieces", 32 * MIB, "PIECES", catalog=4)
    life(card, with_links=False)
    card.mount()
    card.folder("Archive")
    for n in range(1, 121):
        card.at(f"2026-05-04 {11 + n // 60}:{n % 60:02}:00")
        card.write(f"Archive/Note {n:03} of the harbour master, as copied.txt",
                   note(f"Archived {n}", "2026-05-04", 300 + 10 * n))
    card.unmount()
    losses(card)
    play(card)
    card.keep_what_is_told()
    card.finish()


def iso():
    """Made by xorriso, independently of the rest: an Apple partition map, a volume that is only
    read."""
    image = SAMPLES / "hfsplus-iso.img"
    image.unlink(missing_ok=True)
    rows = []
    with tempfile.TemporaryDirectory() as work:
        for n in range(1, 6):
            for path, content in ((f"Plates/Plate {n} – Sundet.png", chart(f"Plate {n}", 90, 50 + n)),
                                  (f"Texts/Text {n}.txt", note(f"Text {n}", "2026-01-01", 900 * n))):
                place = pathlib.Path(work) / path
                place.parent.mkdir(exist_ok=True)
                place.write_bytes(content)
                os.utime(place, (WHEN + n, WHEN + n))
                rows.append({"path": path, "kind": "file", "state": "live", "former_names": [],
                             "size": len(content), "sha256": hashlib.sha256(content).hexdigest(),
                             "modified": iso_time(WHEN + n), "surviving_bytes": len(content), "runs": 1})
        rows += [{"path": p, "kind": "folder", "state": "live", "former_names": []}
                 for p in ("Plates", "Texts")]
        subprocess.run(["xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-V", "PLATES", "-o", image,
                        work], check=True)
    with open(SAMPLES / "hfsplus-iso.truth.jsonl", "w", encoding="utf-8") as out:
        for row in rows:
            out.write(json.dumps(row, ensure_ascii=False) + "\n")
    subprocess.run(["zstd", "-q", "-f", "-19", "--rm", image, "-o", f"{image}.zst"], check=True)


RECIPES = {"hfsplus-charts": charts,
           "hfsplus-journal": lambda: journalled("hfsplus-journal", "CHARTS2", "<", False),
           "hfsx-journal": lambda: journalled("hfsx-journal", "CHARTS3", ">", True),
           "hfsplus-pieces": pieces,
           "hfsplus-iso": iso}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted]()
