"""A volume's life, told step by step, played under a real driver.

A Card collects steps (write, append, delete, move ...), plays them in the guest
(guest.py), and afterwards writes what there is to know of every file that ever
was: truth, against which the tests measure. What survives is read off the
finished image itself: each cluster of each lost file is looked for in it.
"""
import collections
import datetime
import functools
import hashlib
import json
import pathlib
import shlex
import subprocess

import guest

SAMPLES = pathlib.Path(__file__).resolve().parent.parent / "samples"


class Card:
    after_write = "sync; "  # so that the order on the disk is that of the steps; costs most of the time

    def __init__(self, name, size, mkfs, cluster_size, system="vfat", options="utf8",
                 folder=None):
        """`folder`: where the image is made, if not among the samples."""
        self.name, self.cluster_size = name, cluster_size
        self.system, self.options = system, options
        self.kept_in = folder or SAMPLES
        self.image = self.kept_in / f"{name}.img"
        self.image.unlink(missing_ok=True)
        with open(self.image, "wb") as f:
            f.truncate(size)
        subprocess.run([*mkfs, self.image], check=True, stdout=subprocess.DEVNULL)
        self.files = {}     # path -> content, as it is now
        self.folders = {}   # path -> True
        self.former = collections.defaultdict(list)  # path -> names it had before
        self.earlier = set()  # SHA-256 of contents that a later write to the same file added to
        self.written = {}   # path -> key of its last write in `modified`
        self.modified = {}  # key of a write -> seconds since 1970
        self.lost = []      # (path, kind, content, former names, key of its last write)
        self.of_former = []  # likewise, and whether it was deleted: from before a format
        self.known = {}     # path -> more that is true of it
        self.payload, self.script, self.writes = {}, [], 0

    # Steps under the kernel's driver.
    def mount(self):
        self.script.append(f"mount -t {self.system} -o {self.options} /dev/vda /volume")

    def unmount(self):
        self.script.append("umount /volume")

    def at(self, when):
        self.script.append(f"date -s {shlex.quote(when)} > /dev/null")

    def folder(self, path):
        self.folders[path] = True
        self.script.append(f"mkdir {self._place(path)}")

    def write(self, path, content, append=False):
        self.writes += 1
        item = f"{self.writes:04}"
        self.payload[item] = content
        self.written[path] = item
        if path in self.files:
            self.earlier.add(hashlib.sha256(self.files[path]).hexdigest())
        self.files[path] = (self.files[path] if append else b"") + content
        self.script.append(f"cat /payload/{item} {'>>' if append else '>'} {self._place(path)}")
        self.script.append(f"{self.after_write}stat -c 'MODIFIED {item} %Y' {self._place(path)}")

    def append(self, path, content):
        self.write(path, content, append=True)

    def move(self, old, new):
        self.script.append(f"mv {self._place(old)} {self._place(new)}; sync")
        for kept in (self.files, self.folders, self.former, self.written):
            for path in [p for p in kept if p == old or p.startswith(old + "/")]:
                kept[new + path[len(old):]] = kept.pop(path)
        self.former[new].append(old)

    def delete(self, *paths):
        for path in paths:
            self.script.append(f"rm {self._place(path)}")
            self._lose(path)

    def delete_tree(self, path):
        self.script.append(f"rm -r {self._place(path)}; sync")
        self._lose_tree(path)

    def play(self):
        log = guest.run(self.image, "\n".join(self.script) + "\n", self.payload, self.system)
        for line in log.splitlines():
            if line.startswith("MODIFIED "):
                _, item, seconds = line.split()
                self.modified[item] = int(seconds)
        self.script, self.payload = [], {}

    # Steps under mtools, a driver of its own, on the host.
    def mtools(self, command, *arguments, when, data=None):
        stamp = int(datetime.datetime.fromisoformat(when + "+00:00").timestamp())
        subprocess.run([command, "-i", self.image, *arguments], check=True, input=data,
                       env={"PATH": "/usr/bin:/bin", "SOURCE_DATE_EPOCH": str(stamp),
                            "TZ": "UTC", "MTOOLS_SKIP_CHECK": "1", "LC_ALL": "C.UTF-8"})
        return stamp

    def mtools_write(self, path, content, when):
        self.written[path] = path + when
        self.modified[path + when] = self.mtools("mcopy", "-", "::" + path, when=when,
                                                 data=content)
        self.files[path] = content

    def mtools_delete(self, path, when):
        self.mtools("mdel", "::" + path, when=when)
        self._lose(path)

    def mtools_delete_tree(self, path, when):
        self.mtools("mdeltree", "::" + path, when=when)
        self._lose_tree(path)

    def search_from(self, cluster=2):
        """Sets FSI_Nxt_Free: where the next writer looks for free space first (FAT specification,
        "FSInfo"). Devices that always search from the start take freed space again."""
        with open(self.image, "r+b") as f:
            f.seek(512 + 492)
            f.write(cluster.to_bytes(4, "little"))

    def clear_high_halves(self):
        """Clears the high half of the first cluster in every deleted entry, as some systems do
        when they delete. No driver here does; this is done byte by byte."""
        data = bytearray(self.image.read_bytes())
        size = self.cluster_size
        contents = {content[at:at + size] for content in [*self.files.values(), *(row[2] for row in self.lost if row[2])]
                    for at in range(0, len(content), size)}
        for cluster in range(data_start(data), len(data), size):
            if bytes(data[cluster:cluster + size]) in contents:
                continue  # no folder, though some of it may look so
            for at in range(cluster, min(cluster + size, len(data)), 32):
                if data[at] == 0xE5 and data[at + 11] in (0x10, 0x20):
                    data[at + 20:at + 22] = b"\0\0"
        self.image.write_bytes(data)

    # The end: truth and the packed image.
    def truth(self):
        """What there is to know of every file and folder that ever was, a dictionary each."""
        image = self.image.read_bytes()
        size = self.cluster_size
        start = self.data_start(image)
        places, heads = collections.defaultdict(list), collections.defaultdict(list)
        for offset in range(start, len(image) - size + 1, size):
            cluster = image[offset:offset + size]
            if cluster.strip(b"\0"):
                places[cluster].append(offset)
        rows = [(p, "file", c, self.former[p], self.written[p], "live")
                for p, c in self.files.items()]
        rows += [(p, "folder", None, self.former[p], None, "live") for p in self.folders]
        rows += [(*row, "deleted") for row in self.lost]
        rows += [(*row[:-1], "former") for row in self.of_former]
        for path, kind, content, former, written, state in rows:
            row = {"path": path, "kind": kind, "state": state, "former_names": former}
            if kind == "file":
                row |= {"size": len(content), "sha256": hashlib.sha256(content).hexdigest(),
                        "modified": iso(self.modified[written])}
                row |= survival(content, image, places, heads, size)
            row |= self.known.get(path, {})
            if state == "former":
                row |= {"told": self.is_told(path), "placed": self.is_placed(path),
                        "parent_told": self.is_told(path.rpartition("/")[0])}
            yield row

    def finish(self):
        rows = list(self.truth())
        with open(self.kept_in / f"{self.name}.truth.jsonl", "w", encoding="utf-8") as out:
            for row in rows:
                out.write(json.dumps(row, ensure_ascii=False) + "\n")
        packed = self.kept_in / f"{self.name}.img.zst"
        subprocess.run(["zstd", "-q", "-f", "-19", "--long=27", "--rm", self.image, "-o", packed],
                       check=True)
        print(f"{packed.name}: {packed.stat().st_size} bytes, {len(rows)} rows of truth")

    def data_start(self, image):
        """Where the first cluster lies."""
        return data_start(image)

    def format(self, start, is_told, is_placed, command):
        """Runs a formatter over the volume: whatever was on it is a former volume's. `start`: where
        that one's clusters begin. `is_told(name, image)`: whether a name still stands somewhere;
        `is_placed(name, image)`: whether also what says where its content lies."""
        self.of_former += [(p, "file", c, self.former.pop(p, []), self.written[p], False)
                           for p, c in self.files.items()]
        self.of_former += [(p, "folder", None, [], None, False) for p in self.folders]
        self.of_former += [(*row, True) for row in self.lost]
        self.files, self.folders, self.lost = {}, {}, []
        self.data_start = lambda image: start
        finished = functools.cache(lambda: thinned(self.image.read_bytes()))  # asked for once all is written

        def in_image(test):
            return lambda path: bool(path) and test(path.rpartition("/")[2], finished())
        self.is_told, self.is_placed = in_image(is_told), in_image(is_placed)
        command(self.image)

    def _place(self, path):
        return shlex.quote("/volume/" + path)

    def _lose(self, path):
        self.lost.append((path, "file", self.files.pop(path), self.former.pop(path, []),
                          self.written.pop(path)))

    def _lose_tree(self, path):
        inside = [p for p in self.files if p.startswith(path + "/")]
        for p in inside:
            self._lose(p)
        for p in [p for p in self.folders if p == path or p.startswith(path + "/")]:
            del self.folders[p]
            self.lost.append((p, "folder", None, self.former.pop(p, []), None))


def thinned(image, block=65536):
    """An image with one blank block for each stretch of them: quicker to search for names."""
    blank = bytes(block)
    kept, last = [], None
    for at in range(0, len(image), block):
        part = image[at:at + block]
        if part != blank or last != blank:
            kept.append(part)
        last = part
    return b"".join(kept)


def data_start(image):
    """First byte of the data area of a FAT volume, from its boot sector."""
    sector = int.from_bytes(image[11:13], "little")
    reserved = int.from_bytes(image[14:16], "little")
    fats, root = image[16], int.from_bytes(image[17:19], "little")
    fat = int.from_bytes(image[22:24], "little") or int.from_bytes(image[36:40], "little")
    return (reserved + fats * fat) * sector + (root * 32 + sector - 1) // sector * sector


HEAD = 16  # bytes by which clusters are looked up


def survival(content, image, places, heads, size):
    """How much of `content` still lies in the image, and in how many runs."""
    surviving, runs, last = 0, 0, None
    for at in range(0, len(content), size):
        piece = content[at:at + size]
        if not piece.strip(b"\0"):  # a hole, or like one
            surviving += len(piece)
            last = None
            continue
        follows = last is not None and image[last + size:last + size + len(piece)] == piece
        if follows:
            found = last + size
        elif len(piece) == size:
            found = next(iter(places[piece]), None)
        else:  # a short last piece that does not follow: any cluster that begins with it
            if not heads:
                for cluster in places:
                    heads[cluster[:HEAD]].append(cluster)
            alike = heads[piece[:HEAD]] if len(piece) >= HEAD else places
            found = next((o for c in alike if c.startswith(piece) for o in places[c]), None)
        if found is not None:
            surviving += len(piece)
            runs += not follows
        last = found
    return {"surviving_bytes": surviving, "runs": runs}


def iso(seconds):
    return datetime.datetime.fromtimestamp(seconds, datetime.timezone.utc).strftime(
        "%Y-%m-%dT%H:%M:%SZ")
