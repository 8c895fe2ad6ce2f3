"""Runs a shell script under a real Linux kernel, as root, over an image file.

A kernel of Debian boots with a busybox initial file system; the image is its
only disk. What the kernel's own file-system driver writes to that disk is the
ground truth the tests measure against. Where Debian's kernel for user mode
has all that is asked for, it runs as a program of this machine, several times
as fast; else its stock kernel runs in a virtual machine. Needs
user-mode-linux or qemu-system-x86, busybox-static and cpio; the stock kernel's
package is fetched and unpacked, never installed.
"""
import os
import pathlib
import shutil
import subprocess
import tempfile

CACHE = pathlib.Path(os.environ.get("UNDERSHELF_RECIPE_CACHE",
                                    pathlib.Path.home() / ".cache/undershelf-recipes"))
USER_MODE_MODULES = pathlib.Path("/usr/lib/uml/modules")
# What each needs; what these depend on comes with them.
MODULES = {
    "disk": ["virtio_pci", "virtio_blk"],
    "exfat": ["exfat"],
    "hfsplus": ["cdrom", "nls_utf8", "hfsplus"],
    "vfat": ["nls_cp437", "nls_ascii", "nls_iso8859-1", "nls_utf8", "vfat"],
    # Disks that fail, and disks that tell how they are.
    "failing": ["crc64-rocksoft_generic", "crct10dif_generic", "sd_mod", "dm-mod", "dm-flakey", "dm-delay", "ahci",
                "nvme"],
    # Kinds of disks, and what is built on disks.
    "devices": ["crc64-rocksoft_generic", "crct10dif_generic", "sd_mod", "virtio_scsi", "xhci-pci", "usb-storage",
                "loop", "dm-mod", "raid1", "crc32c_generic", "ext4", "xxhash_generic", "blake2b_generic", "btrfs"],
}
PROLOGUE = """#!/bin/busybox sh
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev
echo 0 > /proc/sys/kernel/printk
while read module; do insmod /modules/$module.ko > /dev/LOG 2>&1; done < /modules/order
mkdir -p /volume
[ -b /dev/ubda ] && ln -s ubda /dev/vda
for wait in 1 2 3 4 5 6 7 8 9 10; do [ -b /dev/vda ] || sleep 1; done
sh -e /script > /dev/LOG 2>&1 && echo COMPLETE > /dev/LOG
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


def in_order(modules, names):
    """Files of these modules and of all they depend on, in the order in which they are loaded."""
    files = {path.stem.replace("-", "_"): path for path in modules.rglob("*.ko")}
    order = []

    def add(name):
        path = files[name.replace("-", "_")]
        if path in order:
            return
        depends = subprocess.run(["modinfo", "-F", "depends", path], check=True, capture_output=True, text=True)
        for needed in depends.stdout.strip().split(","):
            if needed:
                add(needed)
        order.append(path)

    for name in names:
        add(name)
    return order


def add_program(root, program):
    """Copies a program of this machine and the libraries it loads to the same places below `root`."""
    needed = subprocess.run(["ldd", program], capture_output=True, text=True).stdout
    for path in [str(program), *(word for word in needed.split() if word.startswith("/"))]:
        place = root / path.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, place)


def in_user_mode(names):
    """The modules of the kernel for user mode in the order in which they are loaded; none if it lacks one."""
    modules = next(USER_MODE_MODULES.glob("*"), None)
    if not modules or not shutil.which("linux.uml"):
        return []
    try:
        return in_order(modules, names)
    except KeyError:
        return []


def make_initrd(work, script, payload, wanted, programs, log_device):
    root = work / "root"
    for folder in ("bin", "dev", "proc", "sys", "modules", "payload"):
        (root / folder).mkdir(parents=True)
    shutil.copy("/bin/busybox", root / "bin/busybox")
    for path in wanted:
        shutil.copy(path, root / "modules")
    (root / "modules/order").write_text("".join(path.stem + "\n" for path in wanted))
    for program in programs:
        add_program(root, program)
    for name, content in payload.items():
        (root / "payload" / name).write_bytes(content)
    (root / "script").write_text(script)
    (root / "init").write_text(PROLOGUE.replace("LOG", log_device))
    (root / "init").chmod(0o755)
    initrd = work / "initrd"
    with open(initrd, "wb") as out:
        names = subprocess.run(["find", "."], cwd=root, check=True, capture_output=True).stdout
        subprocess.run(["cpio", "-o", "-H", "newc", "--quiet"], cwd=root, check=True, input=names, stdout=out)
    return initrd


def run(image, script, payload, system="vfat", programs=(), machine=(), also=()):
    """Boots over `image` and runs `script` (sh, stops at the first failure).

    `payload` maps names to bytes, found by the script under /payload. The
    script mounts /dev/vda on /volume itself. `programs` of this machine are
    found where they are here; `machine`: more arguments of the virtual
    machine; `also`: more systems than the one.
    Returns what it printed.
    """
    names = sum((MODULES[s] for s in (system, *also)), [])
    wanted = [] if machine or programs else in_user_mode(names)
    with tempfile.TemporaryDirectory() as work:
        work = pathlib.Path(work)
        log = work / "log"
        if wanted:
            initrd = make_initrd(work, script, payload, wanted, programs, "ttyS0")
            with open(log, "wb") as out:
                subprocess.run(["linux.uml", "mem=512M", f"initrd={initrd}", f"ubd0={image}", "con=null",
                                "ssl0=null,fd:1", "quiet", "panic=-1"],
                               stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.DEVNULL, timeout=600)
        else:
            vmlinuz, modules = kernel()
            wanted = in_order(modules, MODULES["disk"] + names)
            initrd = make_initrd(work, script, payload, wanted, programs, "ttyS1")
            subprocess.run(["qemu-system-x86_64", "-machine", "accel=tcg", "-m", "512",
                            "-display", "none", "-monitor", "none", "-no-reboot",
                            "-serial", "null", "-serial", f"file:{log}",
                            "-kernel", vmlinuz, "-initrd", initrd, "-append", "quiet panic=-1",
                            "-drive", f"file={image},format=raw,if=virtio,cache=unsafe", *machine],
                           check=True, timeout=600)
        text = log.read_text(errors="surrogateescape")
    if not text.rstrip().endswith("COMPLETE"):
        raise RuntimeError("the script in the guest failed:\n" + text)
    return text
