"""A small HFS+ formatter after TN1150, as Debian has none; and what no driver here writes: resource
forks, compressed files and journals, byte by byte. The files are the kernel driver's work.
"""
import struct
import zlib

BLOCK = 4096
NODE = 4096
EPOCH = 2082844800  # seconds from 1904 to 1970


def fork(size, *extents, clump=BLOCK):
    data = struct.pack(">QII", size, clump, sum(count for _, count in extents))
    for extent in extents:
        data += struct.pack(">II", *extent)
    return data.ljust(80, b"\0")


def node(kind, height, records, forward=0, backward=0):
    data = struct.pack(">IIBBHH", forward, backward, kind, height, len(records), 0)
    offsets = [14]
    for record in records:
        data += record
        offsets.append(len(data))
    table = b"".join(struct.pack(">H", o) for o in reversed(offsets))
    return data.ljust(NODE - len(table), b"\0") + table


def header_node(total, depth, root, leaves, first, last, used, longest_key, compare=0, flags=6):
    record = struct.pack(">HIIIIHHIIHIBBI", depth, root, leaves, first, last, NODE, longest_key, total,
                         total - used, 0, NODE, 0, compare, flags).ljust(106, b"\0")
    bits = bytearray(NODE - 256)
    for i in range(used):
        bits[i // 8] |= 0x80 >> i % 8
    return node(1, 0, [record, bytes(128), bytes(bits)])


def key(parent, name):
    text = name.encode("utf-16-be")
    return struct.pack(">HIH", 6 + len(text), parent, len(text) // 2) + text


def format_volume(path, size, label, when, extended=False, block=BLOCK, catalog=48):
    """`when` in seconds since 1970; `block` in bytes; `catalog` in nodes: a driver adds what more it
    needs. With `extended` an HFSX volume, case-sensitive."""
    total, date = size // block, when + EPOCH
    places, at = {}, -(-1536 // block)
    for name, nodes in (("allocation", -(-total // (8 * NODE))), ("extents", 8), ("catalog", catalog),
                        ("attributes", 8)):
        blocks = -(-nodes * NODE // block)
        places[name] = (at, blocks)
        at += blocks
    bitmap = bytearray(places["allocation"][1] * block)
    for used in [*range(at), *range(total - -(-1024 // block), total)]:
        bitmap[used // 8] |= 0x80 >> used % 8
    root = struct.pack(">HHIIIIIII", 1, 0, 0, 2, date, date, date, date, 0)
    root += struct.pack(">IIBBHI", 0, 0, 0, 0, 0o40777, 1)
    thread = struct.pack(">HHIH", 3, 0, 1, len(label)) + label.encode("utf-16-be")
    leaf = node(0xFF, 1, [key(1, label) + root.ljust(88, b"\0"), key(2, "") + thread])
    compare = 0xBC if extended else 0
    header = struct.pack(">HHI", 0x4858 if extended else 0x482B, 5 if extended else 4, 0x100)
    header += b"10.0" + struct.pack(">IIIIIIIIIIIIIIIQ", 0, date, date, 0, date, 0, 0, block, total,
                                    total - at - -(-1024 // block), at, 65536, 65536, 16, 1, 1)
    header += bytes(24) + bytes.fromhex("0A11CE0000000031")
    for name in ("allocation", "extents", "catalog", "attributes"):
        first, blocks = places[name]
        header += fork(blocks * block, (first, blocks))
    header = header.ljust(512, b"\0")
    with open(path, "r+b") as out:
        def put(name, data):
            out.seek(places[name][0] * block)
            out.write(data)
        out.seek(1024)
        out.write(header)
        out.seek(size - 1024)
        out.write(header)
        put("allocation", bitmap)
        def nodes(name):
            return places[name][1] * block // NODE

        put("extents", header_node(nodes("extents"), 0, 0, 0, 0, 0, 1, 10, flags=2))
        put("catalog", header_node(nodes("catalog"), 1, 1, 2, 1, 1, 2, 516, compare) + leaf)
        put("attributes", header_node(nodes("attributes"), 0, 0, 0, 0, 0, 1, 266))


class Volume:
    """A formatted volume in memory, for what is written byte by byte."""

    def __init__(self, image):
        self.image = image

    def extent(self, at):
        first, blocks = struct.unpack_from(">II", self.image, 1024 + at + 16)
        return first * BLOCK, blocks * BLOCK

    def nodes(self):
        """The catalog's nodes, with their places. It lies in one piece here."""
        start, length = self.extent(272)
        for at in range(start, start + length, NODE):
            yield at, bytes(self.image[at:at + NODE])

    def allocate(self, content):
        """Free blocks at the end of the volume, filled with `content`: the first, how many."""
        start, _ = self.extent(112)
        blocks = -(-len(content) // BLOCK)
        last = len(self.image) // BLOCK - 2
        while any(self.image[start + b // 8] & 0x80 >> b % 8 for b in range(last - blocks + 1, last + 1)):
            last -= 1
        first = last - blocks + 1
        for b in range(first, last + 1):
            self.image[start + b // 8] |= 0x80 >> b % 8
        self.image[first * BLOCK:first * BLOCK + len(content)] = content
        for header in (1024, len(self.image) - 1024):
            free = struct.unpack_from(">I", self.image, header + 48)[0]
            struct.pack_into(">I", self.image, header + 48, free - blocks)
        return first, blocks

    def file_record(self, cnid):
        """Where the record of a living file lies."""
        for at, data in self.nodes():
            if data[8] != 0xFF:
                continue
            count = struct.unpack_from(">H", data, 10)[0]
            for i in range(count):
                offset = struct.unpack_from(">H", data, NODE - 2 * (i + 1))[0]
                record = offset + 2 + struct.unpack_from(">H", data, offset)[0]
                kind, found = struct.unpack_from(">H6xI", data, record)
                if kind == 2 and found == cnid:
                    return at + record
        raise KeyError(cnid)

    def set_resource_fork(self, cnid, content, finder=b""):
        first, blocks = self.allocate(content)
        record = self.file_record(cnid)
        self.image[record + 168:record + 248] = fork(len(content), (first, blocks))
        self.image[record + 48:record + 48 + len(finder)] = finder

    def set_attributes(self, attributes):
        """`attributes`: (CNID, name, inline value); the tree must be empty."""
        start, _ = self.extent(352)
        records = []
        for cnid, name, value in sorted(attributes):
            text = name.encode("utf-16-be")
            records.append(struct.pack(">HHIIH", 12 + len(text), 0, cnid, 0, len(text) // 2) + text
                           + struct.pack(">IQI", 0x10, 0, len(value)) + value + bytes(len(value) % 2))
        data = header_node(8, 1, 1, len(records), 1, 1, 2, 266) + node(0xFF, 1, records)
        self.image[start:start + len(data)] = data

    def set_journal(self, blocks, order):
        """A journal of one replayed transaction: `blocks` are (place, bytes) pairs. It wraps: the
        transaction begins near the end of the ring. `order`: "<" or ">"."""
        size, head = 96 * BLOCK, 512
        ring = bytearray(size - head)
        listing = struct.pack(order + "HHIiI", 0xFF, len(blocks) + 1, 4096 + sum(len(b) for _, b in
                                                                               blocks), 0, 0)
        listing += struct.pack(order + "QII", 0, 0, 0)
        for place, data in blocks:
            listing += struct.pack(order + "QII", place // 512, len(data), 0)
        transaction = listing.ljust(4096, b"\0") + b"".join(data for _, data in blocks)
        begin = len(ring) - 4096 - NODE // 2  # the first node is cut by the end of the ring
        for i, byte in enumerate(transaction):
            ring[(begin + i) % len(ring)] = byte
        end = head + (begin + len(transaction)) % len(ring)
        header = struct.pack(order + "IIQQQIII", 0x4A4E4C78, 0x12345678, end, end, size, 4096, 0, head)
        first, _ = self.allocate(header.ljust(head, b"\0") + bytes(ring))
        info, _ = self.allocate(struct.pack(">I32xQQ", 1, first * BLOCK, size).ljust(BLOCK, b"\0"))
        for at in (1024, len(self.image) - 1024):
            flags = struct.unpack_from(">I", self.image, at + 4)[0]
            struct.pack_into(">I", self.image, at + 4, flags | 0x2000)
            struct.pack_into(">I", self.image, at + 12, info)


def decmpfs(method, content, size):
    return b"fpmc" + struct.pack("<IQ", method, size) + content


def compressed_fork(content):
    """A resource fork with content in zlib blocks of 64 KiB."""
    blocks = [zlib.compress(content[i:i + 65536]) for i in range(0, len(content), 65536)]
    at, table = 4 + 8 * len(blocks), struct.pack("<I", len(blocks))
    for block in blocks:
        table += struct.pack("<II", at, len(block))
        at += len(block)
    data = table + b"".join(blocks)
    return (struct.pack(">IIII", 256, 256 + 4 + len(data), 4 + len(data), 50).ljust(256, b"\0")
            + struct.pack(">I", len(data)) + data + bytes(50))
