#!/usr/bin/env python3
"""Whether ratings keep their promise: random lives under real drivers, and what came of each lost file.

    /usr/bin/python3 bench/calibration.py --volumes DIR [--make 401..424] [--fit] [--write]

With --make, lives of these seeds are played on each system (recipes/lives.py, as root) and kept in DIR; then
every volume in it is scanned deeply, all lost files are checked, and each listed one is held against the truth.
--fit writes src/rating/odds_table.inc anew, from the volumes of even seeds (tools/fit_odds.cc). Otherwise it
prints, for those of odd seeds, how many files of each rating there are and how many of them are byte for byte
what was lost, the Brier score and the area under the curve, in all, by system and by kind of loss. --write puts
that into docs/rating.md, and the reliability diagram beside it. A file that is listed under a name that never
was counts as wrong.
"""
import argparse
import collections
import concurrent.futures
import json
import os
import pathlib
import re
import shutil
import subprocess
import sys
import tempfile

ROOT = pathlib.Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "recipes"))
import lives  # noqa: E402

PROGRAM = pathlib.Path(os.environ.get("UNDERSHELF", ROOT / "build/release/src/undershelf")).resolve()
SYSTEMS = ("fat", "exfat", "ntfs", "hfsplus")
PACE = 4  # how much more happens on a volume than in an ordinary life
RATINGS = ("whole", "likely", "partial", "gone")
Judged = collections.namedtuple("Judged", "system loss rating score same check placement format path shelf id judge")


def make(seed, system, to):
    with tempfile.TemporaryDirectory() as work:
        life = lives.Life(seed, [system], pathlib.Path(work), PACE)
        life.is_told = life.is_placed = lambda *_: True  # not asked here, and slow to find out
        life.play()
        rows = life.finish()
        loss = life.end + (", discarded" if "discarded" in life.told_as else "")
        known = {"system": system, "loss": loss, "rows": rows, "earlier": sorted(life.card.earlier)}
        (to / f"{system}-{seed}.json").write_text(json.dumps(known, default=str))
        subprocess.run(["zstd", "-q", "-3", "-f", life.card.image, "-o", to / f"{system}-{seed}.img.zst"], check=True)


def is_for_judging(name):
    """Volumes of odd seeds are: the fit never sees them."""
    return int(name.split("-")[1].split(".")[0]) % 2 == 1


def judge(packed, shelves):
    """What the program says of each lost file of a volume, and whether it is so."""
    name = packed.name.replace(".img.zst", "")
    known = json.loads(packed.with_name(name + ".json").read_text())
    with tempfile.TemporaryDirectory() as work:
        image = pathlib.Path(work) / "volume.img"
        subprocess.run(["zstd", "-q", "-d", packed, "-o", image], check=True)
        # As a quick look would rate it, and after all of it was looked at.
        sampled, checked = shelves / f"{name}.sampled", shelves / f"{name}.checked"
        run(["scan", image, "--shelf", sampled, "--depth", "deep", "--check", "sample", "--quiet"])
        shutil.copy(sampled, checked)
        run(["scan", image, "--shelf", checked, "--depth", "deep", "--check", "full", "--quiet"])
    hashes = {row["id"]: row["sha256"] for row in listed(checked)}
    return [row for shelf in (sampled, checked) for row in judge_rows(name, known, shelf, hashes)]


def listed(shelf):
    return [json.loads(line) for line in
            run(["list", shelf, "--kind", "file", "--format", "jsonl"]).splitlines()]


def judge_rows(name, known, shelf, hashes):
    by_name = collections.defaultdict(list)
    for row in known["rows"]:
        if row["kind"] == "file":
            # The first letter of a short name may be lost.
            for path in [row["path"], *row["former_names"]]:
                by_name[path.rpartition("/")[2][1:]].append((path, row))
    contents = {truth["sha256"] for truth in known["rows"] if truth["kind"] == "file"} | set(known.get("earlier", ()))
    judged = []
    for row in listed(shelf):
        if row["state"] == "live" or row["link"] or row["stream"] is not None or row["size"] is None:
            continue
        if row["state"] == "carved" and "earlier" not in known:
            continue  # a life of before contents that were added to were kept: nothing can be said
        if row["state"] == "carved":
            # It has no name: any content that was there will do.
            judged.append(Judged("carved", known["loss"], row["rating"], row["score"], row["sha256"] in contents,
                                 row["check"], row["placement"], row["format"], f"{name}: {row['path']}", shelf,
                                 row["id"], is_for_judging(name)))
            continue
        named = by_name[row["name"][1:]]
        # The wrong folder is no matter of its bytes.
        meant = ([truth for path, truth in named if lives.ends_alike(row["path"], path)]
                 or [truth for _, truth in named])
        if not meant and not row["path_exact"]:  # of a long name only the beginning may be left
            meant = [truth for known_name, rows in by_name.items()
                     if len(row["name"]) > 4 and known_name.startswith(row["name"][1:]) for _, truth in rows]
        if not meant and re.search("~[0-9]", row["name"]):  # the alias of a lost long name
            meant = [truth for rows in by_name.values() for _, truth in rows if truth["size"] == row["size"]]
        same = any(hashes.get(row["id"]) == truth["sha256"] if row["size"] else truth["size"] == 0 for truth in meant)
        judged.append(Judged(known["system"], known["loss"], row["rating"], row["score"], same, row["check"],
                             row["placement"], row["format"], f"{name}: {row['path']}", shelf, row["id"],
                             is_for_judging(name)))
    return judged


def fit(rows):
    """Writes the odds anew; the program must be built again to use them."""
    lines = [json.dumps({"shelf": str(row.shelf), "id": row.id, "same": row.same, "judge": row.judge,
                         "file": f"{row.shelf.stem}/{row.id}"})
             for row in rows]
    made = subprocess.run([PROGRAM.parent.parent / "tools/fit_odds"], input="\n".join(lines), text=True,
                          capture_output=True, check=True)
    (ROOT / "src/rating/odds_table.inc").write_text(made.stdout)


def run(arguments):
    return subprocess.run([PROGRAM, *map(str, arguments)], capture_output=True, text=True).stdout


def brier(rows):
    return sum((row.score / 100 - row.same) ** 2 for row in rows) / len(rows)


def area(rows):
    """Under the curve: how often a right one is scored above a wrong one."""
    right = [row.score for row in rows if row.same]
    wrong = [row.score for row in rows if not row.same]
    if not right or not wrong:
        return float("nan")
    return sum((a > b) + (a == b) / 2 for a in right for b in wrong) / (len(right) * len(wrong))


def table(rows, name, key):
    lines = [f"| {name} | files | whole | likely | partial | gone | Brier score | area |", "|---" * 8 + "|"]
    for value in sorted({key(row) for row in rows}):
        of = [row for row in rows if key(row) == value]
        cells = []
        for rating in RATINGS:
            here = [row for row in of if row.rating == rating]
            cells.append(f"{sum(row.same for row in here)} of {len(here)}")
        lines.append(f"| {value} | {len(of)} | {' | '.join(cells)} | {brier(of):.3f} | {area(of):.3f} |")
    return lines


def diagram(rows, to):
    import matplotlib
    matplotlib.use("Agg")
    import matplotlib.pyplot as plt
    bins = collections.defaultdict(list)
    for row in rows:
        bins[min(row.score // 10, 9)].append(row)
    figure, axes = plt.subplots(figsize=(12.8, 8), dpi=100)
    axes.plot([0, 100], [0, 100], color="grey", linewidth=1, label="a promise kept exactly")
    x = [sum(row.score for row in bins[b]) / len(bins[b]) for b in sorted(bins)]
    y = [100 * sum(row.same for row in bins[b]) / len(bins[b]) for b in sorted(bins)]
    axes.plot(x, y, "o-", color="#1f5f8b", label="lost files of random lives")
    for b, at, share in zip(sorted(bins), x, y):
        axes.annotate(f"{len(bins[b])} files", (at, share), textcoords="offset points", xytext=(-8, -20),
                      horizontalalignment="left" if at < 50 else "right")
    axes.set(xlabel="score: chance that was told, per cent", ylabel="came back byte for byte, per cent",
             title="Does a rating keep its promise?", xlim=(-2, 104), ylim=(-4, 104))
    axes.legend(loc="upper left")
    axes.grid(alpha=0.3)
    for path in (to / "screenshots/rating.png", to / "rating.svg"):
        figure.savefig(path, bbox_inches="tight")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--volumes", type=pathlib.Path, required=True)
    parser.add_argument("--make")
    parser.add_argument("--fit", action="store_true")
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    options.volumes.mkdir(parents=True, exist_ok=True)
    if options.make:
        first, _, last = options.make.partition("..")
        for seed in range(int(first), int(last or first) + 1):
            for system in SYSTEMS:
                make(seed, system, options.volumes)
    packed = sorted(options.volumes.glob("*.img.zst"))
    if not options.fit:
        packed = [one for one in packed if is_for_judging(one.name)]
    with tempfile.TemporaryDirectory() as shelves:
        with concurrent.futures.ThreadPoolExecutor(os.cpu_count()) as threads:
            rows = [row for judged in threads.map(lambda one: judge(one, pathlib.Path(shelves)), packed)
                    for row in judged]
        if options.fit:
            return fit(rows)
        # Promises are those of a deep scan, which looks at all of every lost file.
        sampled = [row for row in rows if row.shelf.suffix == ".sampled"]
        rows = [row for row in rows if row.shelf.suffix == ".checked"]
    lines = [f"{len(rows)} lost files on {len(packed)} volumes, none of which the fit has seen. Of those that came "
             "back byte for byte "
             f"{100 * sum(row.same and row.rating in RATINGS[:2] for row in rows) / sum(row.same for row in rows):.1f} "
             "per cent were rated `whole` or `likely`.", ""]
    lines += table(rows, "all", lambda row: "all") + [""]
    lines += table(rows, "system", lambda row: row.system) + [""] + table(rows, "loss", lambda row: row.loss) + [""]
    lines += table(rows, "check", lambda row: row.check or "not looked at") + [""]
    lines += table(sampled, "samples", lambda row: "only") + [""]
    print("\n".join(lines))
    print()
    for row in rows:
        if row.rating == "whole" and not row.same or row.rating == "likely" and not row.same:
            print("promised, and wrong:", row.path, row.rating, row.score, row.check, row.placement, row.format)
    if options.write:
        page = ROOT / "docs/rating.md"
        head, mark, _ = page.read_text().partition("<!-- measured -->\n")
        page.write_text(head + mark + "\n".join(lines) + "\n")
        diagram(rows, ROOT / "docs")


if __name__ == "__main__":
    main()
