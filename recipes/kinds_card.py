"""A card with real files of every kind: deleted, overwritten in part, misnamed, discarded.

    python3 recipes/kinds_card.py

The files are those of samples/kinds.tar.zst (recipes/kinds.py).
"""
import io
import subprocess
import tarfile

from card import SAMPLES, Card
from scenario import readings

DAY = "2026-04-10"
HARMED = ("restarts.jpg", "chart.png", "clip.ts", "h264.mp4", "note.flac", "note.ogg", "pack.zip", "report.docx",
          "packed.pdf", "levels.sqlite", "page.html", "pack.7z")
DISCARDED = ("grey.jpg", "note.mp3", "report.pdf", "clip.webm")


def kinds():
    """Name to content of each."""
    unpacked = subprocess.run(["zstd", "-dcq", SAMPLES / "kinds.tar.zst"], check=True, stdout=subprocess.PIPE).stdout
    with tarfile.open(fileobj=io.BytesIO(unpacked)) as tar:
        return {member.name: tar.extractfile(member).read() for member in tar}


def main():
    card = Card("fat32-kinds", 48 << 20, ["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11C0DE", "-n", "KINDS"], 512)
    files = kinds()
    card.mount()
    for folder in ("Sound", "Misnamed", "Harmed", "Discarded"):
        card.folder(folder)
    card.at(f"{DAY} 08:00:00")
    elsewhere = HARMED + DISCARDED
    for name, content in files.items():
        if len(content) < 160_000 and name not in elsewhere:
            card.write(f"Sound/{name}", content)
    card.write("Misnamed/Letter.doc", files["baseline.jpg"])
    card.write("Misnamed/Curve.txt", files["stored.png"])
    card.write("Misnamed/Levels.jpg", files["levels.xlsx"])
    for name in HARMED:
        card.write(f"Harmed/{name}", files[name])
    for name in DISCARDED:
        card.write(f"Discarded/{name}", files[name])
    card.unmount()
    card.play()
    image = card.image.read_bytes()
    places = {path: image.find(content) for path, content in card.files.items()}
    card.mount()
    card.write("Still here.csv", readings("Still here", DAY, 3000))
    for path in [path for path in card.files if "/" in path]:
        card.delete(path)
    card.unmount()
    card.play()
    # What a driver does not do at will is done byte by byte: other content in the middle of a file whose
    # clusters are free, and space that a flash card gave up when it was told of the deletion.
    data = bytearray(card.image.read_bytes())
    for name in HARMED:
        begin, length = places[f"Harmed/{name}"], len(files[name])
        at = begin + length // 2 // 512 * 512
        data[at:at + 512] = readings("over " + name, DAY, 600)[:512]
    for path, begin in places.items():
        if path.startswith("Discarded/"):
            length = -(-len(files[path.split("/")[1]]) // 512) * 512
            data[begin:begin + length] = b"\xFF" * length
    card.image.write_bytes(data)
    card.finish()


if __name__ == "__main__":
    main()
