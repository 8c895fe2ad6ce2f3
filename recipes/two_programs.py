"""What two builds of the program make of the same random lives, row for row.

    python3 recipes/two_programs.py BEFORE NOW --seeds 1..100 [--system fat,exfat,ntfs,hfsplus] [--jobs 2]

Plays the lives of `lives.py`, each seed once on each system, lets both programs scan, list and export each, and
compares the rows: path, kind, stream, state, size, and the SHA-256 of what came out. Where they differ, the truth
decides, file by file: whether a name of it is listed, and whether its bytes come back. What is known by its content
alone (carved) is left out: a build without it has no such rows. Needs what `lives.py` needs.
"""
import argparse
import collections
import concurrent.futures
import pathlib
import subprocess
import tempfile

from lives import Full, Life, depth_for, ends_alike, scanned

MOST_SECONDS = 60  # of one command


def rows_of(program, image, folder, depth):
    """Rows as both programs give them, the hash of what they export last."""
    listed, hashes = scanned(program, image, folder, depth, MOST_SECONDS)
    return [{**row, "sha256": hashes.get((row["id"], row["stream"]))} for row in listed if row["state"] != "carved"]


def promises_wrong(row, trues):
    return (row["rating"] in ("whole", "likely") and row["kind"] == "file" and row["stream"] is None
            and not row.get("link") and row["sha256"] not in trues)


def by_truth(rows, truth):
    """By each true file: a name of it, and its bytes under a name of it."""
    by_name = collections.defaultdict(list)
    for row in rows:
        if row["kind"] == "file" and row["stream"] is None:
            by_name[row["name"][1:]].append(row)
    outcomes = []
    for true in truth:
        here = [row for path in [true["path"], *true["former_names"]]
                for row in by_name[path.rpartition("/")[2][1:]] if ends_alike(row["path"], path)]
        outcomes.append((bool(here), any(row["sha256"] == true["sha256"] for row in here)))
    return outcomes


def compare(seed, system, before, now):
    with tempfile.TemporaryDirectory() as work:
        folder = pathlib.Path(work)
        life = Life(seed, [system], folder)
        try:
            life.play()
        except Full:
            return f"{seed} {system}: {', '.join(life.told_as)}, full", collections.Counter({"not played": 1}), []
        truth = [row for row in life.finish() if row["kind"] == "file"]
        depth = depth_for(life)
        both = []
        for when, program in (("before", before), ("now", now)):
            place = folder / when
            place.mkdir()
            try:
                both.append(rows_of(program, life.card.image, place, depth))
            except subprocess.TimeoutExpired:
                return f"{seed} {system}", collections.Counter({"lives": 1, f"not ended by {when}": 1}), []
        contents = {true["sha256"] for true in truth} | life.card.earlier
    seen = [collections.Counter(tuple(row[field] for field in ("path", "kind", "stream", "state", "size", "sha256"))
                                for row in rows) for rows in both]
    sums = collections.Counter(lives=1, truths=len(truth))
    sums["rows of both"] = (seen[0] & seen[1]).total()
    sums["rows of before only"] = (seen[0] - seen[1]).total()
    sums["rows of now only"] = (seen[1] - seen[0]).total()
    lines = []
    for true, old, new in zip(truth, *(by_truth(rows, truth) for rows in both)):
        for at, what in enumerate(("name", "bytes")):
            if old[at] != new[at]:
                sums[f"{what} {'better' if new[at] else 'worse'}"] += 1
                if old[at]:
                    lines.append(f"    {what} worse: {true['path']} ({true['state']}, {true['size']} bytes)")
    for when, rows in zip(("before", "now"), both):
        lost = [row for row in rows if row["state"] != "live" and row["rating"] in ("whole", "likely")]
        sums[f"promises {when}"] = len(lost)
        sums[f"promises wrong {when}"] = sum(promises_wrong(row, contents) for row in lost)
    told = ", ".join(life.told_as)
    return f"{seed} {system}: {told}", sums, lines


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("before", type=pathlib.Path)
    parser.add_argument("now", type=pathlib.Path)
    parser.add_argument("--seeds", default="1..10")
    parser.add_argument("--system", default="fat,exfat,ntfs,hfsplus")
    parser.add_argument("--jobs", type=int, default=1)
    options = parser.parse_args()
    first, _, last = options.seeds.partition("..")
    totals = collections.Counter()
    with concurrent.futures.ProcessPoolExecutor(options.jobs) as pool:
        lives = [pool.submit(compare, seed, system, options.before.resolve(), options.now.resolve())
                 for seed in range(int(first), int(last or first) + 1) for system in options.system.split(",")]
        for life in lives:
            name, sums, lines = life.result()
            totals += sums
            print(f"{name}: {dict(sums)}", *lines, sep="\n", flush=True)
    for what, count in sorted(totals.items()):
        print(f"{what:<22} {count:>8}")


if __name__ == "__main__":
    main()
