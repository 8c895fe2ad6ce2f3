"""Volumes for the benchmarks, written directly: many entries, half of them deleted.

Each make_* writes a volume to `path` and returns how many bytes of metadata a scan must read.
"""
import struct

CLUSTER = 512
PER_FOLDER = 500


def entry(name, attributes, cluster, size, deleted, number):
    name = (b"\xe5" + name[1:]) if deleted else name
    time_, date = (number % 86400) // 2, 0x5C61 + number % 20
    return struct.pack("<11sBBBHHHHHHHI", name, attributes, 0, number % 200, time_ & 0xBF7D, date,
                       date, cluster >> 16, time_ & 0xBF7D, date, cluster & 0xFFFF, size)


def make_fat(path, count, content=2):
    """FAT32, written directly: a boot sector, two FATs, folders of PER_FOLDER files each."""
    folders = (count + PER_FOLDER - 1) // PER_FOLDER
    per_folder = (PER_FOLDER + 2) * 32 // CLUSTER + 1
    clusters = 1000 + folders * (per_folder + 1) + count * content
    fat_sectors = (clusters * 4 + 8191) // 512
    total = 32 + 2 * fat_sectors + clusters
    boot = bytearray(512)
    struct.pack_into("<3s8sHBHBHHBHHHII", boot, 0, b"\xeb\x58\x90", b"bench   ", 512, 1, 32, 2, 0,
                     0, 0xF8, 0, 63, 255, 0, total)
    struct.pack_into("<IHHIHH", boot, 36, fat_sectors, 0, 0, 2, 1, 6)
    boot[510:512] = b"\x55\xaa"
    fat = bytearray(fat_sectors * 512)
    heap = bytearray()
    next_cluster = 2

    def allocate(how_many, chained=True):
        nonlocal next_cluster
        first = next_cluster
        next_cluster += how_many
        for c in range(first, next_cluster if chained else first):
            last = c + 1 == next_cluster
            struct.pack_into("<I", fat, 4 * c, 0x0FFFFFFF if last else c + 1)
        return first

    struct.pack_into("<II", fat, 0, 0x0FFFFFF8, 0x0FFFFFFF)
    root_clusters = (folders * 32) // CLUSTER + 1
    allocate(root_clusters)
    root = bytearray()
    body = []
    number = 0
    for f in range(folders):
        first = allocate(per_folder)
        root += entry(f"D{f:07}   ".encode(), 0x10, first, 0, False, f)
        inside = bytearray(entry(b".          ", 0x10, first, 0, False, f)
                           + entry(b"..         ", 0x10, 0, 0, False, f))
        body.append((first, per_folder, inside))
        for _ in range(min(PER_FOLDER, count - number)):
            deleted = number % 2 == 1
            c = allocate(content, chained=not deleted)
            inside += entry(f"F{number:07}CSV".encode(), 0x20, c, content * CLUSTER - 12, deleted,
                            number)
            number += 1
    with open(path, "wb") as out:
        out.write(boot.ljust(32 * 512, b"\0"))
        out.write(fat)
        out.write(fat)
        heap_at = out.tell()
        out.write(root.ljust(root_clusters * CLUSTER, b"\0"))
        line = b"station,time,level_mm\n" * 24
        for first, length, inside in body:
            out.seek(heap_at + (first - 2) * CLUSTER)
            out.write(inside.ljust(length * CLUSTER, b"\0"))
            files = (len(inside) // 32 - 2) * content
            out.write((line[:CLUSTER]) * files)
        out.truncate(heap_at + clusters * CLUSTER)
    return 2 * len(fat) + len(root) + folders * per_folder * CLUSTER


def fixed_up(record):
    """A FILE record with its update sequence in place."""
    record = bytearray(record.ljust(1024, b"\0"))
    record[0x30:0x32] = b"\1\0"
    for i in (1, 2):
        record[0x30 + 2 * i:0x32 + 2 * i] = record[512 * i - 2:512 * i]
        record[512 * i - 2:512 * i] = b"\1\0"
    return bytes(record)


def resident(kind, value):
    length = (24 + len(value) + 7) // 8 * 8
    return (struct.pack("<IIBBHHHIHBB", kind, length, 0, 0, 24, 0, 0, len(value), 24, 0, 0)
            + value).ljust(length, b"\0")


def non_resident(kind, clusters, size, place):
    runs = (b"\x44" + struct.pack("<II", clusters, place) + b"\0").ljust(16, b"\0")
    return struct.pack("<IIBBHHHQQHB5xQQQ", kind, 64 + len(runs), 1, 0, 64, 0, 0, 0, clusters - 1, 64, 0,
                       clusters * 4096, size, size) + runs


def ntfs_record(number, flags, parent, name, data=b""):
    when = 133500000000000000 + number * 10_000_000
    info = resident(0x10, struct.pack("<QQQQI12x", when, when, when, when, 0x20))
    text = name.encode("utf-16-le")
    kind = 0x10000000 if flags & 2 else 0
    named = resident(0x30, struct.pack("<QQQQQQQIIBB", parent | 1 << 48, when, when, when, when, 4096,
                                       4000, kind, 0, len(name), 1) + text)
    body = info + named + data + struct.pack("<II", 0xFFFFFFFF, 0)
    sequence = 1 if flags & 1 else 2
    head = struct.pack("<4sHHQHHHHIIQHHI", b"FILE", 0x30, 3, 0, sequence, 1, 0x38, flags,
                       0x38 + len(body), 1024, 0, 0, 0, number)
    return fixed_up(head.ljust(0x38, b"\0") + body)


def make_ntfs(path, count, content=1):
    records = 64 + count + count // PER_FOLDER + 1
    mft_clusters = (records * 1024 + 4095) // 4096
    data_at = 16 + mft_clusters
    total = data_at + count * content + 64
    bitmap_clusters = total // 8 // 4096 + 1
    total += bitmap_clusters
    with open(path, "wb") as out:
        boot = bytearray(512)
        struct.pack_into("<3s8sHB", boot, 0, b"\xeb\x52\x90", b"NTFS    ", 512, 8)
        struct.pack_into("<QQQbxxxbxxxQ", boot, 0x28, total * 8, 16, 8, -10, 1, 0x0A11CE)
        boot[510:512] = b"\x55\xaa"
        out.write(boot)
        bits_at = total - bitmap_clusters
        out.seek(16 * 4096)
        own = {0: non_resident(0x80, mft_clusters, records * 1024, 16),
               6: non_resident(0x80, bitmap_clusters, bitmap_clusters * 4096, bits_at)}
        for number in range(64):
            if number in (0, 1, 2, 3, 4, 6):
                out.write(ntfs_record(number, 1, 5, f"$Own{number}", own.get(number, b"")))
            else:
                out.write(ntfs_record(number, 3 if number == 5 else 0, 5, f"Own{number}"))
        number, folder = 64, 5
        for n in range(count):
            if n % PER_FOLDER == 0:
                out.write(ntfs_record(number, 3, 5, f"Folder {n // PER_FOLDER:06}"))
                folder = number
                number += 1
            data = non_resident(0x80, content, 4000, data_at + n * content)
            out.write(ntfs_record(number, 1 - n % 2, folder, f"Reading {n:07}.csv", data))
            number += 1
        out.truncate(total * 4096 + 512)
    return records * 1024


def make_exfat(path, count, content=1):
    def checksum(data):
        total = 0
        for i, byte in enumerate(data):
            if i not in (2, 3):
                total = ((total << 15 | total >> 1) & 0xFFFF) + byte & 0xFFFF
        return total

    def entry_set(name, folder, first, size, live):
        text = name.encode("utf-16-le")
        names = [text[i:i + 30] for i in range(0, len(text), 30)]
        data = bytearray(struct.pack("<BBHHHIII5B7x", 0x85, 1 + len(names), 0, 0x10 if folder else 0x20, 0,
                                     0x5C615000, 0x5C615000, 0x5C615000, 0, 0, 128, 128, 128))
        data += struct.pack("<BBBBHHQIIQ", 0xC0, 3, 0, len(name), 0, 0, size, 0, first, size)
        for part in names:
            data += b"\xc1\0" + part.ljust(30, b"\0")
        struct.pack_into("<H", data, 2, checksum(data))
        if not live:
            for i in range(0, len(data), 32):
                data[i] &= 0x7F
        return bytes(data)

    folders = count // PER_FOLDER + 1
    per_folder = PER_FOLDER * 128 // 4096 + 1
    clusters = 100 + folders * (per_folder + 1) + count * content
    fat = (clusters * 4 + 8 + 4095) // 4096 * 8
    heap = 128 + fat
    boot = bytearray(512 * 11)
    bits = clusters // 8 // 4096 + 1
    root_clusters = folders * 96 // 4096 + 1
    struct.pack_into("<3s8s", boot, 0, b"\xeb\x76\x90", b"EXFAT   ")
    struct.pack_into("<QQIIIIIIHHBBBB", boot, 64, 0, heap + clusters * 8, 128, fat, heap, clusters, 2 + bits,
                     0x0A11CE, 0x100, 0, 9, 3, 1, 0x80)
    boot[510:512] = b"\x55\xaa"
    total = 0
    for i, byte in enumerate(boot):
        if i not in (106, 107, 112):
            total = ((total << 31 | total >> 1) & 0xFFFFFFFF) + byte & 0xFFFFFFFF
    table = bytearray(fat * 512)
    for cluster in range(2, 2 + bits + root_clusters):
        last = cluster in (1 + bits, 1 + bits + root_clusters)
        struct.pack_into("<I", table, 4 * cluster, 0xFFFFFFFF if last else cluster + 1)
    root = struct.pack("<BB18xIQ", 0x81, 0, 2, bits * 4096)
    at = 2 + bits + root_clusters
    with open(path, "wb") as out:
        out.write(boot + struct.pack("<I", total) * 128)
        out.seek(128 * 512)
        out.write(table)
        bodies = []
        first_file = at + folders * per_folder
        n = 0
        for f in range(folders):
            inside = b""
            for _ in range(min(PER_FOLDER, count - n)):
                inside += entry_set(f"Coast picture {n:07}.png", False, first_file + n * content, 4000,
                                    n % 2 == 0)
                n += 1
            root += entry_set(f"Folder{f:06}", True, at, per_folder * 4096, True)
            bodies.append((at, inside))
            at += per_folder
        out.seek(heap * 512 + bits * 4096)
        out.write(root)
        for where, inside in bodies:
            out.seek(heap * 512 + (where - 2) * 4096)
            out.write(inside)
        out.truncate((heap + clusters * 8) * 512)
    return len(table) // 64 + len(root) + folders * per_folder * 4096


def make_hfsplus(path, count, content=1):
    """Half of the files stand in nodes that are marked free, as after many deletions."""
    block = 4096

    def key(parent, name):
        text = name.encode("utf-16-be")
        return struct.pack(">HIH", 6 + len(text), parent, len(name)) + text

    def node(records, forward, back):
        data = struct.pack(">IIBBHH", forward, back, 0xFF, 1, len(records), 0)
        offsets = [14]
        for record in records:
            data += record
            offsets.append(len(data))
        ends = b"".join(struct.pack(">H", o) for o in reversed(offsets))
        return data.ljust(8192 - len(ends), b"\0") + ends

    def fork(size, first):
        return struct.pack(">QII", size, block, -(-size // block)) + struct.pack(
            ">II", first, -(-size // block)).ljust(64, b"\0")

    date = 3850000000
    files = []
    folder = 16
    for n in range(count):
        if n % PER_FOLDER == 0:
            folder = 16 + count + n // PER_FOLDER
            files.append((2, f"Folder {n // PER_FOLDER:06}", struct.pack(
                ">HHIIIIIII", 1, 0, 0, folder, date, date, date, date, 0).ljust(88, b"\0")))
        record = struct.pack(">HHIIIIIII", 2, 2, 0, 16 + n, date, date + n, date, date, 0)
        record = record.ljust(88, b"\0") + fork(4000, 100000 + n * content) + fork(0, 0)[:80]
        files.append((folder, f"Sheet {n:07}.png", record))
    root = (1, "BENCH", struct.pack(">HHIIIIIII", 1, 0, 0, 2, date, date, date, date, 0).ljust(88, b"\0"))
    per_node = 8192 // 320
    live = [root] + [f for i, f in enumerate(files) if f[2][:2] == b"\0\1" or i % 2 == 0]
    dead = [f for i, f in enumerate(files) if f[2][:2] == b"\0\2" and i % 2 == 1]
    nodes = [part[i:i + per_node] for part in (live, dead) for i in range(0, len(part), per_node)]
    used = 1 + -(-len(live) // per_node)
    map_nodes = -(-(len(nodes) + 1) // ((8192 - 20) * 8))
    total_nodes = 1 + len(nodes) + map_nodes
    bits = bytearray(-(-total_nodes // 8))
    for i in [*range(used), *range(1 + len(nodes), total_nodes)]:
        bits[i // 8] |= 0x80 >> i % 8
    first_bits = 8192 - 256
    header = struct.pack(">IIBBHH", 1 + len(nodes), 0, 1, 0, 3, 0) + struct.pack(
        ">HIIIIHHIIHIBBI", 1, 1, len(live), 1, used - 1, 8192, 516, total_nodes, 0, 0, 8192, 0, 0, 6)
    header = header.ljust(248, b"\0") + bytes(bits[:first_bits])
    header = header.ljust(8184, b"\0") + struct.pack(">HHHH", 8184, 248, 120, 14)
    catalog_size = total_nodes * 8192
    catalog_blocks = catalog_size // block
    blocks = max(100000 + count * content, catalog_blocks + 1000) + 100
    bitmap_blocks = blocks // 8 // block + 1
    volume = struct.pack(">HHI4sIIIIIIIIIIIIIIIQ32x", 0x482B, 4, 0x100, b"10.0", 0, date, date, 0, date, 0,
                         0, block, blocks, 1000, 0, 65536, 65536, 16 + 2 * count, 1, 1)
    volume += fork(bitmap_blocks * block, 1) + fork(8192, 1 + bitmap_blocks)
    volume += fork(catalog_size, 3 + bitmap_blocks) + bytes(160)
    with open(path, "wb") as out:
        out.seek(1024)
        out.write(volume)
        out.seek((1 + bitmap_blocks) * block)
        out.write(struct.pack(">IIBBHH", 0, 0, 1, 0, 3, 0) + struct.pack(
            ">HIIIIHHII", 0, 0, 0, 0, 0, 8192, 10, 1, 0))
        out.seek((3 + bitmap_blocks) * block)
        out.write(header)
        for i, records in enumerate(nodes):
            out.write(node([key(p, n) + r for p, n, r in records], 0, 0))
        rest = bits[first_bits:]
        for i in range(map_nodes):
            part = bytes(rest[i * 8170:(i + 1) * 8170])
            data = struct.pack(">IIBBHH", 2 + len(nodes) + i if i + 1 < map_nodes else 0, 0, 2, 0, 1, 0)
            out.write((data + part).ljust(8188, b"\0") + struct.pack(">HH", 8188, 14))
        out.truncate(blocks * block)
    return catalog_size
