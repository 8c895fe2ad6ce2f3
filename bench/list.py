#!/usr/bin/env python3
"""Whole-program comparison: `list` as CSV and JSON Lines, as a ratio to `sqlite3` printing the same columns.

Makes a volume of N entries in a temporary folder, scans it, and prints all of it both ways, in one run.
Needs python3 and the sqlite3 command.
"""
import argparse
import pathlib
import subprocess
import sys
import tempfile
import time

import volumes

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
# Times as `list` prints them, to the second.
TIME = "strftime('%Y-%m-%dT%H:%M:%SZ', {0}/10000000, 'unixepoch') AS {0}"
QUERY = f"""SELECT e.id, e.volume, CASE WHEN e.parent IS NULL THEN e.name ELSE f.path||'/'||e.name END AS path,
  e.name_exact AS path_exact, 0 AS link, e.name, e.kind, s.name AS stream, e.state, e.marked_deleted,
  e.trashed, s.size, {TIME.format('created')}, {TIME.format('modified')}, {TIME.format('accessed')},
  {TIME.format('deleted')}, e.original_path, NULL AS former_paths, e.type, NULL AS format,
  s.encoding='encrypted' AS encrypted, s.placement, NULL AS "check", NULL AS sha256, s.rating, s.score,
  s.intact_bytes, hex(e.raw_name) AS raw_name
FROM entries e LEFT JOIN streams s ON s.entry=e.id LEFT JOIN folder_paths f ON f.entry=e.parent
WHERE e.merged_into IS NULL AND e.system=0 ORDER BY e.volume, path"""


def seconds(command):
    begin = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    return time.perf_counter() - begin


def scanned_card(folder, entries):
    """The shelf of a volume of so many entries, made in the folder."""
    image, shelf = pathlib.Path(folder) / "card.img", pathlib.Path(folder) / "card.shelf"
    volumes.make_fat(image, entries, 1)
    subprocess.run([PROGRAM, "scan", image, "--shelf", shelf, "--check", "none", "--quiet"], check=True)
    return shelf


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--entries", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        shelf = scanned_card(folder, options.entries)
        for form, mode in (("csv", "-csv"), ("jsonl", "-json")):
            ours = min(seconds([PROGRAM, "list", shelf, "--format", form]) for _ in range(options.runs))
            theirs = min(seconds(["sqlite3", mode, shelf, QUERY]) for _ in range(options.runs))
            print(f"{options.entries} entries as {form}: list {ours:.2f} s, sqlite3 {theirs:.2f} s: "
                  f"{ours / theirs:.2f} times")


if __name__ == "__main__":
    sys.exit(main())
