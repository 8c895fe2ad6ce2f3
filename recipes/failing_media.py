"""Copies media that fail as a server's filters make them, and holds the copies against what is true.

Servers with errors at fixed places, with errors by chance, with errors that go away, with delays, that
stall, and that die and come back; each copy is also ended at many moments and gone on with. What the
server's log says was given must have been given once; what could be read must be in the image; what
could not be in the ledger, and nothing else. Prints what does not hold, and says so in its exit code.
Usage: failing_media.py [--rounds N] [--seed N]
"""
import argparse
import hashlib
import json
import os
import pathlib
import random
import re
import signal
import subprocess
import tempfile
import time

PROGRAM = pathlib.Path(__file__).resolve().parent.parent / "build/release/src/undershelf"
MIB = 1 << 20
faults = []

# Sectors of `bad` fail always; those of `third` until the file beside counts three tries.
PLUGIN = r"""
import errno, os
import nbdkit
API_VERSION = 2
bad, third, tries, path = set(), set(), {}, None
def config(key, value):
    global bad, third, path
    if key == "bad": bad = set(map(int, value.split(",")))
    if key == "third": third = set(map(int, value.split(",")))
    if key == "path": path = value
def thread_model(): return nbdkit.THREAD_MODEL_SERIALIZE_ALL_REQUESTS
def open(readonly): return os.open(path, os.O_RDONLY)
def get_size(h): return os.fstat(h).st_size
def pread(h, buf, offset, flags):
    inside = range(offset // 512, (offset + len(buf) + 511) // 512)
    fails = not bad.isdisjoint(inside)
    for sector in third.intersection(inside):
        if len(buf) == 512:
            tries[sector] = tries.get(sector, 0) + 1
        fails = fails or tries.get(sector, 0) < 3
    if fails:
        nbdkit.set_error(errno.EIO)
        raise RuntimeError("fails")
    buf[:] = os.pread(h, len(buf), offset)
"""


class Served:
    """A server on a socket, with a log of what it gave."""

    def __init__(self, folder, server):
        self.socket, self.log, self.server = folder / "socket", folder / "log", server
        self.uri = f"nbd+unix:///?socket={self.socket}"
        self.start()

    def start(self):
        self.socket.unlink(missing_ok=True)
        self.process = subprocess.Popen(
            ["nbdkit", "--foreground", "--unix", self.socket, "--filter=log", *self.server,
             f"logfile={self.log}", "logappend=true"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while not self.socket.exists():
            time.sleep(0.01)

    def stop(self):
        self.process.kill()
        self.process.wait()

    def given(self):
        """Bytes that were given, a range for each request that was answered well."""
        asked, ranges = {}, []
        for line in self.log.read_text().splitlines():
            if match := re.search(r"connection=(\d+) Read id=(\d+) offset=(\w+) count=(\w+)", line):
                asked[match[1], match[2]] = (int(match[3], 16), int(match[4], 16))
            elif match := re.search(r"connection=(\d+) \.\.\.Read id=(\d+) return=0", line):
                ranges.append(asked[match[1], match[2]])
        return ranges


def ledger_of(image):
    lines = [json.loads(line) for line in pathlib.Path(f"{image}.ledger").read_text().splitlines()]
    return lines[0], lines[1:]


def states(image, size):
    _, lines = ledger_of(image)
    state = ["untried"] * (size // 512)
    for line in lines:
        first, last = line["offset"] // 512, (line["offset"] + line["length"]) // 512
        state[first:last] = [line["state"]] * (last - first)
    return state


def check_agreement(what, image, content):
    """What the ledger says is read, the image holds, and its hashes are right."""
    held = image.read_bytes()
    for sector, state in enumerate(states(image, len(content))):
        at = sector * 512
        if state == "read" and held[at:at + 512] != content[at:at + 512]:
            faults.append(f"{what}: sector {sector} is said to be read and is not")
            return
    for line in ledger_of(image)[1]:
        if "sha256" not in line:
            continue
        part = held[line["offset"]:line["offset"] + line["length"]]
        if hashlib.sha256(part).hexdigest() != line["sha256"]:
            faults.append(f"{what}: the hash of {line['offset']} is wrong")


def check_given_once(what, served, strict):
    seen = {}
    for offset, count in served.given():
        for sector in range(offset // 512, (offset + count) // 512):
            seen[sector] = seen.get(sector, 0) + 1
    twice = [sector for sector, times in seen.items() if times > 1]
    if strict and twice:
        faults.append(f"{what}: {len(twice)} sectors were given more than once, {twice[:5]}")
    return len(twice)


def copy(served, image, *options, **more):
    return subprocess.run([PROGRAM, "image", served.uri, "--to", image, "--quiet", *options],
                          capture_output=True, text=True, **more)


def try_kind(rng, folder, kind):
    content = rng.randbytes(rng.randrange(4, 24) * MIB + 512 * rng.randrange(8))
    size = len(content)
    source, image = folder / "source", folder / "image"
    source.write_bytes(content)
    plugin = folder / "plugin.py"
    plugin.write_text(PLUGIN)
    plain = ["file", str(source)]
    bad, options, expected_bad = set(), [], None
    if kind in ("fixed", "killed", "dying"):
        for _ in range(rng.randrange(1, 12)):
            first = rng.randrange(size // 512)
            bad.update(range(first, min(first + rng.choice([1, 1, 2, 8, 200]), size // 512)))
        server = ["python", str(plugin), f"path={source}", "bad=" + ",".join(map(str, bad))]
        expected_bad = bad
    elif kind == "third":
        third = {rng.randrange(size // 512) for _ in range(20)}
        server = ["python", str(plugin), f"path={source}", "third=" + ",".join(map(str, third))]
        options, expected_bad = ["--attempts", "3"], set()
    elif kind == "chance":
        server = ["--filter=error", *plain, "error-pread=EIO", "error-pread-rate=5%"]
        options, expected_bad = ["--attempts", "12"], set()
    elif kind == "later":
        server = ["--filter=error", *plain, "error-pread=EIO", "error-pread-rate=50%",
                  f"error-pread-file={folder / 'now'}"]
        options = ["--attempts", "30"]
        expected_bad = set()
    elif kind == "slow":
        server = ["--filter=delay", *plain, "delay-read=20ms"]
        expected_bad = set()
    served = Served(folder, server)
    what = f"{kind}, {size} bytes"
    if kind == "later":
        subprocess.Popen(["sh", "-c", f"sleep 0.05; touch {folder / 'now'}"])
        copy(served, image, "--rate", "64M", *options)
    elif kind == "killed":
        kills = 0
        while kills < 12:
            run = subprocess.Popen([PROGRAM, "image", served.uri, "--to", image, "--quiet", "--rate",
                                    "60M"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(rng.random() * 0.3)
            if run.poll() is not None:
                break
            run.send_signal(signal.SIGKILL)
            run.wait()
            kills += 1
            if pathlib.Path(f"{image}.ledger").exists():
                check_agreement(f"{what}, kill {kills}", image, content)
        copy(served, image)
        if check_given_once(what, served, False) > 400 * MIB // 512:
            faults.append(f"{what}: a kill cost more than what five seconds bring")
    elif kind == "dying":
        run = subprocess.Popen([PROGRAM, "image", served.uri, "--to", image, "--quiet", "--rate",
                                "20M"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(3):
            time.sleep(0.1 + rng.random() * 0.2)
            served.stop()
            time.sleep(0.2)
            served.start()
        run.wait()
    else:
        copy(served, image, *options)
    check_agreement(what, image, content)
    # What was given and lost with the connection counts as asked for again.
    check_given_once(what, served, kind not in ("killed", "dying"))
    served.stop()
    found = {sector for sector, state in enumerate(states(image, size)) if state == "failed"}
    other = {state for state in states(image, size)} - {"read", "failed"}
    if other:
        faults.append(f"{what}: some of it is {other}")
    if found != expected_bad:
        faults.append(f"{what}: failed {len(found)} sectors, of which {len(found - expected_bad)} can "
                      f"be read; {len(expected_bad - found)} bad ones are not told")
    return size, len(found)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    kinds = ["fixed", "third", "chance", "later", "slow", "killed", "dying"]
    for number in range(arguments.rounds):
        for kind in kinds:
            rng = random.Random(f"{arguments.seed} {number} {kind}")
            with tempfile.TemporaryDirectory(dir=os.environ.get("TMPDIR")) as folder:
                began = time.monotonic()
                size, failed = try_kind(rng, pathlib.Path(folder), kind)
                print(f"{kind:7} {size:9} bytes, {failed:4} failed sectors, "
                      f"{time.monotonic() - began:5.1f} s", flush=True)
    for fault in faults:
        print("FAULT", fault)
    print(f"{arguments.rounds * len(kinds)} copies, {len(faults)} faults")
    raise SystemExit(bool(faults))


if __name__ == "__main__":
    main()
