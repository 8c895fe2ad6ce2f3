#!/usr/bin/env python3
"""Whole-program comparison: finding, counting, filtering, advice, the report, the tree and the first `ls -R` of the
mount, as a ratio to the same in `sqlite3`.

Makes a volume of N entries in a temporary folder, scans it, and asks the same both ways, in one run.
Needs python3 and the sqlite3 command.
"""
import argparse
import subprocess
import sys
import tempfile
import time

import list as lists

ROWS = """FROM entries e LEFT JOIN streams s ON s.entry=e.id LEFT JOIN folder_paths f ON f.entry=e.parent
WHERE e.merged_into IS NULL AND e.system=0"""
PATH = "CASE WHEN e.parent IS NULL THEN e.name ELSE f.path||'/'||e.name END AS path"
CASES = (
    ("list --find 777", ["list", "--find", "777", "--format", "jsonl"],
     lists.QUERY.replace("WHERE", "WHERE e.name LIKE '%777%' AND")),
    ("totals --by type", ["totals", "--by", "type"],
     f"""SELECT coalesce(s.type,e.type), count(*), sum(s.size), sum(s.rating='whole'), sum(s.rating='likely'),
     sum(s.rating='partial'), sum(s.rating='gone'), sum(s.score)/100.0 {ROWS} AND e.kind='file' GROUP BY 1"""),
    ("totals --by day", ["totals", "--by", "day"],
     f"""SELECT date(e.modified/10000000,'unixepoch'), count(*), sum(s.size), sum(s.rating='whole'),
     sum(s.score)/100.0 {ROWS} AND e.kind='file' GROUP BY 1"""),
    ("list, filtered", ["list", "--state", "deleted", "--size", "100..300", "--format", "jsonl"],
     lists.QUERY.replace("WHERE", "WHERE e.state='deleted' AND s.size BETWEEN 100 AND 300 AND")),
    ("advise", ["advise", "--name", "none*", "--state", "deleted"],
     f"SELECT e.id, e.name, {PATH} {ROWS} AND e.kind='file'"),
    ("report", ["report", "--to", "{new}"], lists.QUERY),
    ("tree", ["tree"], f"SELECT e.state, s.rating, s.score, s.size, {PATH} {ROWS} ORDER BY e.volume, path"),
)


def mounted_seconds(shelf, folder):
    """Seconds of the first `ls -R` of the mount, or nothing where this machine cannot mount; and until it was there."""
    begin = time.perf_counter()
    with subprocess.Popen([lists.PROGRAM, "mount", shelf, folder], stderr=subprocess.PIPE) as mount:
        told = mount.stderr.readline()
        there = time.perf_counter() - begin
        took = lists.seconds(["ls", "-R", folder]) if told.startswith(b"Mounted") else None
        mount.terminate()
    return took, there


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--entries", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        shelf = lists.scanned_card(folder, options.entries)
        print(f"{options.entries} entries, least of {options.runs} runs")
        for what, (command, *rest), query in CASES:
            ours = min(lists.seconds([lists.PROGRAM, command, shelf] +
                                     [tempfile.mkdtemp(dir=folder) if word == "{new}" else word for word in rest])
                       for _ in range(options.runs))
            theirs = min(lists.seconds(["sqlite3", "-json", shelf, query]) for _ in range(options.runs))
            print(f"  {what:<18} {ours:6.2f} s, sqlite3 {theirs:6.2f} s: {ours / theirs:.2f} times")
        first, there = mounted_seconds(shelf, tempfile.mkdtemp(dir=folder))
        theirs = min(lists.seconds(["sqlite3", "-json", shelf, f"SELECT {PATH} {ROWS} ORDER BY e.volume, path"])
                     for _ in range(options.runs))
        if first is not None:
            print(f"  first ls -R        {first:6.2f} s, sqlite3 {theirs:6.2f} s: {first / theirs:.2f} times "
                  f"(mounted after {there:.2f} s)")


if __name__ == "__main__":
    sys.exit(main())
