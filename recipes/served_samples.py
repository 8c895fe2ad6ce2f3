"""Scans each sample by way of servers, and holds the rows against those of the file.

Served as it is by nbdkit, and as a qcow2 container by qemu-nbd: what `list` and `volumes` say must be the
same to the letter. Prints what differs, and says so in its exit code.
"""
import pathlib
import subprocess
import sys
import tempfile
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = ROOT / "build/release/src/undershelf"


def rows(source, shelf):
    run = subprocess.run([PROGRAM, "scan", source, "--shelf", shelf, "--depth", "deep", "--quiet"],
                         capture_output=True, text=True)
    if run.returncode > 1:
        sys.exit(f"{source}: {run.stderr}")
    said = [subprocess.run([PROGRAM, *call, "--format", "jsonl"], capture_output=True, text=True).stdout
            for call in (["list", shelf, "--system"], ["volumes", shelf])]
    shelf.unlink()
    return said


def served(work, server):
    socket = work / "socket"
    process = subprocess.Popen([*server(socket)], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    while not socket.exists():
        time.sleep(0.01)
    found = rows(f"nbd+unix:///?socket={socket}", work / "served.shelf")
    process.kill()
    process.wait()
    socket.unlink(missing_ok=True)
    return found


def main():
    differing = compared = 0
    for packed in sorted((ROOT / "samples").glob("*.img.zst")):
        with tempfile.TemporaryDirectory() as folder:
            work = pathlib.Path(folder)
            card, container = work / "card.img", work / "card.qcow2"
            subprocess.run(["zstd", "-q", "-d", "--long=27", packed, "-o", card], check=True)
            here = rows(card, work / "here.shelf")
            subprocess.run(["qemu-img", "convert", "-f", "raw", "-O", "qcow2", card, container], check=True)
            servers = {
                "nbdkit": lambda socket: ["nbdkit", "-f", "-U", socket, "file", card],
                "qemu-nbd": lambda socket: ["qemu-nbd", "--read-only", "--persistent", "--format", "qcow2",
                                            "--socket", socket, container],
            }
            for name, server in servers.items():
                compared += 1
                if served(work, server) != here:
                    differing += 1
                    print(f"{packed.name}, {name}: not the same", flush=True)
    print(f"{compared} scans by way of servers, {differing} not as the file's")
    sys.exit(differing > 0)


if __name__ == "__main__":
    main()
