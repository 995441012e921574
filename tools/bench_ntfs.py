#!/usr/bin/env python3
"""Measures the NTFS work against the file system's own utilities, plain reading and a plain copy.

Usage: tools/bench_ntfs.py [FOLDER [PART...]]. As root, with loop devices and /dev/fuse; needs 16 GB in FOLDER (default: a temporary one). In a
FOLDER on a tmpfs seeks and the medium cost nothing, and what is left is the program's own share.

PART is one of scan, large and move; all three without it. Scan: a volume with 300,000 files, audited by us and by the utilities' consistency report, five times each in turns, the file in
the page cache. Check: `check` of a system disk with this volume as its third partition, on a loop device, and only reading the bytes
of the volume's MFT and bitmap from the same device, five times each in turns; both past the page cache. Large: the same audit of a volume with a million files, once. Move: what a shrink moves out of
the tail of a volume, 2 GiB, as the commit does it (hashed, flushed, read back), and the same extents plainly copied and synced
by dd, through the page cache and past it; each on a fresh copy of the volume on a loop device, five times in turns.
"""
import contextlib
import mmap
import os
import re
import shutil
import struct
import subprocess
import sys
import tempfile
import time

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
RELEASE = os.environ.get("CARGO_TARGET_DIR", os.path.join(ROOT, "target")) + "/release"
TARGET = RELEASE + "/examples/bench_volume"


def volume(path, size, fill):
    with open(path, "wb") as file:
        file.truncate(size)
    subprocess.run(["mkntfs", "-F", "-Q", "-q", "-s", "512", "-c", "4096", "-p", "0", "-H", "255", "-S", "63", path], check=True,
                   stderr=subprocess.DEVNULL)
    mount = path + ".mnt"
    os.mkdir(mount)
    driver = subprocess.Popen(["ntfs-3g", "-o", "no_detach,noatime", path, mount])
    while not os.path.ismount(mount):
        time.sleep(0.01)
    fill(mount)
    subprocess.run(["umount", mount], check=True)
    driver.wait()
    os.rmdir(mount)


def run(*command):
    """Seconds of the whole process and its peak in MiB; its output."""
    begun = time.monotonic()
    child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    output = child.stdout.read()
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    if child.returncode:
        sys.exit(f"{' '.join(command)} ended with {child.returncode}")
    return time.monotonic() - begun, usage.ru_maxrss / 1024, output


def many_files(folders):
    def fill(mount):
        for folder in range(folders):
            os.mkdir(f"{mount}/{folder}")
            for number in range(1000):
                with open(f"{mount}/{folder}/file number {number}", "wb") as file:
                    file.write(b"x" * (number % 3 * 700))
    return fill


def large(folder):
    path = f"{folder}/large.img"
    volume(path, 6 << 30, many_files(1000))
    ours, theirs = (run(TARGET, "audit", path), run("ntfsresize", "--info", "--force", "--no-progress-bar", path))
    print(f"scan of a million files: ours {ours[0]:.2f} s, peak {ours[1]:.0f} MiB; the utilities' report {theirs[0]:.2f} s", flush=True)
    os.remove(path)


def scan(folder):
    path = f"{folder}/files.img"
    volume(path, 4 << 30, many_files(300))
    ours, theirs = [], []
    run(TARGET, "audit", path)
    for _ in range(5):
        ours.append(run(TARGET, "audit", path))
        theirs.append(run("ntfsresize", "--info", "--force", "--no-progress-bar", path))
    files = ours[0][2].split()[0]
    print(f"scan of {files} files: ours {' '.join(f'{r[0]:.3f}' for r in ours)} s, peak {max(r[1] for r in ours):.1f} MiB; "
          f"the utilities' report {' '.join(f'{r[0]:.3f}' for r in theirs)} s; "
          f"ratio of the medians {sorted(r[0] for r in ours)[2] / sorted(r[0] for r in theirs)[2]:.2f}")
    check(folder, path)
    os.remove(path)


@contextlib.contextmanager
def loop(path):
    """The file as a block device."""
    device = subprocess.run(["losetup", "--direct-io=on", "--find", "--show", path], check=True, capture_output=True, text=True).stdout.strip()
    try:
        yield device
    finally:
        subprocess.run(["losetup", "--detach", device], check=True)


def runs(volume_path, file):
    """The extents of a metadata file in bytes: (begin, length)."""
    report = subprocess.run(["ntfsinfo", "-f", "-i", file, "-v", volume_path], capture_output=True, text=True).stdout
    data = report[report.index("Dumping attribute $DATA (0x80)"):]
    data = re.split(r"Dumping attribute|End of inode", data)[1]
    found = re.findall(r"^\s+0x[0-9a-f]+\s+0x([0-9a-f]+)\s+0x([0-9a-f]+)", data, re.M)
    return [(int(first, 16) * 4096, int(count, 16) * 4096) for first, count in found]


def read_plainly(device, extents):
    """Seconds to read the extents past the page cache."""
    buffer = mmap.mmap(-1, 1 << 20)
    file = os.open(device, os.O_RDONLY | os.O_DIRECT)
    begun = time.monotonic()
    for first, length in extents:
        for at in range(first, first + length, 1 << 20):
            os.preadv(file, [memoryview(buffer)[:min(1 << 20, first + length - at)]], at)
    seconds = time.monotonic() - begun
    os.close(file)
    return seconds


def check(folder, volume_path):
    disk, first = f"{folder}/disk.img", 20_000_000 // 4096 * 4096
    subprocess.run([RELEASE + "/examples/bench_disk", disk, "20"], check=True)
    sectors = os.path.getsize(volume_path) // 512
    subprocess.run(["dd", f"if={volume_path}", f"of={disk}", "bs=1M", "conv=notrunc,sparse", "oflag=seek_bytes", f"seek={first * 512}",
                    "status=none"], check=True)
    with open(disk, "r+b") as file:
        # The third entry of the table, and the volume's hidden sectors in both copies of its boot sector.
        file.seek(446 + 32)
        file.write(struct.pack("<B3sB3sII", 0, b"\xfe\xff\xff", 7, b"\xfe\xff\xff", first, sectors))
        for boot_sector in [first, first + sectors - 1]:
            file.seek(boot_sector * 512 + 28)
            file.write(struct.pack("<I", first))
    extents = [(first * 512 + at, length) for file in ["0", "6"] for at, length in runs(volume_path, file)]
    ours, plain = [], []
    with loop(disk) as device:
        for _ in range(5):
            ours.append(run(RELEASE + "/schwelle", "check", device, "--quiet"))
            plain.append(read_plainly(device, extents))
    print(f"check of the disk: {' '.join(f'{r[0]:.3f}' for r in ours)} s, peak {max(r[1] for r in ours):.1f} MiB; only reading "
          f"{sum(length for _, length in extents) >> 20} MiB of MFT and bitmap: {' '.join(f'{s:.3f}' for s in plain)} s; "
          f"ratio of the medians {sorted(r[0] for r in ours)[2] / sorted(plain)[2]:.2f}")
    os.remove(disk)


def ballast(mount):
    chunk = os.urandom(1 << 20)
    for name, mib in [("front", 2300), ("tail", 2048)]:
        with open(f"{mount}/{name}", "wb") as file:
            for _ in range(mib):
                file.write(chunk)
    os.remove(f"{mount}/front")


def copy_plainly(device, extents, *past):
    """Seconds that dd needs for the extents, each synced at its end."""
    begun = time.monotonic()
    for source, destination, length in extents:
        subprocess.run(["dd", f"if={device}", f"of={device}", "bs=1M", f"skip={source}", f"seek={destination}", f"count={length}",
                        ",".join(["iflag=skip_bytes", "count_bytes", *past]), ",".join(["oflag=seek_bytes", *past]),
                        "conv=notrunc,fsync", "status=none"], check=True)
    return time.monotonic() - begun


def move(folder):
    path, copy = f"{folder}/moved.img", f"{folder}/copy.img"
    volume(path, 5 << 30, ballast)
    # The end after which the second file lies.
    report = subprocess.run(["ntfsinfo", "-f", "-F", "tail", "-v", path], capture_output=True, text=True).stdout
    first = min(int(match, 16) for match in re.findall(r"^\s+0x[0-9a-f]+\s+0x([0-9a-f]+)\s+0x[0-9a-f]+", report, re.M))
    sectors = str(first * 8 + 1)
    extents = [tuple(map(int, line.split())) for line in run(TARGET, "moves", path, sectors)[2].splitlines()]
    mib = sum(length for _, _, length in extents) / 2**20
    ways = {
        "moved": lambda device: float(run(TARGET, "move", device, sectors)[2]),
        "copied and synced": lambda device: copy_plainly(device, extents),
        "copied past the cache and synced": lambda device: copy_plainly(device, extents, "direct"),
    }
    rates = {what: [] for what in ways}
    for _ in range(5):
        for what, way in ways.items():
            shutil.copyfile(path, copy)
            with loop(copy) as device:
                subprocess.run(["sync"], check=True)
                rates[what].append(mib / way(device))
    median = {what: sorted(list_of)[2] for what, list_of in rates.items()}
    for what, list_of in rates.items():
        print(f"{what}: {mib:.0f} MiB in {len(extents)} extents at {' '.join(f'{rate:.0f}' for rate in list_of)} MiB/s; "
              f"moved at {median['moved'] / median[what]:.2f} of this")


def main():
    subprocess.run(["cargo", "build", "--release", "--quiet", "--example", "bench_volume", "--example", "bench_disk", "--bin", "schwelle"], cwd=ROOT, check=True)
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as folder:
        for part in sys.argv[2:] or ("scan", "large", "move"):
            {"scan": scan, "large": large, "move": move}[part](folder)


if __name__ == "__main__":
    main()
