"""One file of every kind, by real encoders: what content is checked against.

    python3 recipes/kinds.py [--to samples/kinds.tar.zst]

Needs what `scripts/install-packages.sh --recipes` installs. Each file is small, and named after its format.
"""
import argparse
import email.message
import email.utils
import io
import json
import mailbox
import pathlib
import sqlite3
import subprocess
import tarfile
import tempfile

import docx
import openpyxl
import xlwt
from PIL import Image
from reportlab.pdfgen import canvas

import scenario

ROOT = pathlib.Path(__file__).resolve().parent.parent
DAY = "2026-04-02"


def run(*command, **more):
    subprocess.run([str(part) for part in command], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                   **more)


def ffmpeg(folder, name, *options, sound=True, video=True):
    """A clip of two seconds of a moving pattern and a tone."""
    sources = []
    if video:
        sources += ["-f", "lavfi", "-i", "testsrc2=size=192x144:rate=12:duration=2"]
    if sound:
        sources += ["-f", "lavfi", "-i", "sine=frequency=440:duration=2"]
    run("ffmpeg", "-y", *sources, "-fflags", "+bitexact", *options, folder / name)


def pictures(folder):
    chart = Image.open(io.BytesIO(scenario.chart("Basalt K3", 320, 240))).convert("RGB")
    noisy = Image.effect_noise((320, 240), 60).convert("RGB")
    picture = Image.blend(chart, noisy, 0.4)
    picture.save(folder / "chart.png")
    (folder / "stored.png").write_bytes(scenario.chart("Stored", 120, 90))
    picture.save(folder / "baseline.jpg", quality=85)
    picture.save(folder / "progressive.jpg", quality=85, progressive=True)
    picture.convert("L").save(folder / "grey.jpg", quality=70, optimize=True)
    picture.save(folder / "chart.ppm")
    run("cjpeg", "-quality", 85, "-restart", "4B", "-outfile", folder / "restarts.jpg", folder / "chart.ppm")
    (folder / "chart.ppm").unlink()
    thumbnail = io.BytesIO()
    picture.resize((80, 60)).save(thumbnail, "JPEG")
    exif = Image.Exif()
    exif[0x010F] = "Ebb Works"
    exif[0x9003] = "2026:04:02 10:15:00"
    picture.save(folder / "thumbnail.jpg", quality=85, exif=exif,
                 comment=thumbnail.getvalue()[:60000])
    frames = [picture.rotate(10 * turn).quantize(64) for turn in range(4)]
    frames[0].save(folder / "turning.gif", save_all=True, append_images=frames[1:])
    picture.save(folder / "chart.bmp")
    picture.save(folder / "strips.tif", compression="tiff_lzw")
    run("convert", folder / "chart.png", "-define", "tiff:tile-geometry=64x64", folder / "tiles.tif")
    picture.save(folder / "chart.webp", quality=80)
    picture.save(folder / "lossless.webp", lossless=True)
    run("convert", folder / "chart.png", folder / "chart.psd")
    run("heif-enc", folder / "chart.png", "-o", folder / "chart.heic")


def recordings(folder):
    ffmpeg(folder, "h264.mp4", "-c:v", "libx264", "-c:a", "aac")
    ffmpeg(folder, "index-first.mp4", "-c:v", "libx264", "-c:a", "aac", "-movflags", "+faststart")
    ffmpeg(folder, "fragments.mp4", "-c:v", "libx264", "-c:a", "aac", "-movflags", "frag_keyframe+empty_moov")
    ffmpeg(folder, "h265.mov", "-c:v", "libx265", "-tag:v", "hvc1", "-c:a", "aac")
    ffmpeg(folder, "phone.3gp", "-c:v", "libx264", "-c:a", "aac", "-f", "3gp")
    ffmpeg(folder, "clip.mkv", "-c:v", "libx264", "-c:a", "libvorbis")
    ffmpeg(folder, "clip.webm", "-c:v", "libvpx-vp9", "-c:a", "libopus")
    ffmpeg(folder, "clip.avi", "-c:v", "mjpeg", "-c:a", "pcm_s16le")
    ffmpeg(folder, "clip.mpg", "-c:v", "mpeg2video", "-r", 25, "-c:a", "mp2")
    ffmpeg(folder, "clip.ts", "-c:v", "libx264", "-c:a", "aac")
    ffmpeg(folder, "clip.m2ts", "-c:v", "libx264", "-c:a", "aac", "-mpegts_m2ts_mode", "1")
    ffmpeg(folder, "clip.wmv", "-c:v", "wmv2", "-c:a", "wmav2")
    ffmpeg(folder, "note.mp3", "-c:a", "libmp3lame", "-q:a", 5, "-metadata", "title=Ebb Tide", video=False)
    ffmpeg(folder, "note.m4a", "-c:a", "aac", video=False)
    ffmpeg(folder, "note.aac", "-c:a", "aac", "-f", "adts", video=False)
    ffmpeg(folder, "note.ogg", "-c:a", "libvorbis", video=False)
    ffmpeg(folder, "note.opus", "-c:a", "libopus", video=False)
    ffmpeg(folder, "note.wav", video=False)
    ffmpeg(folder, "note.aiff", video=False)
    run("flac", "-s", "-f", folder / "note.wav", "-o", folder / "note.flac")


def documents(folder):
    text = scenario.note("Gauge Kelp Point", DAY, 6000).decode()
    page = canvas.Canvas(str(folder / "report.pdf"), invariant=1)
    for number in range(3):
        for line, words in enumerate(text.splitlines()[number * 30:number * 30 + 30]):
            page.drawString(60, 780 - 14 * line, words)
        page.drawImage(str(folder / "chart.png"), 60, 80, 200, 150)
        page.showPage()
    page.save()
    run("qpdf", "--object-streams=generate", "--deterministic-id", folder / "report.pdf", folder / "packed.pdf")
    run("qpdf", "--linearize", "--deterministic-id", folder / "report.pdf", folder / "linear.pdf")
    written = docx.Document()
    for line in text.splitlines():
        written.add_paragraph(line)
    written.add_picture(str(folder / "baseline.jpg"))
    written.save(folder / "report.docx")
    book = openpyxl.Workbook()
    old = xlwt.Workbook()
    sheet = old.add_sheet("Levels")
    for row in range(200):
        values = [row, row * 7 % 389, f"Gauge {row % 9}"]
        book.active.append(values)
        for column, value in enumerate(values):
            sheet.write(row, column, value)
    book.save(folder / "levels.xlsx")
    old.save(str(folder / "levels.xls"))
    (folder / "note.txt").write_text(text + "Grüße von der Küste\n", encoding="utf-8")
    (folder / "latin.txt").write_bytes((text + "Grüße von der Küste\n").encode("latin-1"))
    (folder / "wide.txt").write_bytes(text.encode("utf-16"))
    (folder / "levels.csv").write_bytes(scenario.readings("Kelp Point", DAY, 5000))
    (folder / "levels.json").write_text(json.dumps([{"minute": m, "level": m * 7 % 389, "note": "a \"b\" {"}
                                                    for m in range(200)], indent=1))
    rows = "".join(f'<point minute="{m}">{m * 7 % 389}</point>\n' for m in range(200))
    (folder / "levels.xml").write_text(f'<?xml version="1.0"?>\n<levels>\n{rows}</levels>\n')
    (folder / "curve.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 200 400"><path d="M0 0'
                                      + "".join(f"L{m} {m * 7 % 389}" for m in range(200)) + '"/></svg>\n')
    (folder / "page.html").write_text(f"<!DOCTYPE html>\n<html><body><pre>{text}</pre></body></html>\n")
    run("pandoc", folder / "page.html", "-s", "-o", folder / "report.rtf")
    run("pandoc", folder / "page.html", "-o", folder / "report.odt")
    run("pandoc", folder / "page.html", "-o", folder / "report.epub", "--metadata", "title=Gauges")


def slides(folder):
    """Slides, and a sheet with a picture of its first page, as an office program writes them."""
    with tempfile.TemporaryDirectory() as home:
        convert = ["soffice", f"-env:UserInstallation=file://{home}", "--headless", "--convert-to"]
        run(*convert, "odp:impress8", "--infilter=impress_pdf_import", folder / "report.pdf", cwd=folder)
        run(*convert, "pptx:Impress MS PowerPoint 2007 XML", folder / "report.odp", cwd=folder)
        run(*convert, "ods", folder / "levels.xlsx", cwd=folder)


def mail(folder):
    message = email.message.EmailMessage()
    message["From"], message["To"] = "gauge@example.org", "desk@example.org"
    message["Subject"], message["Date"] = "Levels of the week", "Thu, 02 Apr 2026 10:15:00 +0000"
    message["Message-ID"] = "<1@example.org>"
    message.set_content(scenario.note("Mail", DAY, 1500).decode())
    message.add_attachment((folder / "baseline.jpg").read_bytes(), maintype="image", subtype="jpeg", filename="a.jpg")
    (folder / "letter.eml").write_bytes(bytes(message))
    box = mailbox.mbox(folder / "inbox.mbox")
    for _ in range(3):
        box.add(message)
    box.close()
    (folder / "person.vcf").write_bytes(b"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Desk of the survey\r\nEND:VCARD\r\n")


def archives(folder):
    base = {"cwd": folder}
    members = ["note.txt", "levels.csv", "chart.png", "levels.json"]
    run("zip", "-q", "-X", "pack.zip", *members, **base)
    run("zip", "-q", "-X", "-0", "stored.zip", *members, **base)
    run("7z", "a", "pack.7z", *members, **base)
    run("tar", "--sort=name", "--owner=0", "--group=0", "-cf", "pack.tar", *members, **base)
    for program, name in (("gzip", "pack.tar.gz"), ("bzip2", "pack.tar.bz2"), ("xz", "pack.tar.xz"),
                          ("zstd", "pack.tar.zst"), ("lz4", "pack.tar.lz4")):
        with open(folder / name, "wb") as out:
            subprocess.run([program, "-q", "-c", folder / "pack.tar"], stdout=out, check=True)
    run("gcab", "-c", "-z", "pack.cab", *members, **base)
    run("xorriso", "-as", "mkisofs", "-J", "-o", "disc.iso", *members, **base)


def others(folder):
    with sqlite3.connect(folder / "levels.sqlite") as database:
        database.execute("CREATE TABLE levels(minute INTEGER PRIMARY KEY, level INTEGER, gauge TEXT)")
        database.executemany("INSERT INTO levels VALUES(?,?,?)",
                             [(m, m * 7 % 389, f"Gauge {m % 9}") for m in range(1500)])
    (folder / "main.c").write_text("int main(void) { return 0; }\n")
    run("gcc", "-s", "-o", folder / "program.elf", folder / "main.c")
    (folder / "main.c").unlink()
    font = "/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf"
    run("pyftsubset", font, "--text=Ebb and swell 0123456789", f"--output-file={folder / 'letters.ttf'}")


def camera(path):
    """A picture as a camera writes it, small: it says what took it, and when."""
    picture = Image.open(io.BytesIO(scenario.chart("Sheet 3", 96, 64))).convert("RGB")
    exif = Image.Exif()
    exif[0x010F], exif[0x0110], exif[0x0132] = "Ebb Works", "Basalt K3", "2026:04:02 10:15:00"
    with tempfile.NamedTemporaryFile(suffix=".jpg") as taken:
        picture.save(taken.name, quality=80, exif=exif)
        run("heif-enc", taken.name, "-o", path)


def titled(folder):
    """Documents and mail that say what they are called, in letters beyond ASCII."""
    program = folder / "compound"
    libraries = subprocess.run(["pkg-config", "--cflags", "--libs", "libgsf-1"], check=True, capture_output=True,
                               text=True).stdout.split()
    run("gcc", ROOT / "recipes/compound.c", *libraries, "-o", program)
    run(program, folder)
    program.unlink()
    message = email.message.EmailMessage()
    message["From"] = email.utils.formataddr(("Pegelwärter Küste", "gauge@example.org"))
    message["Subject"] = "Wasserstände der Woche an allen Pegeln der Küste, März und April, mit allen Grüßen"
    message["Date"] = "Thu, 02 Apr 2026 12:15:00 +0200"
    message.set_content("Anbei.")
    (folder / "titled.eml").write_bytes(bytes(message))


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--to", type=pathlib.Path, default=ROOT / "samples/kinds.tar.zst")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as work:
        folder = pathlib.Path(work)
        for make in (pictures, recordings, documents, slides, mail, archives, others):
            make(folder)
        packed = folder.parent / (folder.name + ".tar")
        with tarfile.open(packed, "w") as tar:
            for path in sorted(folder.iterdir()):
                member = tarfile.TarInfo(path.name)
                member.size = path.stat().st_size
                tar.addfile(member, io.BytesIO(path.read_bytes()))
        run("zstd", "-q", "-f", "-19", packed, "-o", options.to)
        packed.unlink()
    camera(options.to.parent / "camera.heic")
    titled(options.to.parent)


if __name__ == "__main__":
    main()
