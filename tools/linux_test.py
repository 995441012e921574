"""A whole Linux changes from BIOS to UEFI and back, alone on its disk and beside a Windows: see linux-test.sh. Every check
that fails ends it."""

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

# No files beside the sources.
sys.dont_write_bytecode = True
sys.path.insert(0, str(Path(__file__).resolve().parent))
from pc_test import OVMF, PC, check, let_go, run  # noqa: E402

PROGRAM = Path(os.environ["SCHWELLE"])
PROMPT = "leuchtturm login:"
# The first volume, which its own tools made: from sector 2048 on.
VOLUME = (2048 * 512, (3 << 20) * 512)


class Bench:
    """What a virtual PC here needs of a stick: a folder."""

    def __init__(self, work):
        self.work = work


def schwelle(*arguments):
    return run(PROGRAM, *arguments)


def starts(bench, name, disk, keys=None, snapshot="on", picture=None):
    """Starts a disk, in BIOS mode or on firmware with these keys and Secure Boot on, to the login prompt."""
    begun = time.monotonic()
    pc = PC(bench, name)
    if keys:
        variables = bench.work / f"{name}.fd"
        shutil.copy(keys, variables)
        pc.uefi(variables, secure=True)
    else:
        pc.bios()
    pc.arguments += ["-cpu", "max"]
    pc.ahci(disk, "LINUX-1", snapshot=snapshot)
    pc.start()
    pc.wait_for(PROMPT)
    text = pc.text()
    if picture:
        # The prompt of the screen comes a moment after that of the serial line.
        time.sleep(3)
        pc.qmp("screendump", filename=str(picture), format="png")
    pc.cut()
    print(f"    {name}: to the prompt in {time.monotonic() - begun:.0f} s", flush=True)
    return text


def files(bench, disk, name):
    """Every file of the Linux volume, by the kernel's own driver, with its hash."""
    at = bench.work / f"{name}.mount"
    at.mkdir(exist_ok=True)
    run("mount", "-o", f"ro,noload,loop,offset={VOLUME[0]},sizelimit={VOLUME[1]}", disk, at)
    try:
        found = {}
        for path in sorted(at.rglob("*")):
            if path.is_file() and not path.is_symlink():
                found[str(path.relative_to(at))] = hashlib.sha256(path.read_bytes()).hexdigest()
        check(len(found) > 5000, f"only {len(found)} files")
        return found
    finally:
        let_go("umount", at)


def same(first, second):
    return subprocess.run(["cmp", "-s", first, second]).returncode == 0


def crosses(bench, name, disk, loaders, options, picture=None):
    """The whole way: converted, UEFI with Secure Boot, taken back, BIOS."""
    work = bench.work
    old = work / f"{name}-old.img"
    run("cp", "--sparse=always", disk, old)
    before = files(bench, disk, name)
    job = work / "jobs" / name
    job.parent.mkdir(exist_ok=True)
    schwelle("convert", disk, "--boot-files", loaders, "--job", job, "--yes", "--job-in-memory", *options)
    check(files(bench, disk, name) == before, f"{name}: the Linux volume has other files")
    untouched = work / f"{name}-converted.img"
    run("cp", "--sparse=always", disk, untouched)
    shutil.copytree(job, work / "jobs" / f"{name}-untouched")
    # For real: the system writes to its volume and its swap area, and then power goes.
    text = starts(bench, f"{name}-after", disk, OVMF / "OVMF_VARS_4M.ms.fd", "off", picture)
    check("secureboot: Secure boot enabled" in text, f"{name}: the kernel does not see Secure Boot\n{text[:3000]}")
    schwelle("undo", "--job", job, "--disk", disk, "--yes")
    starts(bench, f"{name}-back", disk)
    # One that was not used comes back to the byte.
    schwelle("undo", "--job", work / "jobs" / f"{name}-untouched", "--disk", untouched, "--yes")
    check(same(old, untouched), f"{name}: taken back, it is not the old disk")


def main():
    begun = time.monotonic()
    picture = Path(sys.argv[1]).resolve() if len(sys.argv) > 1 else None
    # Not in memory, and deeper than job folders are looked for.
    work = Path(tempfile.mkdtemp(prefix="linux-test-"))
    bench = Bench(work)
    try:
        linux, loaders = work / "linux.img", work / "loaders"
        run(Path(__file__).resolve().parent / "linux.sh", linux, loaders)
        print(f"the Linux: {time.monotonic() - begun:.0f} s", flush=True)
        beside = work / "beside.img"
        run(os.environ["BESIDE_LINUX"], linux, beside)
        run("cp", "--sparse=always", beside, beside.with_suffix(".copy"))
        name = "Debian GNU/Linux"
        first = [line for line in schwelle("check", beside, "--boot-files", loaders).splitlines() if name in line][0]
        first = first.split("System: ")[1].split(" on partition")[0]
        with ThreadPoolExecutor(2) as lanes:
            before = lanes.submit(starts, bench, "before", beside)
            ways = [lanes.submit(crosses, bench, "alone", linux, loaders, [], picture),
                    lanes.submit(crosses, bench, "beside", beside.with_suffix(".copy"), loaders, ["--starts-first", first])]
            for done in [before, *ways]:
                done.result()
    finally:
        if os.environ.get("SCHWELLE_KEEP"):
            print(f"kept: {work}")
        else:
            shutil.rmtree(work, ignore_errors=True)
    print(f"linux-test: passed in {time.monotonic() - begun:.0f} s")


main()
