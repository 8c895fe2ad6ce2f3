"""Cards whose files must be told by their content: all metadata wiped, or only chains lost.

    python3 recipes/bare_card.py [--seed 1] [--fragmented 12] [--clusters 8] [--recordings|--plain] [--folder samples]

Files of many kinds lie in one piece, others in two with whole files or text between them, as the kernel's driver put
them, and all are deleted. Of `bare-card` boot sector, tables and folders are blank; `split-card` is left as it is. With
--recordings those in two are AVI and MPEG, and `card` is `recordings`; `--fragmented 8` makes the sample. With --plain
those in two are of kinds in which hardly anything tells of another file's clusters, and `card` is `plain`;
`--fragmented 13` makes the sample. With another folder or seed the names say the seed. Needs what
`scripts/install-packages.sh --recipes` installs.
"""
import argparse
import io
import json
import pathlib
import random
import tarfile
import tempfile
import zipfile

import docx
from PIL import Image
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen import canvas

from card import SAMPLES, Card
from exfat_camera import KernelCamera
from kinds import ffmpeg
from kinds_card import kinds
from scenario import chart, note, readings

DAY = "2026-04-20"
LARGEST = 160_000  # bytes of the files of kinds.tar.zst that are taken


def picture(random, wide=320):
    plain = Image.open(io.BytesIO(chart(f"Tide {random.randrange(1000)}", wide, wide * 3 // 4))).convert("RGB")
    noise = Image.effect_noise(plain.size, random.randrange(40, 70)).convert("RGB")
    return Image.blend(plain, noise, 0.4)


def saved(image, kind, **options):
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def jpeg(random, _):
    return saved(picture(random, random.randrange(320, 640)), "JPEG", quality=random.randrange(75, 95),
                 progressive=random.random() < 0.3)


def png(random, _):
    return saved(picture(random, random.randrange(160, 320)), "PNG")


def archive(random, _):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for number in range(random.randrange(2, 6)):
            packed.writestr(f"Readings {number}.csv", random.randbytes(random.randrange(4000, 20000)).hex())
            packed.writestr(f"Picture {number}.jpg", jpeg(random, None))
    return out.getvalue()


def document(random, _):
    written = docx.Document()
    for line in note(f"Kelp Point {random.randrange(1000)}", DAY, 8000).decode().splitlines():
        written.add_paragraph(line)
    written.add_picture(io.BytesIO(jpeg(random, None)))
    out = io.BytesIO()
    written.save(out)
    return out.getvalue()


def report(random, _):
    out = io.BytesIO()
    page = canvas.Canvas(out, invariant=1)
    for _ in range(3):
        page.drawString(60, 780, f"Levels {random.randrange(1000)}")
        page.drawImage(ImageReader(picture(random)), 60, 80, 300, 225)
        page.showPage()
    page.save()
    return out.getvalue()


def clip(random, folder):
    ffmpeg(folder, "clip.mp4", "-c:v", "libx264", "-crf", random.randrange(14, 26), "-c:a", "aac",
           *(["-movflags", "+faststart"] if random.random() < 0.3 else []))
    return (folder / "clip.mp4").read_bytes()


def recording(name, *options):
    def record(random, folder):
        ffmpeg(folder, name, *options, "-q:v", random.randrange(2, 8),
               "-vf", f"noise=alls={random.randrange(5, 30)}:all_seed={random.randrange(1 << 20)}")
        return (folder / name).read_bytes()
    return record


def text(random, _):
    return note(f"Pier {random.randrange(1000)}", DAY, random.randrange(9000, 60000))


def table(random, _):
    return readings(f"Gauge {random.randrange(1000)}", DAY, random.randrange(9000, 60000))


def page(random, _):
    return b"<!DOCTYPE html><html><body><p>" + text(random, None) + b"</p></body></html>\n"


def levels(random, _):
    return json.dumps([{"gauge": "Kelp Point", "level": random.randrange(10000)}
                       for _ in range(random.randrange(500, 2000))]).encode()


def tar(random, _):
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as packed:
        for number in range(random.randrange(2, 5)):
            content = text(random, None)
            member = tarfile.TarInfo(f"Note {number}.txt")
            member.size = len(content)
            packed.addfile(member, io.BytesIO(content))
    return out.getvalue()


def sound(name, *options):
    def record(random, folder):
        ffmpeg(folder, name, *options, "-vn", "-af", f"volume={random.uniform(0.1, 0.9):.3f}")
        return (folder / name).read_bytes()
    return record


def plain(kind, **options):
    return lambda random, _: saved(picture(random, random.randrange(120, 320)), kind, **options)


MAKERS = {"jpg": jpeg, "png": png, "zip": archive, "docx": document, "pdf": report, "mp4": clip}
RECORDINGS = {"avi": recording("clip.avi", "-c:v", "mjpeg", "-c:a", "pcm_s16le"),
              "mpg": recording("clip.mpg", "-c:v", "mpeg2video", "-r", 25, "-c:a", "mp2"),
              "ts": recording("clip.ts", "-c:v", "mpeg2video", "-r", 25, "-c:a", "mp2"),
              "m2ts": recording("clip.m2ts", "-c:v", "mpeg2video", "-r", 25, "-c:a", "mp2", "-mpegts_m2ts_mode", "1")}
PLAIN = {"wav": sound("note.wav"), "bmp": plain("BMP"), "tif": plain("TIFF"), "tar": tar, "aiff": sound("note.aiff"),
         "m4a": sound("note.m4a", "-c:a", "aac"), "gif": plain("GIF"), "webp": plain("WEBP", quality=90),
         "mp3": sound("note.mp3", "-c:a", "libmp3lame"), "txt": text, "csv": table, "html": page, "json": levels}
# Nothing but frames: no tag, none that tells of the others, no encoder's name.
FRAMES = {"mp3": sound("frames.mp3", "-c:a", "libmp3lame", "-write_xing", "0", "-id3v2_version", "0"),
          "aac": sound("frames.aac", "-c:a", "aac", "-flags", "+bitexact", "-f", "adts")}


def parts(content, size):
    return (len(content) + size - 1) // size


def between(random):
    """What lies between two pieces: a whole picture, or text that nothing tells the place of."""
    if random.random() < 0.5:
        return "jpg", jpeg(random, None)
    return "txt", note("Between", DAY, random.randrange(5000, 40000))


def wipe(image, start):
    """All that stands before the first cluster: the root folder too, which holds all files."""
    data = bytearray(image.read_bytes())
    data[:start] = bytes(start)
    image.write_bytes(data)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--fragmented", type=int, default=12)
    parser.add_argument("--clusters", type=int, default=8, help="sectors of a cluster")
    parser.add_argument("--recordings", action="store_true", help="the files in pieces are AVI and MPEG")
    parser.add_argument("--plain", action="store_true", help="the files in pieces are of kinds that tell little")
    parser.add_argument("--exfat", action="store_true", help="split-card on exFAT, by its driver")
    parser.add_argument("--folder", type=pathlib.Path, default=SAMPLES)
    asked = parser.parse_args()
    own = asked.folder == SAMPLES and asked.seed == 1
    kind = "recordings" if asked.recordings else "plain" if asked.plain else "card"
    for name in ("split-exfat",) if asked.exfat else (f"bare-{kind}", f"split-{kind}"):
        play(name if own else f"{name}-{asked.seed}", asked)


def play(name, asked):
    bare = name.startswith("bare")
    chance = random.Random(f"{name} {asked.seed}")
    cluster = asked.clusters * 512
    if asked.exfat:
        card = KernelCamera(name, 64 << 20, ["mkfs.exfat", "-c", str(cluster)], cluster, "exfat", "iocharset=utf8",
                            folder=asked.folder)
    else:
        card = Card(name, 64 << 20, ["mkfs.fat", "-F", "16", "-s", str(asked.clusters), "-r", "1024", "-i", "0BA2E000"],
                    cluster, folder=asked.folder)
    makers = RECORDINGS if asked.recordings else PLAIN if asked.plain else MAKERS
    names = list(makers)
    with tempfile.TemporaryDirectory() as scratch:
        split = {f"Split {n:03}.{names[n % len(names)]}": makers[names[n % len(names)]](chance, pathlib.Path(scratch))
                 for n in range(asked.fragmented)}
        apart = random.Random(f"frames {asked.seed}")
        frames = {f"Frames.{kind}": make(apart, pathlib.Path(scratch)) for kind, make in FRAMES.items()}
    card.mount()
    card.at(f"{DAY} 08:00:00")
    holes = []
    for content in split.values():
        whole = parts(content, cluster)
        first = chance.randrange(1, whole)
        for part in (first, whole - first):
            path = f"Hole {len(holes):03}.tmp"
            holes.append(path)
            card.write(path, chance.randbytes(part * cluster))
            kind, other = between(chance)
            card.write(f"Between {len(holes):03}.{kind}", other)
    if bare and makers is MAKERS:
        for path, content in kinds().items():
            if len(content) < LARGEST:
                card.write(path, content)
        for path, content in frames.items():
            card.write(path, content)
    card.unmount()
    card.play()
    card.mount()
    card.delete(*holes)
    card.unmount()
    card.play()
    card.mount()
    card.at(f"{DAY} 12:00:00")
    for path, content in split.items():
        card.write(path, content)
    card.delete(*list(card.files))
    card.unmount()
    card.play()
    start = card.data_start(card.image.read_bytes())
    # What was in the holes is overwritten, and of no interest.
    card.lost = [lost for lost in card.lost if "Hole" not in lost[0]]
    if bare:
        wipe(card.image, start)
        card.data_start = lambda image: start
    card.finish()


if __name__ == "__main__":
    main()
