"""Content for the sample volumes: a tide-gauge survey party on an island coast.

Everything is made up. Each file is well-formed for its kind, compresses well,
and differs from every other file in each 512 bytes, so that a cluster of it
can be recognised wherever it lies.
"""
import io
import struct
import wave
import zlib


def readings(station, day, size):
    """CSV of water levels, one line a minute, cut at the end of a line."""
    out = io.StringIO()
    out.write("station,time,level_mm,pressure_pa\r\n")
    minute = 0
    while out.tell() < size:
        level = (minute * minute * 7 + hash_of(station) + minute * 131) % 4200
        out.write(f"{station},{day}T{minute // 60 % 24:02}:{minute % 60:02}:"
                  f"{minute // 1440:02}Z,{level},{101325 - level // 3}\r\n")
        minute += 1
    return out.getvalue().encode()


def note(title, day, size):
    """A plain text note."""
    out = [f"{title}\n{day}\n"]
    line = 0
    while sum(map(len, out)) < size:
        line += 1
        out.append(f"{line:04} {title}: staff {line * 17 % 389} against bench mark "
                   f"{hash_of(title) % 97}, swell {line * 7 % 31} cm\n")
    return "".join(out).encode()


def chart(title, width, height):
    """A PNG of a tide curve, stored rows, so that it compresses in the sample."""
    seed = hash_of(title)
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        row = bytearray([250]) * width
        row[0:4] = struct.pack(">I", (seed + y) & 0xFFFFFFFF)
        for x in range(y % 16, width, 16):
            row[x] = (seed + x * y) % 200
        rows += row

    def chunk(kind, body):
        return (struct.pack(">I", len(body)) + kind + body
                + struct.pack(">I", zlib.crc32(kind + body)))
    return (b"\x89PNG\r\n\x1a\n"
            + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0))
            + chunk(b"tEXt", b"Title\0" + title.encode("latin-1", "replace"))
            + chunk(b"IDAT", zlib.compress(bytes(rows), 0)) + chunk(b"IEND", b""))


def sound(title, seconds):
    """A WAV sound note: a slow sweep over a counter."""
    seed = hash_of(title)
    frames = bytearray()
    for n in range(int(8000 * seconds)):
        if n % 64 == 0:
            frames += struct.pack("<II", seed & 0xFFFFFFFF, n)
        elif n % 64 >= 8:
            frames.append(128 + n // 4096 % 32)
    out = io.BytesIO()
    with wave.open(out, "wb") as w:
        w.setnchannels(1)
        w.setsampwidth(1)
        w.setframerate(8000)
        w.writeframes(bytes(frames))
    return out.getvalue()


def hash_of(text):
    return zlib.crc32(text.encode())
