"""Random lives of volumes, and how well the built program tells them.

    python3 recipes/lives.py --seeds 1..20 [--system fat,exfat,ntfs,hfsplus] [--keep DIR]

Each seed makes a volume of some system and size, plays a random life on it under a real driver, and ends it
by deletions, a format, wiped headers or a lost partition map. Then the program scans it, and what it lists,
promises and exports is held against the truth. Prints what does not hold, and how often each rating
was right; likewise what is known by its content alone (carved), was placed by content (placed), and names that were
joined with what was found without one (joined). Needs root, and what `scripts/install-packages.sh --recipes` installs.
"""
import argparse
import collections
import json
import os
import pathlib
import random
import re
import shutil
import subprocess
import sys
import tempfile
import unicodedata
import zlib

import formatted
import guest
import hfsplus_charts
from card import Card, data_start
from exfat_camera import FuseCamera, KernelCamera, heap_start
from hfsplus_charts import Charts
from kinds_card import kinds
from mounted import MountedCard, run as mount_run
from ntfs_office import Office
from scenario import chart, note, readings, sound

PROGRAM = pathlib.Path(os.environ.get(
    "UNDERSHELF", pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"))
MIB = 1 << 20
WORDS = ("tide", "Gauge", "NORTH", "pier", "Südkai", "säkerhet", "reading", "RAW", "潮位", "Écluse", "swell", "buoy",
         "survey", "Log", "Лоция", "bench mark", "x", "2026-05", "A.B", "final (2)", "🌊", "draft, old")
ENDS = ("csv", "CSV", "txt", "TXT", "png", "PNG", "wav", "Txt", "html", "")
REAL_ENDS = ("jpg", "JPG", "png", "gif", "tif", "webp", "heic", "mp4", "MOV", "mkv", "webm", "ts", "mp3", "m4a", "aac",
             "ogg", "flac", "pdf", "PDF", "docx", "xlsx", "xls", "odt", "rtf", "zip", "7z", "sqlite", "json", "eml",
             "gz", "elf", "ttf")
TEXT_ENDS = ("csv", "txt", "html", "")
# Of kinds that say themselves where they end.
KNOWN_BY_CONTENT = {end.lower() for end in REAL_ENDS} - {"rtf", "json", "eml"}


def signed(content, words):
    """A picture with a comment of its own, so that no two of a life are the same."""
    if content.startswith(b"\xFF\xD8"):
        return content[:2] + b"\xFF\xFE" + (len(words) + 2).to_bytes(2, "big") + words + content[2:]
    if content.startswith(b"\x89PNG"):
        body = b"tEXtComment\0" + words
        chunk = (len(body) - 4).to_bytes(4, "big") + body + zlib.crc32(body).to_bytes(4, "big")
        return content[:33] + chunk + content[33:]
    return content


class Full(Exception):
    """More was drawn than the volume holds: a life that cannot be played to its end."""


class Life:
    """What a volume goes through, drawn from a seed; `pace` times as much of it on all but the smallest."""

    def __init__(self, seed, systems, folder, pace=1):
        self.random = random.Random(seed)
        self.pace = pace
        pick = self.random.choice
        self.system = pick(systems)
        self.seed, self.day, self.made = seed, 0, 0
        self.kinds = kinds()
        self.told_as = []
        self.card, self.is_told, self.is_placed = getattr(self, "_" + self.system)(f"life-{seed}", folder)
        self.end = pick(("deleted", "deleted", "formatted", "formatted", "wiped", "unmapped"))

    def _fat(self, name, folder):
        kind = self.random.choice(("12", "16", "32", "32"))
        sectors = self.random.choice({"12": (2, 8, 32), "16": (1, 4, 16, 32), "32": (1, 2)}[kind])
        # As large as the kind of FAT has it with these clusters.
        clusters = {"12": 3000, "16": 6000, "32": self.random.choice((67000, 67000, 150000))}[kind]
        size = sectors * 512 * clusters
        card = Card(name, size, ["mkfs.fat", "-F", kind, "-s", str(sectors), "-n", "LIFE"], sectors * 512,
                    folder=folder)
        self.told_as.append(f"fat{kind} {sectors * 512}")
        if kind == "32" and self.random.random() < 0.5:
            card.search_from(self.random.randrange(2, clusters * 2 // 3))
        return card, formatted.fat_told, formatted.fat_told

    def _exfat(self, name, folder):
        cluster = self.random.choice((512, 4096, 8192, 32768, 131072))
        size = self.random.choice((48, 96, 200)) * MIB
        mkfs = ["mkfs.exfat", "-c", str(cluster), "-L", "LIFE"]
        kernel = self.random.random() < 0.5
        card = (KernelCamera(name, size, mkfs, cluster, "exfat", "iocharset=utf8", folder=folder) if kernel
                else FuseCamera(name, size, mkfs, cluster, ["mount.exfat-fuse"], folder=folder))
        self.told_as.append(f"exfat {cluster} {'kernel' if kernel else 'fuse'}")
        return card, formatted.exfat_told, formatted.exfat_told

    def _ntfs(self, name, folder):
        cluster = self.random.choice((512, 1024, 4096, 4096, 16384, 65536))
        size = self.random.choice((48, 96, 200)) * MIB
        self.told_as.append(f"ntfs {cluster}")
        return (Office(name, size, "LIFE", cluster, folder=folder), formatted.ntfs_told,
                formatted.ntfs_placed)

    def _hfsplus(self, name, folder):
        extended = self.random.random() < 0.3
        self.told_as.append("hfsx" if extended else "hfsplus")
        return (Charts(name, self.random.choice((32, 64, 128)) * MIB, "LIFE", extended, folder=folder),
                formatted.hfsplus_told, formatted.hfsplus_placed)

    def _name(self, folders):
        r = self.random
        self.made += 1
        parent = r.choice(folders)
        # The kernel's hfsplus knows no characters beyond the first 65,536.
        known = [word for word in WORDS if self.system != "hfsplus" or max(word) < "\U00010000"]
        words = " ".join(r.choice(known) for _ in range(r.choice((1, 1, 2, 3, 8))))
        end = r.choice(ENDS if r.random() < 0.4 else REAL_ENDS)
        if r.random() < 0.25:
            stem = f"{r.choice(('IMG', 'TG', 'DEPTH'))}{self.made:04}"
            end = end.upper()
        elif r.random() < 0.1:
            stem = f"{self.made}" + "n" * (r.choice((13, 26, 39)) - len(str(self.made)) - len(end) - bool(end))
        else:
            stem = f"{words} {self.made}"
        name = f"{stem}.{end}" if end else stem
        return f"{parent}/{name}" if parent else name

    @staticmethod
    def _ending_as(old, name):
        stem, dot, end = old.rpartition("/")[2].rpartition(".")
        return name.rpartition(".")[0] + dot + end if stem and "." in name[1:] else name

    def _content(self, name, most):
        r = self.random
        end = name.lower().rpartition(".")[2]
        # Real files by real encoders.
        known = [content for kind, content in self.kinds.items() if kind.endswith("." + end)]
        if known and end not in TEXT_ENDS:
            fitting = [content for content in known if len(content) <= most]
            return signed(r.choice(fitting or [min(known, key=len)]), f"{self.seed} {name}".encode())
        size = int(min(most, r.choice((0, 60, 400, 700, 1500, 5000, 20000, 90000, 300000))
                       * r.uniform(0.5, 1.5)))
        title = f"{self.seed} {name}"
        if size == 0:
            return b""
        if name.lower().endswith("png") and size > 1000:
            return chart(title, 120, size // 121 + 1)
        if name.lower().endswith("wav") and size > 1000:
            return sound(title, size / 8000)
        make = readings if name.lower().endswith("csv") else note
        return make(title, "2026-04-02", size)[:max(size, 1)]

    def _when(self):
        self.day += 1
        minutes = 600 + self.day * 7
        self.card.at(f"2026-04-{2 + minutes // 1440:02} {minutes // 60 % 24:02}:{minutes % 60:02}:02")

    def play(self):
        card, r = self.card, self.random
        small = card.image.stat().st_size < 16 * MIB
        pace = 1 if small else self.pace
        most = card.image.stat().st_size // ((200 if small else 60) * pace)
        for _ in range(r.choice((1, 1, 2))):
            card.mount()
            self._when()
            folders = [""] + list(card.folders)
            for _ in range(r.choice((2, 6, 12))):
                path = self._name(folders)
                card.folder(path)
                folders.append(path)
            for _ in range(r.choice((15, 40, 80)) * pace):
                self._step(folders, most)
            for path in r.sample(sorted(card.files), min(len(card.files), r.randrange(0, 25 * pace))):
                card.delete(path)
            if len(card.folders) > 2 and r.random() < 0.6:
                card.delete_tree(r.choice(sorted(card.folders)))
            card.unmount()
            self._run()

    def _step(self, folders, most):
        card, r = self.card, self.random
        if r.random() < 0.3:
            self._when()
        choice = r.random()
        known = sorted(card.files)
        if choice < 0.72 or not known:
            path = self._name(folders)
            card.write(path, self._content(path, most))
        elif choice < 0.84:
            # What is written to again in life: text; seldom anything else.
            texts = [path for path in known if path.lower().rpartition(".")[2] in TEXT_ENDS]
            path = r.choice(texts if texts and r.random() < 0.95 else known)
            card.append(path, self._content(path + str(len(card.files[path])), most))
        elif choice < 0.92:
            old, new = r.choice(known), self._name(folders)
            if r.random() < 0.9:  # few are renamed to what they are not
                new = new.rpartition("/")[0] + "/" * ("/" in new) + self._ending_as(old, new.rpartition("/")[2])
            card.move(old, new)
        else:
            card.delete(r.choice(known))

    def _run(self):
        try:
            hfsplus_charts.play(self.card) if self.system == "hfsplus" else self.card.play()
        except RuntimeError as error:
            if "No space left on device" in str(error):
                raise Full from error
            raise

    def finish(self):
        """Returns the rows of truth, after the end the seed has for it."""
        card, r = self.card, self.random
        if self.end == "formatted":
            start = (heap_start(card.image.read_bytes()) if self.system == "exfat"
                     else data_start(card.image.read_bytes()) if self.system == "fat" else 0)
            large = card.image.stat().st_size > 40 * MIB
            ways = [(formatted.to_ntfs(r.choice((4096, 16384))), formatted.on_ntfs, "ntfs"),
                    (formatted.to_exfat(r.choice((4096, 32768))), formatted.on_exfat, "exfat"),
                    (formatted.to_fat32(r.choice((1, 2) if not large else (1,))), formatted.on_fat, "fat32")]
            if self.system == "hfsplus":
                ways.append((formatted.to_hfsplus(block=r.choice((4096, 8192))), formatted.on_hfsplus, "hfsplus"))
            if not large:
                ways = ways[-1:] if self.system == "hfsplus" else []
            # Most formats are over the same system.
            same = [w for w in ways if w[2].rstrip("32") == self.system]
            if not ways:
                self.end = "deleted"
                return list(card.truth())
            command, new_files, to = r.choice(same if same and r.random() < 0.5 else ways)
            self.told_as.append(f"formatted to {to}")
            card.format(start, self.is_told, self.is_placed, command)
            if r.random() < 0.8:
                new_files(card)
        if self.told_as[0].startswith("fat32") and self.end != "formatted" and r.random() < 0.25:
            card.clear_high_halves()
            self.told_as.append("high halves cleared")
        if r.random() < 0.2:
            self._discard()
        rows = list(card.truth())
        if self.end == "wiped":
            self._wipe()
        if self.end == "unmapped":
            self._move_into_disk()
        self.told_as.append(self.end)
        return rows

    def _discard(self):
        """As a drive does that gives deleted blocks back: they read as zeros, or as 0xFF, but for some."""
        card, r = self.card, self.random
        size = card.cluster_size

        def pieces(content):
            return (content[at:at + size] for at in range(0, len(content), size))
        living = {piece for content in card.files.values() for piece in pieces(content)}
        lost = [row[2] for row in [*card.lost, *card.of_former] if row[2]]
        known = {piece for content in r.sample(lost, int(len(lost) * r.choice((0.3, 0.8, 1))))
                 for piece in pieces(content)} - living
        blank = r.choice((b"\0", b"\xFF"))
        tails = {}  # last pieces of files by their beginnings; they stand before what was there before them
        for piece in known:
            if len(piece) < size:
                tails.setdefault(piece[:64], []).append(piece)
        image = bytearray(card.image.read_bytes())
        for at in range(card.data_start(bytes(image)), len(image), size):
            cluster = bytes(image[at:at + size])
            if cluster in known or any(cluster.startswith(piece) for piece in tails.get(cluster[:64], ())):
                image[at:at + size] = blank * len(cluster)
        card.image.write_bytes(image)
        self.told_as.append("discarded")

    def _wipe(self):
        with open(self.card.image, "r+b") as f:
            size = self.card.image.stat().st_size
            first = {"fat": 1, "exfat": 12, "ntfs": 1, "hfsplus": 3}[self.system] * 512
            f.write(bytes(first))
            if self.system == "fat" and self.random.random() < 0.5:
                f.seek(6 * 512)
                f.write(bytes(512))
            if self.system == "exfat" and self.random.random() < 0.5:
                f.write(bytes(12 * 512))
            if self.system in ("ntfs", "hfsplus") and self.random.random() < 0.5:
                f.seek(size - 2048)
                f.write(bytes(2048))

    def _move_into_disk(self):
        """To some place on a larger disk without a map."""
        ahead = self.random.choice((63, 2048, 8192)) * 512
        data = self.card.image.read_bytes()
        self.card.image.write_bytes(bytes(ahead) + data + bytes(3 * MIB))


def is_rest(shown, true):
    """Whether that is what later entries in a FAT folder leave of a long name: its beginning or its alias."""
    units = len(shown.encode("utf-16-le")) // 2
    return (units % 13 == 0 and true.startswith(shown)) or (shown[0] == "_" and re.search("~[0-9]", shown) is not None)


def ends_alike(shown, true):
    """Whether a listed path is a true one, but for made-up parts and a lost first letter."""
    listed, known = shown.split("/"), true.split("/")
    while listed and listed[0].startswith("["):
        listed.pop(0)
    if not listed or len(listed) > len(known):
        return False

    def same(a, b):
        return (a == b or (a.startswith("_") and a[1:] == b[1:]) or (a.startswith("[folder ") and a.endswith("]"))
                or is_rest(a, b))
    return all(same(a, b) for a, b in zip(reversed(listed), reversed(known)))


def run(*command, seconds=None):
    return subprocess.run([str(c) for c in command], capture_output=True, text=True, timeout=seconds)


class Ended(Exception):
    """A command did not end as it should; says how."""


def depth_for(life):
    return "deep" if life.end != "deleted" or life.random.random() < 0.3 else "quick"


def scanned(program, image, folder, depth, seconds=None):
    """Scans into `folder`, lists and exports: the rows, and the hashes of what came out by id and stream.

    Raises Ended, and subprocess.TimeoutExpired if one command takes more than so many seconds."""
    shelf, bag = folder / "shelf", folder / "bag"

    def told(*command):
        done = run(program, *command, seconds=seconds)
        if done.returncode not in (0, 1):
            raise Ended(f"{command[0]} ends with {done.returncode}: {done.stderr}")
        return done.stdout
    told("scan", image, "--shelf", shelf, "--depth", depth)
    listed = [json.loads(line) for line in told("list", shelf, "--format", "jsonl").splitlines()]
    told("export", shelf, "--to", bag, "--even-gone", "--forks", "plain")
    listing = bag / "exported.jsonl"  # none if there was nothing to export
    records = [json.loads(line) for line in open(listing, encoding="utf-8")] if listing.exists() else []
    return listed, {(record["id"], record.get("stream")): record["sha256"] for record in records}


def how_placed(shelf, entry):
    """By content: in pieces or around others, or joined with what was found without a name."""
    shown = json.loads(run(PROGRAM, "show", shelf, entry, "--format", "jsonl").stdout.splitlines()[0])
    return "joined" if any("content without a name" in fact for fact in shown["evidence"]) else "placed"


def driver_listing(card, folder):
    """The files that the volume's own driver lists on a copy, by path."""
    copy = folder / "listed.img"
    shutil.copy(card.image, copy)
    if not isinstance(card, MountedCard):
        log = guest.run(copy, f"mount -t {card.system} -o ro,{card.options} /dev/vda /volume\n"
                              "find /volume -type f | sed 's/^/LISTED /'\n", {}, card.system)
        return {line[len("LISTED /volume/"):] for line in log.splitlines() if line.startswith("LISTED ")}
    device = mount_run("losetup", "-f", "--show", "-b", str(card.sector_size), copy).stdout.decode().strip()
    place = folder / "listed"
    place.mkdir(exist_ok=True)
    mount_run(*card.command, device, place)
    try:
        return {str((pathlib.Path(root) / name).relative_to(place))
                for root, _, names in os.walk(place) for name in names}
    finally:
        mount_run("umount", place)
        mount_run("losetup", "-d", device)


def phantoms(life, shelf, listed, folder):
    """Living files that the driver does not list, those it lists that are not living, and volumes that never were."""
    def composed(paths):
        return {unicodedata.normalize("NFC", path) for path in paths if not path.startswith("$")}
    wrong = []
    if life.end == "deleted":
        living = composed(row["path"] for row in listed
                          if row["state"] == "live" and row["kind"] == "file" and row["stream"] is None)
        drivers = composed(driver_listing(life.card, folder))
        wrong += [f"living, and its driver does not list it: {path}" for path in living - drivers]
        wrong += [f"not living, though its driver lists it: {path}" for path in drivers - living]
    if life.end != "formatted":
        for line in run(PROGRAM, "volumes", shelf, "--format", "jsonl").stdout.splitlines():
            volume = json.loads(line)
            if volume["standing"] == "former" and volume["inside"] is None:
                wrong.append(f"never was: a former {volume['file_system']} at {volume['offset']}, "
                             f"{volume['former']} files, sure {volume['confidence']}")
    return wrong


def judge(life, rows, folder, tally, depth=None):
    """Scans, exports and compares; returns what does not hold."""
    wrong = []
    depth = depth or depth_for(life)
    try:
        listed, exported = scanned(PROGRAM, life.card.image, folder, depth)
    except Ended as ended:
        return [str(ended)]
    shelf = folder / "shelf"
    if life.end in ("deleted", "unmapped"):
        wrong += phantoms(life, shelf, listed, folder)
    hashes = {entry: sha256 for (entry, stream), sha256 in exported.items() if stream is None}
    files = [row for row in listed if row["kind"] == "file" and row["stream"] is None and not row["link"]]
    truth = [row for row in rows if row["kind"] == "file"]
    paths = collections.defaultdict(list)
    for true in truth:
        for path in [true["path"], *true["former_names"]]:
            paths[path.rpartition("/")[2][1:]].append((path, true))
    contents = {true["sha256"] for true in truth} | life.card.earlier
    found = collections.defaultdict(list)
    for row in files:
        if row["state"] == "carved":  # known by its content alone
            right = hashes.get(row["id"]) in contents
            tally["carved", row["score"] // 10 * 10].append(right)
            if row["rating"] in ("whole", "likely") and not right:
                wrong.append(f"promised and wrong: {row['path']} ({row['rating']} {row['score']})")
            continue
        fitting = [true for path, true in paths[row["name"][1:]] if ends_alike(row["path"], path)]
        if not fitting and is_rest(row["name"], row["name"]):
            fitting = [true for same in paths.values() for path, true in same
                       if true["size"] == row["size"] and ends_alike(row["path"], path)]
        if not fitting:
            wrong.append(f"invented: {row['path']} ({row['state']}, {row['size']} bytes, {row['rating']})")
            continue
        for true in fitting:
            found[id(true)].append(row)
        right = any(hashes.get(row["id"]) == true["sha256"] for true in fitting)
        if row["size"]:
            tally[row["rating"], row["score"] // 10 * 10].append(right)
        if row["placement"] == "content" and row["size"]:
            tally[how_placed(shelf, row["id"]), row["score"] // 10 * 10].append(right)
        if row["rating"] in ("whole", "likely") and not right:
            wrong.append(f"promised and wrong: {row['path']} ({row['state']}, {row['rating']} {row['score']})")
        if row["rating"] == "partial" and right and row["size"]:
            tally["partial though right", 0].append(True)
    image = life.card.image.read_bytes()
    held = collections.Counter(true["sha256"] for true in truth)
    for true in truth:
        name = true["path"].rpartition("/")[2]
        told = true.get("told", True if true["state"] == "live" else life.is_told(name, image))
        placed = true.get("placed", told and life.is_placed(name, image)) if true["state"] != "live" else True
        what = f"{true['path']} ({true['state']}, {true['size']} bytes, {true['surviving_bytes']} survive in {true['runs']} runs)"
        here = found[id(true)]
        ended = name.lower().rpartition(".")[2] in KNOWN_BY_CONTENT
        lost = true["state"] != "live" and 0 < true["surviving_bytes"] == true["size"]
        # What another file held as well may be there as that one's only.
        if depth == "deep" and ended and lost and held[true["sha256"]] == 1:
            tally["all there, content found", 0].append(true["sha256"] in exported.values())
            if told:
                tally["name and all there, named", 0].append(bool(here))
                tally["name and all there, both joined", 0].append(
                    any(hashes.get(row["id"]) == true["sha256"] for row in here))
        if not here:
            if told:
                wrong.append(f"not listed: {what}")
            continue
        if true["former_names"] and true["state"] != "live":
            tally["renamed, then lost: last name told", 0].append(
                any(ends_alike(row["path"], true["path"]) for row in here))
        if len(here) > 1 and len({row["id"] for row in here}) > 1 and len(set(p for p, t in paths[name[1:]])) < 2:
            wrong.append(f"listed {len(here)} times: {what}: " + ", ".join(row["path"] for row in here))
        if placed and true["surviving_bytes"] == true["size"]:
            if all(hashes.get(row["id"]) != true["sha256"] for row in here):
                wrong.append(f"all there, not brought back: {what}: {here[0]['rating']} {here[0]['score']}")
            elif true["state"] == "live" and here[0]["state"] != "live":
                wrong.append(f"living, shown as {here[0]['state']}: {what}")
    return wrong


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--seeds", default="1..10")
    parser.add_argument("--system", default="fat,exfat,ntfs,hfsplus")
    parser.add_argument("--depth", choices=("quick", "deep"), help="of all scans; else as drawn")
    parser.add_argument("--end", choices=("deleted", "formatted", "wiped", "unmapped"),
                        help="of all lives; else as drawn")
    parser.add_argument("--keep", type=pathlib.Path, help="keep volumes on which something does not hold here")
    options = parser.parse_args()
    first, _, last = options.seeds.partition("..")
    tally = collections.defaultdict(list)
    failures = 0
    for seed in range(int(first), int(last or first) + 1):
        with tempfile.TemporaryDirectory() as work:
            folder = pathlib.Path(work)
            life = Life(seed, options.system.split(","), folder)
            life.end = options.end or life.end
            try:
                life.play()
            except Full:
                print(f"{seed}: {', '.join(life.told_as)}: not played, the volume was full", flush=True)
                continue
            rows = life.finish()
            wrong = judge(life, rows, folder, tally, options.depth)
            print(f"{seed}: {', '.join(life.told_as)}: {len(rows)} rows, {len(wrong)} do not hold", flush=True)
            for line in wrong[:30]:
                print("   ", line)
            failures += bool(wrong)
            if wrong and options.keep:
                options.keep.mkdir(parents=True, exist_ok=True)
                shutil.copy(life.card.image, options.keep / f"{seed}.img")
    print(f"\n{'RATING':<33} SCORE  FILES  RIGHT")
    for (rating, score), outcomes in sorted(tally.items()):
        print(f"{rating:<33} {score:>5}  {len(outcomes):>5}  {100 * sum(outcomes) / len(outcomes):>4.0f} %")
    sys.exit(failures > 0)


if __name__ == "__main__":
    main()
