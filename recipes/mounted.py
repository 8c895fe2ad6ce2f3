"""A volume's life under a driver that mounts on this machine: ntfs-3g, exfat-fuse.

Steps are those of card.Card; they are played as root over a loop device. Truth knows of contents
that do not lie in whole clusters (in records, compressed): those are told by the recipe.
"""
import pathlib
import shutil
import subprocess
import tempfile

from card import Card


FAKETIME = "/usr/lib/x86_64-linux-gnu/faketime/libfaketime.so.1"


class MountedCard(Card):
    def __init__(self, name, size, mkfs, cluster_size, mount, sector_size=512, folder=None):
        """`mount`: the command, before the device and the mount point."""
        super().__init__(name, size, mkfs, cluster_size, folder=folder)
        self.command, self.sector_size = mount, sector_size
        self.work = pathlib.Path(tempfile.mkdtemp(prefix="undershelf-recipe-"))
        (self.work / "volume").mkdir()
        (self.work / "payload").mkdir()
        self.mounted = None

    def at(self, when):
        """What the driver takes the time to be; the clock of this machine is not turned."""
        self.script.append(f"echo '@{when}' > {self.work}/clock; sleep 0.02")

    def mount(self):
        self.mounted = run("losetup", "-f", "--show", "-b", str(self.sector_size),
                           self.image).stdout.decode().strip()
        clock = self.work / "clock"
        if not clock.exists():
            clock.write_text("@2025-01-01 00:00:00\n")
        run("env", f"LD_PRELOAD={FAKETIME}", f"FAKETIME_TIMESTAMP_FILE={clock}",
            "FAKETIME_NO_CACHE=1", "TZ=UTC", *self.command, self.mounted, self.work / "volume")

    def unmount(self):
        self.play()
        run("umount", self.work / "volume")
        run("losetup", "-d", self.mounted)

    def play(self):
        for item, content in self.payload.items():
            (self.work / "payload" / item).write_bytes(content)
        script = "\n".join(self.script).replace("/payload/", f"{self.work}/payload/")
        log = run("bash", "-e", input_=script.replace("/volume/", f"{self.work}/volume/").encode())
        for line in log.stdout.decode().splitlines():
            if line.startswith("MODIFIED "):
                _, item, seconds = line.split()
                self.modified[item] = int(seconds)
        self.script, self.payload = [], {}

    def place(self, path):
        return self.work / "volume" / path

    def shell(self, line):
        """A step that is no file operation; /volume/ stands for the mount point."""
        self.script.append(line)

    def tell(self, path, **facts):
        """What is true of a file besides what the finished image shows."""
        self.known.setdefault(path, {}).update(facts)

    def data_start(self, image):
        return 0

    def truth(self):
        shutil.rmtree(self.work, ignore_errors=True)
        return super().truth()


def run(*command, input_=None):
    return subprocess.run([str(c) for c in command], check=True, input=input_,
                          stdout=subprocess.PIPE)
