"""The office computer: NTFS volumes of reports, spreadsheets, archives and mail.

Written by ntfs-3g. What that driver cannot make is written byte by byte from the published layouts,
each time said so: the change journal, system-compressed files, `$I` files, pages of $LogFile.
Needs root (loop devices, FUSE). Without arguments rebuilds every sample here.
"""
import ctypes
import datetime
import struct
import sys

from fat_logger import recycle_info
from mounted import MountedCard, run
from scenario import chart, hash_of, note, readings, sound

MIB = 1 << 20


class Office(MountedCard):
    def __init__(self, name, size, label, cluster_size=4096, sector_size=512, folder=None):
        super().__init__(name, size,
                         ["mkntfs", "-q", "-F", "-f", "-L", label, "-c", str(cluster_size), "-s",
                          str(sector_size), "-H", "16", "-S", "63", "-p", "0"],
                         cluster_size,
                         ["ntfs-3g", "-o", "streams_interface=windows,show_sys_files,compression,"
                          "efs_raw"],
                         sector_size, folder)
        self.record_size = max(1024, sector_size)
        self.streams = []  # (path, name, content, state)

    def stream(self, path, name, content, kind="file"):
        """An alternate data stream."""
        self.play()
        with open(f"{self.place(path)}:{name}", "wb") as out:
            out.write(content)
        if path in self.written:
            self.modified[self.written[path]] = int(self.place(path).stat().st_mtime)
        self.streams.append([path, name, content, "live"])

    def link(self, old, new):
        self.script.append(f"ln {self._place(old)} {self._place(new)}")

    def records(self):
        """Every FILE record with its fix-ups applied, by place."""
        image = self.image.read_bytes()
        for at in range(0, len(image) - self.record_size + 1, 1024):
            if image[at:at + 4] != b"FILE":
                continue
            record = bytearray(image[at:at + self.record_size])
            usa, count = struct.unpack_from("<HH", record, 4)
            for i in range(1, count):
                record[i * 512 - 2:i * 512] = record[usa + 2 * i:usa + 2 * i + 2]
            yield at, bytes(record)

    def reference(self, path):
        """The file reference of a path, while it is mounted."""
        self.play()
        number = self.place(path).stat().st_ino
        run("sync")
        boot = self.image.read_bytes()[:512]
        cluster = struct.unpack_from("<H", boot, 11)[0] * boot[13]
        mft = struct.unpack_from("<Q", boot, 48)[0] * cluster
        with open(self.image, "rb") as f:
            f.seek(mft + number * self.record_size + 16)
            return number | struct.unpack("<H", f.read(2))[0] << 48

    def truth(self):
        texts = [record for _, record in self.records()]
        contents = {p: c for p, c in self.files.items()} | {row[0]: row[2] for row in self.lost}
        for path, content in contents.items():
            # Short files stand in their records.
            if content and len(content) < 900 and any(content in text for text in texts):
                self.tell(path, surviving_bytes=len(content), runs=1)
        for path, name, content, _ in self.streams:
            self.known.setdefault(path, {}).setdefault("streams", {})[name] = hash_hex(content)
        return super().truth()


def hash_hex(content):
    import hashlib
    return hashlib.sha256(content).hexdigest()


def filetime(when):
    return int(datetime.datetime.fromisoformat(when + "+00:00").timestamp() * 10_000_000
               ) + 116444736000000000


def change(usn, file, parent, when, reason, name, folder=False):
    """A USN_RECORD_V2 ([MS-FSCC] 2.4.51)."""
    text = name.encode("utf-16-le")
    length = (60 + len(text) + 7) // 8 * 8
    return struct.pack("<IHHQQQQIIIIHH", length, 2, 0, file, parent, usn, filetime(when), reason, 0,
                       0, 0x10 if folder else 0x20, len(text), 60) + text.ljust(length - 60, b"\0")


def index_entry(reference, parent, name, when, size):
    """An entry of a folder's index, as log records hold them."""
    text = name.encode("utf-16-le")
    time = filetime(when)
    key = struct.pack("<QQQQQQQIIBB", parent, time, time, time, time, (size + 4095) // 4096 * 4096,
                      size, 0x20, 0, len(name), 1) + text
    length = (16 + len(key) + 7) // 8 * 8
    return struct.pack("<QHHI", reference, length, len(key), 0) + key.ljust(length - 16, b"\0")


def log_page(payload):
    """A page of $LogFile with its fix-ups ("RCRD")."""
    page = bytearray(b"RCRD" + struct.pack("<HH", 0x28, 9) + bytes(0x40 - 8) + payload)
    page = page.ljust(4096, b"\0")
    page[0x28:0x2A] = b"\x07\0"
    for i in range(8):
        page[0x2A + 2 * i:0x2C + 2 * i] = page[512 * i + 510:512 * i + 512]
        page[512 * i + 510:512 * i + 512] = b"\x07\0"
    return bytes(page)


def system_compressed(content, algorithm):
    """What the stream WofCompressedData holds, by libwim's compressors; and the reparse point."""
    wim = ctypes.CDLL("libwim.so.15")
    chunk = {0: 4096, 1: 32768, 2: 8192, 3: 16384}[algorithm]
    kind = 2 if algorithm == 1 else 1  # WIMLIB_COMPRESSION_TYPE_LZX, _XPRESS
    compressor = ctypes.c_void_p()
    wim.wimlib_create_compressor(kind, ctypes.c_size_t(chunk), 50, ctypes.byref(compressor))
    wim.wimlib_compress.restype = ctypes.c_size_t
    chunks = []
    for at in range(0, len(content), chunk):
        part = content[at:at + chunk]
        out = ctypes.create_string_buffer(len(part))
        size = wim.wimlib_compress(part, ctypes.c_size_t(len(part)), out,
                                   ctypes.c_size_t(len(part) - 1), compressor)
        chunks.append(out.raw[:size] if size else part)
    table, at = b"", 0
    for one in chunks[:-1]:
        at += len(one)
        table += struct.pack("<I", at)
    reparse = struct.pack("<IHH", 0x80000017, 16, 0) + struct.pack("<IIII", 1, 2, 1, algorithm)
    return table + b"".join(chunks), reparse


def add_system_compressed(card, path, content, algorithm):
    packed, reparse = system_compressed(content, algorithm)
    item = f"{path} as made"
    card.shell(f"truncate -s {len(content)} {card._place(path)}")
    card.play()
    with open(f"{card.place(path)}:WofCompressedData", "wb") as out:
        out.write(packed)
    card.modified[item] = int(card.place(path).stat().st_mtime)
    run("setfattr", "-n", "system.ntfs_reparse_data", "-v", "0x" + reparse.hex(), card.place(path))
    card.files[path] = content
    card.written[path] = item
    card.tell(path, surviving_bytes=len(content), runs=1)


def office():
    card = Office("ntfs-office", 48 * MIB, "OFFICE")
    card.mount()
    for folder in ("Reports", "Reports/2025", "Reports/2025/Spring survey, drafts", "Spreadsheets",
                   "Mail", "Archive", "Packed", "Manuals", "$RECYCLE.BIN", "$RECYCLE.BIN/S-1-5-21-7-7-7-1001",
                   "$RECYCLE.BIN/S-1-5-21-7-7-7-1001/$RFOLDER", "Old plans", "Old plans/1998"):
        card.folder(folder)
    for n in range(1, 31):
        card.write(f"Reports/2025/Tide report {n:02} of the north pier.txt",
                   note(f"Report {n}", "2025-05-01", 900 + 2300 * n))
    for n in range(1, 6):
        card.write(f"Reports/2025/Spring survey, drafts/Draft {n}.txt",
                   note(f"Draft {n}", "2025-05-02", 300 * n))
        card.write(f"Spreadsheets/Levels {n}.csv", readings(f"L{n}", "2025-05-03", 7000 * n))
        card.write(f"Mail/Letter {n}.eml", note(f"Letter {n}", "2025-05-04", 400))
        card.write(f"Old plans/1998/Plan {n}.png", chart(f"Plan {n}", 120, 60 + n))
    card.write("Spreadsheets/Relevé du marégraphe à l'écluse.csv", readings("ÉCL", "2025-05-03", 9000))
    card.write("Spreadsheets/潮位表.csv", readings("CW", "2025-05-03", 5000))
    card.write("Mail/Survey \U0001F30A party.eml", note("Surge", "2025-05-04", 500))
    card.write("Empty.txt", b"")
    card.stream("Reports/2025/Tide report 04 of the north pier.txt", "Summary",
                note("Summary", "2025-05-01", 5000))
    card.stream("Spreadsheets/Levels 3.csv", "Origin", b"[ZoneTransfer]\r\nZoneId=3\r\n")
    card.stream("Archive", "Shelf mark", b"Room 2, shelf 7")
    card.link("Spreadsheets/Levels 5.csv", "Archive/Levels of May.csv")
    # Fragmented beyond one record: a block of data here and there in a sparse file.
    for letter in "AB":
        path = f"Archive/Scattered {letter}.bin"
        card.play()
        with open(card.place(path), "wb") as out:
            for n in range(500):
                out.seek(n * 12288)
                out.write(f"{letter} {n:06} ".encode() * 400)
        card.files[path] = card.place(path).read_bytes()
        card.written[path] = path
        card.modified[path] = int(card.place(path).stat().st_mtime)
    # Compressed by the driver.
    run("setfattr", "-n", "system.ntfs_attrib", "-v", "0x00080000", card.place("Packed"))
    for n in range(1, 4):
        path = f"Packed/Soundings {n}.csv"
        card.write(path, readings(f"S{n}", "2025-06-01", 50000 * n))
        card.tell(path, surviving_bytes=len(card.files[path]), runs=1)
    # Sparse.
    card.shell("truncate -s 3M '/volume/Archive/Grid.bin'; "
               "printf 'tide grid' | dd of='/volume/Archive/Grid.bin' bs=1 seek=2000000 conv=notrunc "
               "status=none")
    card.play()
    path = "Archive/Grid.bin"
    card.files[path] = card.place(path).read_bytes()
    card.written[path] = path
    card.modified[path] = int(card.place(path).stat().st_mtime)
    for algorithm in range(4):
        add_system_compressed(card, f"Manuals/Manual {algorithm}.txt",
                              note(f"Manual {algorithm}", "2025-06-02", 90000), algorithm)
    # Encrypted, byte by byte: a file and the stream of its keys are marked as such afterwards.
    card.write("Archive/Sealed tender.bin", note("Sealed", "2025-06-03", 8192))
    card.stream("Archive/Sealed tender.bin", "$EFS", note("No key at all", "2025-06-03", 300))
    # A recycle bin; `$I` files are written byte by byte.
    bin_ = "$RECYCLE.BIN/S-1-5-21-7-7-7-1001/"

    def bin_item(code, content, original, when, version=2):
        card.write(f"{bin_}$I{code}", recycle_info(version, len(content), when, "D:\\" +
                                                   original.replace("/", "\\")))
        card.write(f"{bin_}$R{code}", content)
        card.tell(f"{bin_}$R{code}", original_path=original, deleted=when + "Z")

    bin_item("A1B2C3.txt", note("Binned", "2025-07-01", 3000), "Reports/2025/Binned report.txt",
             "2025-07-01T10:00:00")
    bin_item("EMPTY1.csv", readings("EB", "2025-07-01", 6000), "Spreadsheets/Emptied.csv",
             "2025-07-01T11:00:00", version=1)
    card.write(f"{bin_}$IFOLDER", recycle_info(2, 9000, "2025-07-01T12:00:00", "D:\\Old charts"))
    card.tell(f"{bin_}$RFOLDER", original_path="Old charts", deleted="2025-07-01T12:00:00Z")
    card.write(f"{bin_}$RFOLDER/Curve.png", chart("Binned curve", 100, 60))
    card.tell(f"{bin_}$RFOLDER/Curve.png", original_path="Old charts/Curve.png",
              deleted="2025-07-01T12:00:00Z")
    # Files whose records will be used again, known to the journal or the log only.
    card.write("Mail/Journalled.eml", note("Journalled", "2025-08-01", 6000))
    card.write("Mail/Logged.eml", note("Logged", "2025-08-01", 6000))
    card.write("Mail/Logged with its place.eml", note("Logged with its place", "2025-08-01", 90000))
    lost = {p: card.files[p] for p in ("Mail/Journalled.eml", "Mail/Logged.eml")}
    card.play()
    run("sync")
    copied = next(r for _, r in card.records()
                  if "Logged with its place".encode("utf-16-le") in r and r[22] & 1 and not r[22] & 2)
    references = {p: card.reference(p) for p in ("Mail/Journalled.eml", "Mail/Logged.eml", "Mail",
                                                 "Reports/2025", "Old plans/1998",
                                                 "Archive", "Archive/Scattered A.bin",
                                                 "Spreadsheets/Levels 2.csv", "Spreadsheets",
                                                 "Reports/2025/Tide report 07 of the north pier.txt")}
    card.move("Reports/2025/Tide report 07 of the north pier.txt", "Reports/Report seven.txt")
    card.unmount()  # or the kernel remembers what the system-compressed files were before
    card.mount()
    # Losses.
    card.delete("Mail/Journalled.eml", "Mail/Logged.eml", "Mail/Logged with its place.eml")
    card.play()
    for n in range(8):
        card.write(f"Archive/New {n}.txt", note(f"New {n}", "2025-09-01", 5000))
    card.play()
    card.delete("Reports/2025/Tide report 04 of the north pier.txt",
                "Reports/2025/Tide report 12 of the north pier.txt",
                "Reports/2025/Tide report 30 of the north pier.txt", "Spreadsheets/Levels 2.csv",
                "Spreadsheets/Levels 5.csv", "Spreadsheets/潮位表.csv", "Mail/Letter 3.eml",
                "Mail/Survey \U0001F30A party.eml", "Packed/Soundings 2.csv", "Archive/Grid.bin",
                "Archive/Scattered A.bin", "Empty.txt", f"{bin_}$IEMPTY1.csv", f"{bin_}$REMPTY1.csv")
    card.delete("Manuals/Manual 1.txt", "Manuals/Manual 2.txt")
    card.delete_tree("Reports/2025/Spring survey, drafts")
    card.delete_tree("Old plans")
    card.play()
    # The other link keeps the file.
    kept = next(row for row in card.lost if row[0] == "Spreadsheets/Levels 5.csv")
    card.lost.remove(kept)
    card.files["Archive/Levels of May.csv"] = kept[2]
    card.written["Archive/Levels of May.csv"] = kept[4]
    # The change journal, byte by byte, into a stream the driver made. The driver makes nothing in
    # $Extend: the file is made in the root and given its folder afterwards.
    card.shell("touch '/volume/$UsnJrnl'")
    card.play()
    records = [(references["Mail/Journalled.eml"], references["Mail"], "2025-09-01T08:00:00",
                0x100, "Draft letter.eml"),
               (references["Mail/Journalled.eml"], references["Mail"], "2025-09-01T08:01:00",
                0x1000, "Draft letter.eml"),
               (references["Mail/Journalled.eml"], references["Mail"], "2025-09-01T08:01:00",
                0x2000, "Journalled.eml"),
               (references["Mail/Journalled.eml"], references["Mail"], "2025-09-02T09:30:00",
                0x80000200, "Journalled.eml"),
               (references["Spreadsheets/Levels 2.csv"], references["Spreadsheets"],
                "2025-09-02T09:31:00", 0x80000200, "Levels 2.csv"),
               (references["Archive/Scattered A.bin"], references["Archive"],
                "2025-09-02T09:33:00", 0x80000200, "Scattered A.bin"),
               (references["Reports/2025/Tide report 07 of the north pier.txt"],
                references["Reports/2025"], "2025-09-02T09:32:00", 0x1000,
                "Tide report 07 of the north pier.txt")]
    data = b""
    first = 5 * 65536  # what came before was given back: the stream is sparse there
    for record in records:
        data += change(first + len(data), *record)
    with open(f"{card.place('$UsnJrnl')}:$J", "wb") as out:
        out.seek(first)
        out.write(data.ljust(8192, b"\0"))
    card.tell("Mail/Journalled.eml", deleted="2025-09-02T09:30:00Z",
              former_names=["Mail/Draft letter.eml"], modified=None, size=0,
              size_known=False)  # a journal tells neither
    card.tell("Archive/Scattered A.bin", deleted="2025-09-02T09:33:00Z")
    card.tell("Spreadsheets/Levels 2.csv", deleted="2025-09-02T09:31:00Z")
    card.unmount()
    # A page of the log, byte by byte: an entry that was taken out of a folder, and a record as it was
    # made.
    entry = index_entry(references["Mail/Logged.eml"], references["Mail"], "Logged.eml",
                        "2025-08-01T00:00:00", len(lost["Mail/Logged.eml"]))
    image = bytearray(card.image.read_bytes())
    log = next(r for _, r in card.records()
               if "$LogFile".encode("utf-16-le") in r and r[22] & 1)
    place = log_place(log) * 4096
    image[place + 16384:place + 20480] = log_page(bytes(200) + entry + copied)
    journal = "$UsnJrnl".encode("utf-16-le")
    at = next(at for at, r in card.records() if journal in r and r[22] & 1)
    name = image.index(journal, at)
    image[name - 66:name - 58] = struct.pack("<Q", 11 | 11 << 48)
    sealed = next(at for at, r in card.records() if "Sealed tender".encode("utf-16-le") in r and r[22] == 1)
    at = sealed + struct.unpack_from("<H", image, sealed + 20)[0]
    while (kind := struct.unpack_from("<I", image, at)[0]) != 0xFFFFFFFF:
        if kind == 0x80 and image[at + 9] == 0:
            struct.pack_into("<H", image, at + 12, 0x4000)
        elif kind == 0x80:
            struct.pack_into("<I", image, at, 0x100)  # $LOGGED_UTILITY_STREAM
        at += struct.unpack_from("<I", image, at + 4)[0]
    card.image.write_bytes(image)
    card.tell("Mail/Logged.eml", modified="2025-08-01T00:00:00Z")
    card.finish()


def log_place(record):
    """The first cluster of a record's main content: the runs of its $DATA."""
    at = struct.unpack_from("<H", record, 20)[0]
    while struct.unpack_from("<I", record, at)[0] != 0x80:
        at += struct.unpack_from("<I", record, at + 4)[0]
    runs = at + struct.unpack_from("<H", record, at + 32)[0]
    length, place = record[runs] & 15, record[runs] >> 4
    return int.from_bytes(record[runs + 1 + length:runs + 1 + length + place], "little", signed=True)


def small_life(card):
    card.mount()
    for folder in ("Data", "Data/Staff readings", "Lost sketches"):
        card.folder(folder)
    for n in range(1, 5):
        card.write(f"Data/Staff readings/Morning {n}.csv", readings(f"M{n}", "2025-10-01", 9000 * n))
        card.write(f"Lost sketches/Sketch {n}.png", chart(f"Sketch {n}", 120, 70 + n))
        card.write(f"Data/Note {n}.txt", note(f"Note {n}", "2025-10-01", 150 * n))
    card.write("Sound.wav", sound("Sound", 2))
    card.play()
    card.delete("Data/Staff readings/Morning 1.csv", "Data/Note 2.txt", "Sound.wav",
                "Data/Staff readings/Morning 3.csv")
    card.delete_tree("Lost sketches")
    card.unmount()
    card.finish()


def sectors_4k():
    small_life(Office("ntfs-4k-sectors", 32 * MIB, "OFFICE4K", sector_size=4096))


def clusters_64k():
    small_life(Office("ntfs-64k-clusters", 64 * MIB, "OFFICE64", cluster_size=65536))


RECIPES = {"ntfs-office": office, "ntfs-4k-sectors": sectors_4k, "ntfs-64k-clusters": clusters_64k}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or RECIPES:
        RECIPES[wanted]()
