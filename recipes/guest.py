"""Runs a shell script under a real Linux kernel, as root, over an image file.

A small virtual machine boots Debian's stock kernel with a busybox initial
file system; the image is its only disk. What the kernel's own file-system
driver writes to that disk is the ground truth the tests measure against.
Needs qemu-system-x86, busybox-static and cpio; the kernel package is fetched
and unpacked, never installed.
"""
import os
import pathlib
import shutil
import subprocess
import tempfile

CACHE = pathlib.Path(os.environ.get("UNDERSHELF_RECIPE_CACHE",
                                    pathlib.Path.home() / ".cache/undershelf-recipes"))
MODULES = {
    "disk": ["virtio_ring", "virtio", "virtio_pci_modern_dev", "virtio_pci_legacy_dev",
             "virtio_pci", "virtio_blk"],
    "exfat": ["exfat"],
    "hfsplus": ["cdrom", "nls_utf8", "hfsplus"],
    "vfat": ["nls_cp437", "nls_ascii", "nls_iso8859-1", "nls_utf8", "fat", "vfat"],
}
PROLOGUE = """#!/bin/busybox sh
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev
echo 0 > /proc/sys/kernel/printk
while read module; do insmod /modules/$module.ko > /dev/ttyS1 2>&1; done < /modules/order
mkdir -p /volume
for wait in 1 2 3 4 5 6 7 8 9 10; do [ -b /dev/vda ] || sleep 1; done
sh -e /script > /dev/ttyS1 2>&1 && echo COMPLETE > /dev/ttyS1
sync
poweroff -f
"""


def kernel():
    """The unpacked kernel package: (path of vmlinuz, folder of modules)."""
    root = CACHE / "kernel"
    if not root.exists():
        CACHE.mkdir(parents=True, exist_ok=True)
        listing = subprocess.run(["apt-cache", "depends", "linux-image-amd64"], check=True,
                                 capture_output=True, text=True).stdout
        package = next(line.split()[1] for line in listing.splitlines() if "Depends:" in line)
        subprocess.run(["apt-get", "download", package], cwd=CACHE, check=True)
        deb = next(CACHE.glob(package + "_*.deb"))
        unpacked = CACHE / "kernel.part"
        shutil.rmtree(unpacked, ignore_errors=True)
        subprocess.run(["dpkg-deb", "-x", deb, unpacked], check=True)
        unpacked.rename(root)
    return next(root.glob("boot/vmlinuz-*")), next(root.glob("lib/modules/*"))


def run(image, script, payload, system="vfat"):
    """Boots over `image` and runs `script` (sh, stops at the first failure).

    `payload` maps names to bytes, found by the script under /payload. The
    script mounts /dev/vda on /volume itself. Returns what it printed.
    """
    vmlinuz, modules = kernel()
    wanted = MODULES["disk"] + MODULES[system]
    with tempfile.TemporaryDirectory() as work:
        root = pathlib.Path(work) / "root"
        for folder in ("bin", "dev", "proc", "sys", "modules", "payload"):
            (root / folder).mkdir(parents=True)
        shutil.copy("/bin/busybox", root / "bin/busybox")
        for name in wanted:
            shutil.copy(next(modules.rglob(name + ".ko")), root / "modules")
        (root / "modules/order").write_text("\n".join(wanted) + "\n")
        for name, content in payload.items():
            (root / "payload" / name).write_bytes(content)
        (root / "script").write_text(script)
        (root / "init").write_text(PROLOGUE)
        (root / "init").chmod(0o755)
        initrd = pathlib.Path(work) / "initrd"
        with open(initrd, "wb") as out:
            names = subprocess.run(["find", "."], cwd=root, check=True, capture_output=True).stdout
            subprocess.run(["cpio", "-o", "-H", "newc", "--quiet"], cwd=root, check=True,
                           input=names, stdout=out)
        log = pathlib.Path(work) / "log"
        subprocess.run(["qemu-system-x86_64", "-machine", "accel=tcg", "-m", "512",
                        "-display", "none", "-monitor", "none", "-no-reboot",
                        "-serial", "null", "-serial", f"file:{log}",
                        "-kernel", vmlinuz, "-initrd", initrd, "-append", "quiet panic=-1",
                        "-drive", f"file={image},format=raw,if=virtio,cache=unsafe"],
                       check=True, timeout=120)
        text = log.read_text(errors="surrogateescape")
    if not text.rstrip().endswith("COMPLETE"):
        raise RuntimeError("the script in the guest failed:\n" + text)
    return text
