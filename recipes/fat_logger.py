"""The logger cards: FAT volumes of readings, charts and sound notes.

Without arguments rebuilds every sample here, otherwise those named.
"""
import datetime
import struct
import sys

from card import Card
from scenario import chart, note, readings, sound

STATIONS = ["TG03", "TG07", "TG11"]


def fat16():
    card = Card("fat16-logger", 32 << 20,
                ["mkfs.fat", "-F", "16", "-s", "4", "-i", "0A11CE16", "-n", "LOGGER1"], 2048)
    card.mount()
    card.at("2026-03-02 07:00:00")
    for folder in ("READINGS", "READINGS/2026-03-02", "READINGS/2026-03-03"):
        card.folder(folder)
    for day in ("2026-03-02", "2026-03-03"):
        for hour, station in enumerate(STATIONS):
            card.at(f"{day} {8 + hour:02}:10:00")
            card.write(f"READINGS/{day}/{station}.CSV", readings(station, day, 9000 + hour * 7000))
            card.at(f"{day} {8 + hour:02}:20:00")
            card.write(f"READINGS/{day}/Gauge {station} corrected readings.csv",
                       readings(station + "c", day, 14000 + hour * 3100))
    card.at("2026-03-03 12:00:00")
    for folder in ("Charts", "Charts/North pier, first survey", "Sound notes", "Old", "Old/inner",
                   "Old/inner/deepest folder of them all"):
        card.folder(folder)
    card.write("notes.txt", note("Bench marks", "2026-03-03", 3000))
    card.write("README.TXT", note("Card one", "2026-03-03", 700))
    card.write("Empty.csv", b"")
    card.write("Relevé du marégraphe à l'écluse.csv", readings("ÉCL", "2026-03-03", 21000))
    card.write("Storm surge \U0001F30A 14 cm.csv", readings("SRG", "2026-03-03", 12345))
    card.write("潮位表.txt", note("Table", "2026-03-03", 5000))
    card.write("Exactly26LettersInName.csv", readings("E26", "2026-03-03", 2048))
    for n in range(1, 7):
        card.at(f"2026-03-03 13:0{n}:00")
        card.write(f"Charts/North pier, first survey/Curve {n} of 6.png",
                   chart(f"Curve {n}", 160 + 8 * n, 90))
    card.write("Charts/OVERVIEW.PNG", chart("Overview", 320, 200))
    card.at("2026-03-03 14:00:00")
    card.write("Sound notes/Swell at the outer buoy.wav", sound("Swell", 4))
    card.write("Sound notes/Pump noise.wav", sound("Pump", 6))
    card.write("Old/inner/deepest folder of them all/Levels 1998.csv",
               readings("L98", "1998-05-01", 30000))
    card.write("Old/inner/TG01.CSV", readings("TG01", "1998-05-02", 4096))
    card.write("Old/short.txt", note("Old", "1998-05-02", 100))
    # A log that grows while pictures are written: fragments.
    card.at("2026-03-03 15:00:00")
    card.write("SYSTEM.LOG", note("Log", "2026-03-03", 6000))
    card.write("Charts/Between.png", chart("Between", 200, 100))
    card.at("2026-03-03 15:30:00")
    card.append("SYSTEM.LOG", note("Log, later", "2026-03-03", 6000))
    # Names change before things are lost.
    card.at("2026-03-03 16:00:00")
    card.move("Charts/Between.png", "Charts/Between the piers.png")
    card.move("Sound notes/Pump noise.wav", "Pump noise.wav")
    card.write("~WRD0001.TMP", note("Report", "2026-03-03", 9000))
    card.move("~WRD0001.TMP", "Survey report.txt")
    # Losses.
    card.at("2026-03-04 09:00:00")
    card.delete("READINGS/2026-03-02/TG03.CSV", "READINGS/2026-03-03/TG11.CSV", "README.TXT",
                "notes.txt", "Empty.csv", "Relevé du marégraphe à l'écluse.csv",
                "Storm surge \U0001F30A 14 cm.csv", "潮位表.txt", "Exactly26LettersInName.csv",
                "READINGS/2026-03-03/Gauge TG07 corrected readings.csv", "Charts/OVERVIEW.PNG",
                "Sound notes/Swell at the outer buoy.wav")
    card.delete_tree("Charts/North pier, first survey")
    card.delete_tree("Old")
    card.unmount()
    # After the next mount the driver allocates from the start: freed space is taken again.
    card.mount()
    card.at("2026-03-05 08:00:00")
    card.folder("READINGS/2026-03-05")
    for hour, station in enumerate(STATIONS):
        card.at(f"2026-03-05 {8 + hour:02}:10:00")
        card.write(f"READINGS/2026-03-05/{station}.CSV", readings(station, "2026-03-05", 4000))
    card.unmount()
    card.play()
    card.finish()


def fat32():
    card = Card("fat32-logger", 40 << 20,
                ["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11CE32", "-n", "LOGGER2"], 512)
    card.mount()
    card.at("2026-04-10 06:00:00")
    card.folder("DCIM")
    card.folder("DCIM/100CHART")
    card.folder("Läsningar")
    card.folder("Läsningar/Veckan före påsk")
    for n in range(1, 13):
        card.at(f"2026-04-10 07:{n:02}:00")
        card.write(f"DCIM/100CHART/CHRT{n:04}.PNG", chart(f"Field chart {n}", 96, 60 + n))
    card.folder("Field work afloat \U0001F6F6")
    card.folder("Field work afloat \U0001F6F6/Crossing with many notes")
    for n in range(1, 41):  # a folder of many clusters
        card.at(f"2026-04-10 08:{n:02}:00")
        card.write(f"Field work afloat \U0001F6F6/Crossing with many notes/Note {n:02} from the "
                   f"crossing to the outer gauge.txt", note(f"Crossing {n}", "2026-04-10", 300 + 40 * n))
    for day in range(1, 6):
        card.at(f"2026-04-1{day} 09:00:00")
        card.write(f"Läsningar/Veckan före påsk/Mätserie {day} – övre pegeln.csv",
                   readings(f"ÖP{day}", f"2026-04-1{day}", 20000 + 777 * day))
    card.at("2026-04-15 10:00:00")
    card.write("Läsningar/tg11.csv", readings("TG11", "2026-04-15", 5120))
    card.write("Läsningar/TG11.BAK", readings("TG11b", "2026-04-15", 5121))
    card.write("Sound.wav", sound("Engine room", 8))
    card.write("Läsningar/Kept as it is.csv", readings("KEPT", "2026-04-15", 9000))
    card.at("2026-04-16 08:00:00")
    card.delete_tree("Field work afloat \U0001F6F6")
    card.delete("DCIM/100CHART/CHRT0003.PNG", "DCIM/100CHART/CHRT0004.PNG",
                "DCIM/100CHART/CHRT0011.PNG", "Läsningar/tg11.csv", "Läsningar/TG11.BAK")
    card.unmount()
    card.play()
    # A second driver loses more.
    card.mtools_delete("Läsningar/Veckan före påsk/Mätserie 2 – övre pegeln.csv",
                       "2026-04-17 08:00:00")
    card.mtools_delete("Sound.wav", "2026-04-17 08:00:10")
    card.mtools_write("DCIM/Plan for the summer survey.txt", note("Summer", "2026-04-18", 6000),
                      "2026-04-18 09:00:00")
    # And new charts are written over part of what is free.
    card.search_from()
    card.mount()
    card.at("2026-04-19 08:00:00")
    card.folder("DCIM/101CHART")
    card.write("DCIM/101CHART/CHRT0013.PNG", chart("Field chart 13", 96, 50))
    card.write("DCIM/101CHART/CHRT0014.PNG", chart("Field chart 14", 96, 60))
    card.unmount()
    card.play()
    card.finish()


def fragments():
    """Lost files in several pieces: around living files, around lost ones, and interleaved."""
    card = Card("fat16-fragments", 16 << 20,
                ["mkfs.fat", "-F", "16", "-s", "4", "-i", "0A11CEFA", "-n", "LOGGER3"], 2048)
    card.mount()
    card.at("2026-05-01 06:00:00")
    card.folder("CHARTS")
    card.folder("LOGS")
    for n in range(1, 10):
        card.at(f"2026-05-01 07:{n:02}:00")
        card.write(f"CHARTS/Sheet {n} of the inner harbour.png", chart(f"Sheet {n}", 150, 120 + n))
    # Two logs that grow in turn, one of them lost later.
    for hour in range(5):
        card.at(f"2026-05-01 1{hour}:00:00")
        for station in ("TG03", "TG07"):
            part = readings(station, f"2026-05-01 part {hour}", 5000)
            if hour == 0:
                card.write(f"LOGS/Growing log of {station}.csv", part)
            else:
                card.append(f"LOGS/Growing log of {station}.csv", part)
    card.at("2026-05-02 08:00:00")
    for n in (2, 4, 7):
        card.delete(f"CHARTS/Sheet {n} of the inner harbour.png")
    card.unmount()
    card.mount()
    # Fills the three holes and goes on behind: four pieces, around files that live.
    card.at("2026-05-02 09:00:00")
    card.write("Panorama of the coast.png", chart("Panorama", 300, 260))
    card.at("2026-05-02 10:00:00")
    card.write("Plan.txt", note("Plan", "2026-05-02", 9000))
    # Then most of them are lost as well: the panorama lay around files that are lost by now.
    card.at("2026-05-03 08:00:00")
    card.delete("Panorama of the coast.png", "LOGS/Growing log of TG03.csv",
                *(f"CHARTS/Sheet {n} of the inner harbour.png" for n in (3, 6, 8)))
    card.unmount()
    card.play()
    card.finish()


def large():
    """More than 65,536 clusters, and deleted entries that lost the high half of theirs."""
    card = Card("fat32-large", 96 << 20,
                ["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11CEBB", "-n", "LOGGER4"], 512)
    card.mount()
    card.at("2026-06-01 06:00:00")
    card.folder("NEAR")
    for n in range(1, 5):
        card.at(f"2026-06-01 07:0{n}:00")
        card.write(f"NEAR/Chart {n}.png", chart(f"Near {n}", 100, 50 + n))
        card.write(f"NEAR/Readings {n}.csv", readings(f"N{n}", "2026-06-01", 3000 + 500 * n))
    card.unmount()
    card.play()
    card.search_from(70000)
    card.mount()
    card.at("2026-06-02 06:00:00")
    card.folder("FAR")
    card.folder("FAR/Lost with all in it")
    for n in range(1, 5):
        card.at(f"2026-06-02 07:0{n}:00")
        card.write(f"FAR/Chart {n}.png", chart(f"Far {n}", 100, 60 + n))
        card.write(f"FAR/Lost with all in it/Readings {n}.csv",
                   readings(f"F{n}", "2026-06-02", 3000 + 500 * n))
    card.unmount()
    card.play()
    card.search_from(140000)
    card.mount()
    card.at("2026-06-03 06:00:00")
    card.write("FAR/Chart 5.png", chart("Far 5", 100, 70))
    card.write("FAR/Kept.png", chart("Kept", 100, 71))
    card.at("2026-06-04 06:00:00")
    card.delete("NEAR/Chart 2.png", "NEAR/Readings 3.csv", "FAR/Chart 1.png", "FAR/Chart 3.png",
                "FAR/Chart 5.png")
    card.delete_tree("FAR/Lost with all in it")
    card.unmount()
    card.play()
    card.clear_high_halves()
    card.finish()


def small_life(card, day):
    """A short life of a card: folders, files of each kind, losses, and new files over them."""
    card.mount()
    card.at(f"{day} 06:00:00")
    for folder in ("DATA", "DATA/Tide staff readings"):
        card.folder(folder)
    for n in range(1, 5):
        if n == 2:
            card.folder("Lost sketches")
        card.at(f"{day} 07:0{n}:00")
        card.write(f"DATA/Tide staff readings/Morning {n}.csv",
                   readings(f"M{n}", day, 9000 + 900 * n))
        if n > 1:
            card.write(f"Lost sketches/Sketch {n}.png", chart(f"Sketch {n}", 120, 70 + n))
    card.at(f"{day} 08:00:00")
    card.write("DATA/notes.txt", note("Notes", day, 5000))
    card.write("SOUND.WAV", sound("Sound", 2))
    card.at(f"{day} 09:00:00")
    card.delete("DATA/Tide staff readings/Morning 1.csv", "DATA/Tide staff readings/Morning 3.csv",
                "SOUND.WAV")
    card.delete_tree("Lost sketches")
    card.unmount()
    card.play()


def floppy():
    card = Card("fat12-floppy", 1440 << 10,
                ["mkfs.fat", "-F", "12", "-i", "0A11CE12", "-n", "FLOPPY"], 512)
    small_life(card, "2026-02-01")
    card.mount()
    card.at("2026-02-02 06:00:00")
    card.write("DATA/Evening.csv", readings("E1", "2026-02-02", 6000))
    card.unmount()
    card.play()
    card.finish()


def sectors_4k():
    card = Card("fat32-4k-sectors", 280 << 20,
                ["mkfs.fat", "-F", "32", "-S", "4096", "-s", "1", "-i", "0A11CE4B", "-n", "LOGGER6"],
                4096)
    small_life(card, "2026-08-01")
    card.finish()


def recycle_info(version, size, deleted, path):
    """A `$I` file, byte by byte from its documented layout."""
    when = int(datetime.datetime.fromisoformat(deleted + "+00:00").timestamp())
    head = struct.pack("<qqq", version, size, when * 10_000_000 + 116444736000000000)
    name = (path + "\0").encode("utf-16-le")
    if version == 1:
        return head + name.ljust(520, b"\0")
    return head + struct.pack("<I", len(name) // 2) + name


def info2(entries):
    """An INFO2 file with records of 800 bytes: (number, deleted, path), all of drive E."""
    out = struct.pack("<IIIII", 5, 0, 0, 800, 0)
    for number, deleted, path in entries:
        when = int(datetime.datetime.fromisoformat(deleted + "+00:00").timestamp())
        out += path.encode("latin-1", "replace").ljust(260, b"\0")
        out += struct.pack("<IIqI", number, 4, when * 10_000_000 + 116444736000000000, 4096)
        out += (path + "\0").encode("utf-16-le").ljust(520, b"\0")
    return out


def trash():
    """Trash folders of several systems, one of them emptied. The records are written byte by byte;
    the driver only makes the files."""
    card = Card("fat32-trash", 40 << 20,
                ["mkfs.fat", "-F", "32", "-s", "1", "-i", "0A11CE7A", "-n", "LOGGER5"], 512)
    day = "2026-07-01"

    def item(path, content, original, deleted):
        card.write(path, content)
        card.known[path] = {"original_path": original, "deleted": deleted + "Z"}

    card.mount()
    card.at(f"{day} 08:00:00")
    for folder in ("$RECYCLE.BIN", "$RECYCLE.BIN/$RK3Q7A2", "$RECYCLE.BIN/$RK3Q7A2/Inner",
                   ".Trash-1000", ".Trash-1000/info", ".Trash-1000/files", "RECYCLED", "KEPT"):
        card.folder(folder)
    bin_ = "$RECYCLE.BIN/"
    card.write(bin_ + "$IA1B2C3.csv", recycle_info(2, 4000, f"{day}T10:00:00",
                                                   "E:\\KEPT\\Läsningar juli.csv"))
    item(bin_ + "$RA1B2C3.csv", readings("J1", day, 4000), "KEPT/Läsningar juli.csv",
         f"{day}T10:00:00")
    card.write(bin_ + "$IK3Q7A2", recycle_info(1, 9000, f"{day}T11:00:00", "E:\\Old charts"))
    card.known["$RECYCLE.BIN/$RK3Q7A2"] = {"original_path": "Old charts",
                                           "deleted": f"{day}T11:00:00Z"}
    item(bin_ + "$RK3Q7A2/Inner/Curve.png", chart("Old curve", 90, 60),
         "Old charts/Inner/Curve.png", f"{day}T11:00:00")
    card.write(bin_ + "$IZZ9Y8X.txt", recycle_info(2, 700, f"{day}T12:00:00", "E:\\Emptied.txt"))
    item(bin_ + "$RZZ9Y8X.txt", note("Emptied", day, 700), "Emptied.txt", f"{day}T12:00:00")
    card.write("RECYCLED/INFO2", info2([(1, f"{day}T13:00:00", "E:\\KEPT\\PLAN.TXT")]))
    item("RECYCLED/DE1.TXT", note("Plan", day, 900), "KEPT/PLAN.TXT", f"{day}T13:00:00")
    card.write(".Trash-1000/info/pump noise.wav.trashinfo",
               b"[Trash Info]\nPath=KEPT/pump%20noise%20%C3%A9.wav\n"
               b"DeletionDate=2026-07-01T14:00:00\n")
    item(".Trash-1000/files/pump noise.wav", sound("Pump", 1), "KEPT/pump noise \u00e9.wav",
         f"{day}T14:00:00")
    card.write("KEPT/Here.txt", note("Here", day, 600))
    card.at("2026-07-02 08:00:00")
    card.delete(bin_ + "$IZZ9Y8X.txt", bin_ + "$RZZ9Y8X.txt")
    card.unmount()
    card.play()
    card.finish()


def root_only():
    """No folder at all, as small loggers write."""
    card = Card("fat16-root-only", 24 << 20,
                ["mkfs.fat", "-F", "16", "-s", "8", "-i", "0A11CE20", "-n", "LOGGER7"], 4096)
    card.mount()
    for n in range(1, 8):
        card.at(f"2026-09-01 0{n}:00:00")
        card.write(f"Pier {n}.csv", readings(f"P{n}", "2026-09-01", 7000 + 2100 * n))
        card.write(f"CURVE{n}.PNG", chart(f"Curve {n}", 110, 60 + 9 * n))
    card.at("2026-09-02 06:00:00")
    card.delete("Pier 2.csv", "Pier 5.csv", "CURVE3.PNG")
    card.unmount()
    card.play()
    card.finish()


def interleaved():
    """Two logs that grew in turn, cluster by cluster, and were both deleted: nothing records which
    clusters were whose."""
    card = Card("fat16-interleaved", 16 << 20,
                ["mkfs.fat", "-F", "16", "-s", "4", "-i", "0A11CE21", "-n", "LOGGER8"], 2048)
    card.mount()
    for hour in range(6):
        card.at(f"2026-10-01 1{hour}:00:00")
        for station in ("TG03", "TG07"):
            part = readings(station, f"2026-10-01 part {hour}", 2048)[:2048]
            (card.write if hour == 0 else card.append)(f"{station} log.csv", part)
    card.at("2026-10-01 16:00:00")
    card.write("Chart.png", chart("Chart", 120, 80))
    card.at("2026-10-02 06:00:00")
    card.delete("TG03 log.csv", "TG07 log.csv")
    card.unmount()
    card.play()
    card.finish()


RECIPES = {"fat16-logger": fat16, "fat32-logger": fat32, "fat16-fragments": fragments,
           "fat32-large": large, "fat32-trash": trash,
           "fat12-floppy": floppy, "fat32-4k-sectors": sectors_4k,
           "fat16-root-only": root_only, "fat16-interleaved": interleaved}

if __name__ == "__main__":
    for name in sys.argv[1:] or RECIPES:
        RECIPES[name]()
