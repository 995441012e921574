"""schwelle.exe under Wine, beside the program for Linux: see windows.sh. Every check that fails ends it.

No Windows runs here. Wine stands in for its calls, and windows/disk.c, a driver, for its disks and the places of volumes on
them. What Wine does not have: taking a volume off, locks that are refused, and the firmware's variables; those have unit
tests with stand-ins, which are run here as well.
"""

import fcntl
import hashlib
import json
import os
import random
import re
import select
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import termios
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
WINE = next(path for path in ("/usr/lib/wine/wine64", "/usr/bin/wine64", "/usr/bin/wine") if Path(path).exists())
SERVER = next(path for path in ("/usr/lib/wine/wineserver64", "/usr/bin/wineserver") if Path(path).exists())
GCC = "x86_64-w64-mingw32-gcc"
LIMIT = 300
# What belongs to every Windows since 7, or is loaded by its own name there.
SYSTEM_LIBRARIES = {
    "advapi32.dll", "api-ms-win-core-synch-l1-2-0.dll", "bcryptprimitives.dll", "kernel32.dll", "msvcrt.dll",
    "ntdll.dll", "userenv.dll", "ws2_32.dll",
}
GUID = re.compile(rb"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}", re.I)

MADE = re.compile(rb'"made": "[^"]*"')


def check(condition, told):
    if not condition:
        raise SystemExit(f"FAILED: {told}")


def run(*command, **more):
    done = subprocess.run([str(c) for c in command], capture_output=True, text=True, timeout=LIMIT, **more)
    check(done.returncode == 0, f"{command}: {done.returncode}\n{done.stdout}{done.stderr}")
    return done.stdout


def digest(path):
    return hashlib.sha256(Path(path).read_bytes()).hexdigest()


def copy(source, target):
    run("cp", "--sparse=always", source, target)


class Wine:
    """A prefix with a drive C: and no other, the program on it, and stand-ins for what Wine lacks."""

    def __init__(self, work, program):
        self.drive = work / "prefix/drive_c"
        self.env = {
            "PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8", "HOME": str(work), "WINEPREFIX": str(work / "prefix"),
            "WINEDEBUG": "-all",
            "WINEDLLOVERRIDES": "mscoree=;mshtml=",
        }
        places = work / "prefix/dosdevices"
        places.mkdir(parents=True)
        self.drive.mkdir()
        # The root of this machine is not on any drive: what is opened there would be opened by mistake.
        (places / "c:").symlink_to("../drive_c")
        # A second volume.
        (work / "prefix/drive_d").mkdir()
        (places / "d:").symlink_to("../drive_d")
        # What it starts stays, and would keep a pipe open.
        silent = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "timeout": LIMIT}
        subprocess.run([SERVER, "-p3600"], env=self.env, check=True, **silent)
        # Any first program sets the prefix up; asking for that by name would start its services twice.
        subprocess.run([WINE, "cmd", "/c", "exit"], env=self.env, check=True, **silent)
        self.program = self.drive / "schwelle.exe"
        shutil.copy(program, self.program)
        # Random numbers come from a library that Wine does not have.
        definitions = work / "random.def"
        definitions.write_text("LIBRARY bcryptprimitives.dll\nEXPORTS\nProcessPrng\n")
        run(GCC, "-shared", "-O1", "-o", self.drive / "windows/system32/bcryptprimitives.dll",
            ROOT / "tools/windows/random.c", definitions, "-ladvapi32")

    def start_disks(self):
        """Starts the driver, which makes a disk of each file in C:\\disks."""
        kit = "/usr/x86_64-w64-mingw32/include/ddk"
        driver = self.drive / "windows/system32/drivers/disk.sys"
        run(GCC, "-O1", "-Wall", "-Werror", f"-I{kit}", "-nostdlib", "-shared", "-Wl,--subsystem,native",
            "-Wl,--entry,DriverEntry", "-o", driver, ROOT / "tools/windows/disk.c", "-lntoskrnl")
        path = "C:\\windows\\system32\\drivers\\disk.sys"
        for words in (("create", "standin", "binPath=", path, "type=", "kernel"), ("start", "standin")):
            subprocess.run([WINE, "sc", *words], env=self.env, cwd=self.drive, check=True, stdout=subprocess.DEVNULL,
                           stderr=subprocess.DEVNULL, timeout=LIMIT)

    def volume(self, letter):
        """The name of the volume with this drive letter."""
        listed = run(WINE, "reg", "query", "HKLM\\System\\MountedDevices", env=self.env)
        ids = dict(re.findall(r"^ *(\\\S+) +REG_BINARY +(\S+)", listed, re.M))
        names = [name for name, what in ids.items() if "Volume{" in name and what == ids[f"\\DosDevices\\{letter}:"]]
        check(len(names) == 1, listed)
        return names[0]

    def command(self, *arguments):
        return [WINE, "C:\\schwelle.exe", *map(str, arguments)]

    def schwelle(self, *arguments, cwd, code=0, stdin=""):
        for again in (True, False):
            done = subprocess.run(self.command(*arguments), cwd=cwd, env=self.env, input=stdin.encode(),
                                  capture_output=True, timeout=LIMIT)
            told = (done.stdout + done.stderr).decode(errors="replace")
            # The program says why it fails. On a busy machine Wine may not start it, and then there is no message.
            if done.returncode == code or told or "--quiet" in arguments or not again:
                break
            print(f"    {arguments[0]}: nothing was said ({done.returncode}), once more", flush=True)
        check(done.returncode == code, f"schwelle.exe {arguments}: {done.returncode}, not {code}\n{told}")
        return done.stdout, told

    def stop(self):
        subprocess.run([SERVER, "-k"], env=self.env, check=False)


class Bench:
    """The demo's disks, and both programs."""

    def __init__(self, work, linux, wine):
        self.linux_program, self.wine = linux, wine
        self.disks = wine.drive / "bench"
        run(linux, "demo", "--quiet", self.disks)
        run(os.environ["PC_DISKS"], self.disks)
        self.images = sorted(path.name for path in self.disks.glob("*.img"))

    def linux(self, *arguments, cwd, code=0):
        done = subprocess.run([self.linux_program, *map(str, arguments)], cwd=cwd, capture_output=True, timeout=LIMIT)
        told = (done.stdout + done.stderr).decode(errors="replace")
        check(code is None or done.returncode == code, f"{arguments}: {done.returncode}, not {code}\n{told}")
        return done.stdout, done.returncode

    def fresh(self, name, image="beacon.img"):
        """A folder of its own with a copy of a disk that has not been converted."""
        folder = self.wine.drive / name
        folder.mkdir()
        copy(self.disks / image, folder / "disk.img")
        return folder


def one_file(program):
    """The program is one file without libraries of others, and says what it is."""
    listed = run("x86_64-w64-mingw32-objdump", "-p", program)
    needed = {name.lower() for name in re.findall(r"DLL Name: (\S+)", listed)}
    check(needed and needed <= SYSTEM_LIBRARIES, f"needs {needed - SYSTEM_LIBRARIES}")
    content = program.read_bytes()
    for text in (b"longPathAware", b"asInvoker", "ProductVersion".encode("utf-16-le")):
        check(text in content, f"{text} is not in the program")
    print(f"one file: {len(content) / (1 << 20):.1f} MiB, needs {', '.join(sorted(needed))}")


def units(wine, tests):
    """The unit tests of devices and commit, and of the room for Windows."""
    shutil.copy(tests, wine.drive / "units.exe")
    done = subprocess.run([WINE, "C:\\units.exe"], cwd=wine.drive, env=wine.env, capture_output=True, timeout=LIMIT)
    told = (done.stdout + done.stderr).decode(errors="replace")
    check(done.returncode == 0 and "host::windows::volumes" in told, told)
    print("unit tests:", re.search(r"test result: (.*?);", told)[1])


def demo(wine):
    """The whole job on the demo's disks."""
    _, told = wine.schwelle("demo", "demo", cwd=wine.drive)
    check("Confirmed" in told and "Starts." in told, told)
    print("demo: the whole job")


def same_answers(bench):
    """Every reading command says byte for byte the same under both systems."""
    about = [("check",), ("plan",), ("rehearse",), ("rehearse", "--to", "mbr"), ("check", "--to", "mbr"), ("confirm",),
             ("survey",), ("firmware", "sheet")]
    asked = [(*command, image) for command in about for image in bench.images]
    asked += [("rules",), ("survey", *bench.images)]
    machines = sorted(path.name for path in bench.disks.glob("*.toml"))
    asked += [(*command, "--machine", machine) for machine in machines
              for command in (("firmware",), ("check", "beacon.img"), ("firmware", "start"))]
    asked += [("report", "--job", path.name) for path in sorted(bench.disks.glob("*.job"))]
    for command in asked:
        expected, code = bench.linux(*command, "--json", cwd=bench.disks, code=None)
        found, _ = bench.wine.schwelle(*command, "--json", cwd=bench.disks, code=code)
        # A job folder beside the image, as each system writes its path.
        found = found.replace(b".\\\\", b"./")
        # New GUIDs in a plan are other ones each time, and a report says when it was made.
        if command[0] == "plan":
            expected, found = GUID.sub(b"GUID", expected), GUID.sub(b"GUID", found)
        if command[0] == "report":
            expected, found = MADE.sub(b"", expected), MADE.sub(b"", found)
        if expected != found:
            at = next(i for i, (a, b) in enumerate(zip(expected + b"\0", found + b"\0")) if a != b)
            told = f"{expected[max(0, at - 80):at + 80]}\n{found[max(0, at - 80):at + 80]}"
            check(False, f"{command}: the systems differ at {at}\n{told}")
    print(f"answers: {len(asked)} JSON documents are the same")


def there_and_back(bench):
    """Converted under one system, finished and taken back under the other: the image is as before, to the byte."""
    for begins in ("linux", "windows"):
        folder = bench.fresh(f"across-{begins}")
        before = digest(folder / "disk.img")
        convert = ("convert", "disk.img", "--job", "job", "--yes", "--quiet")
        undo = ("undo", "--job", "job", "--yes")
        if begins == "linux":
            bench.linux(*convert, cwd=folder)
            bench.wine.schwelle("rehearse", "disk.img", cwd=folder)
            bench.wine.schwelle(*undo, cwd=folder)
        else:
            bench.wine.schwelle(*convert, cwd=folder)
            bench.linux("rehearse", "disk.img", cwd=folder)
            bench.linux(*undo, cwd=folder)
        check(digest(folder / "disk.img") == before, f"{begins}: the disk is not as before")
    print("there and back: both ways, byte for byte")


def as_before(found, original, finished):
    """True where a disk is as before but for free clusters: those may hold the copies that the finished job left there."""
    size = 512
    with open(found, "rb") as a, open(original, "rb") as b, open(finished, "rb") as c:
        while found_part := a.read(1 << 20):
            parts = found_part, b.read(1 << 20), c.read(1 << 20)
            if parts[0] == parts[1]:
                continue
            for at in range(0, len(found_part), size):
                sectors = [part[at:at + size] for part in parts]
                if sectors[0] not in sectors[1:]:
                    return False
    return True


def ended(bench, cuts):
    """The program is ended anywhere: resume finishes and undo restores, under either system."""
    dice = random.Random(22)
    counts = {"before": 0, "between": 0, "after": 0}
    folder = bench.fresh("ended", "chartroom.img")
    original, finished = folder / "original.img", folder / "finished.img"
    copy(folder / "disk.img", original)
    command = bench.wine.command("convert", "disk.img", "--job", "job", "--yes", "--quiet")
    start = time.monotonic()
    subprocess.run(command, cwd=folder, env=bench.wine.env, check=True, capture_output=True)
    whole = time.monotonic() - start
    bench.linux("undo", "--job", "job", "--yes", cwd=folder)
    copy(folder / "disk.img", finished)
    # On a busy machine it takes more of them to meet the few moments between the first and the last write.
    for cut in range(10 * cuts):
        if cut >= cuts and counts["between"]:
            break
        shutil.rmtree(folder / "job")
        copy(original, folder / "disk.img")
        process = subprocess.Popen(command, cwd=folder, env=bench.wine.env, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL)
        time.sleep(dice.uniform(0.5, 0.95) * whole)
        process.send_signal(signal.SIGKILL)
        process.wait()
        (folder / "job").mkdir(exist_ok=True)
        if digest(folder / "disk.img") == digest(original):
            counts["before"] += 1
            continue
        _, code = bench.linux("rehearse", "disk.img", cwd=folder, code=None)
        counts["after" if code == 0 else "between"] += 1
        if cut % 2:
            bench.linux("undo", "--job", "job", "--yes", "--folder-name", "job", cwd=folder)
        else:
            bench.wine.schwelle("resume", "--job", "job", "--folder-name", "job", cwd=folder)
            bench.linux("rehearse", "disk.img", cwd=folder)
            bench.wine.schwelle("undo", "--job", "job", "--yes", cwd=folder)
        check(as_before(folder / "disk.img", original, finished), f"cut {cut}: the disk is not as before")
        bench.linux("rehearse", "disk.img", "--to", "mbr", cwd=folder)
    told = ", ".join(f"{count} {when}" for when, count in counts.items())
    check(counts["between"] > 0, f"no end between the first and the last write: {told}")
    print(f"ended: {told}")


def held(bench):
    """An image that another Schwelle is about to write is not opened."""
    folder = bench.fresh("held")
    command = bench.wine.command("convert", "disk.img", "--job", "job")
    first = subprocess.Popen(command, cwd=folder, env=bench.wine.env, stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                             stderr=subprocess.STDOUT)
    told = b""
    while b"(yes/no)" not in told:
        byte = first.stdout.read(1)
        check(byte, f"it did not ask: {told.decode(errors='replace')}")
        told += byte
    _, refused = bench.wine.schwelle("check", "disk.img", cwd=folder, code=3)
    check("in use" in refused, refused)
    first.communicate(b"no\n")
    bench.wine.schwelle("check", "disk.img", cwd=folder)
    print("held: an image in use is refused")


class Console:
    """A program in a console, typed to."""

    def __init__(self, wine, cwd, *command):
        self.told = b""
        self.terminal, inner = os.openpty()
        self.process = subprocess.Popen([WINE, *command], cwd=cwd, env={**wine.env, "TERM": "xterm"}, stdin=inner,
                                        stdout=inner, stderr=inner, start_new_session=True,
                                        preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0))
        os.close(inner)

    def until(self, wanted):
        """Reads until this is so."""
        end = time.monotonic() + 60
        while not wanted():
            has_ended = self.process.poll() is not None
            try:
                # What shows the console goes on for a moment after the program.
                while select.select([self.terminal], [], [], 1 if has_ended else 0.01)[0]:
                    self.told += os.read(self.terminal, 65536)
            except OSError:
                has_ended = True
            is_over = has_ended or time.monotonic() > end
            check(wanted() or not is_over, self.told.decode(errors="replace"))

    def end(self):
        """Reads to the end; how it ended."""
        try:
            while text := os.read(self.terminal, 65536):
                self.told += text
        except OSError:
            # The console has ended with the program.
            pass
        return self.process.wait(LIMIT)

    def type(self, text):
        os.write(self.terminal, text.encode())


def long_paths(bench):
    """Paths beyond 260 characters, with letters beyond ASCII."""
    folder = bench.fresh("lang")
    deep = "\\".join(["Werkstatt für größere Aufträge"] * 11)
    bench.wine.schwelle("convert", "disk.img", "--job", f"C:\\lang\\{deep}", "--yes", "--quiet", cwd=folder)
    _, told = bench.wine.schwelle("undo", "--job", f"C:\\lang\\{deep}", "--yes", cwd=folder)
    check(len(deep) > 300, "the path is not long")
    print(f"long paths: {len(deep)} characters")


def largest_ntfs(image):
    """First sector and number of sectors of the largest partition with NTFS, from either table; sectors of 512 bytes."""
    with open(image, "rb") as file:
        head = file.read(34 * 512)
        parts = [struct.unpack_from("<II", head, 446 + 16 * index + 8) for index in range(4)]
        if head[512:520] == b"EFI PART":
            ends = [struct.unpack_from("<QQ", head, 1024 + 128 * index + 32) for index in range(128)]
            parts = [(first, last - first + 1) for first, last in ends]
        found = []
        for first, sectors in parts:
            file.seek(512 * first)
            if file.read(11)[3:] == b"NTFS    ":
                found.append((sectors, first))
    sectors, first = max(found)
    return first, sectors


def disks(bench):
    """Disks of the PC, with 512 and 4096 bytes a sector: looked at, converted, taken back; and each refusal."""
    folder = bench.wine.drive / "disks"
    folder.mkdir()
    copy(bench.disks / "beacon.img", folder / "7.img")
    copy(bench.disks / "large.img", folder / "8.img")
    (folder / "8.4096").touch()
    # Disks with mounted volumes: the one that the running system is on, and another.
    for number, image, letter in ((3, "breakwater.img", "C"), (4, "chartroom.img", "D")):
        copy(bench.disks / image, folder / f"{number}.img")
        first, sectors = largest_ntfs(folder / f"{number}.img")
        name = bench.wine.volume(letter).encode("utf-16-le")
        place = struct.pack("<QQ112s", 512 * first, 512 * sectors, name)
        (folder / f"{number}.volumes").write_bytes(place)
    bench.wine.start_disks()
    surveyed, _ = bench.wine.schwelle("survey", "--json", cwd=folder, code=3)
    serials = {}
    for line in surveyed.splitlines():
        found = json.loads(line)
        serials[found["disk"]] = found.get("serial")
    check(serials.get("\\\\.\\PhysicalDrive7") == "MADE-UP-7" and serials.get("\\\\.\\PhysicalDrive8") == "MADE-UP-8",
          f"survey: {serials}")
    for number, sector in ((7, 512), (8, 4096)):
        image, name = folder / f"{number}.img", f"\\\\.\\PhysicalDrive{number}"
        before = digest(image)
        looked, _ = bench.wine.schwelle("check", name, "--json", cwd=folder)
        sizes = [found["evidence"]["bytes"] for found in json.loads(looked)["findings"]
                 if found["rule"] == "medium.sector-size"]
        check(sizes == [sector], f"{name}: {sizes}")
        # By its serial number; and not without the caution's own answer.
        convert = ("convert", f"MADE-UP-{number}", "--job", f"job{number}", "--yes")
        _, told = bench.wine.schwelle(*convert, cwd=folder, code=2)
        check("--from-windows" in told, told)
        check(digest(image) == before, "refused, and written")
        bench.wine.schwelle(*convert, "--from-windows", cwd=folder)
        bench.linux("rehearse", f"{number}.img", cwd=folder)
        bench.wine.schwelle("rehearse", name, cwd=folder)
        bench.wine.schwelle("undo", "--job", f"job{number}", "--yes", "--from-windows", cwd=folder)
        check(digest(image) == before, f"{name} is not as before")
    # The disk of the running system: looked at twice, never written, and the one that "confirm" asks about.
    _, told = bench.wine.schwelle("check", "MADE-UP-3", cwd=folder, code=1)
    check("PhysicalDrive3 has the running system on it (C:\\)" in told, told)
    before = digest(folder / "3.img")
    _, told = bench.wine.schwelle("convert", "MADE-UP-3", "--job", "job3", "--yes", "--from-windows", cwd=folder, code=1)
    check("the running system on it (C:\\)" in told and digest(folder / "3.img") == before, told)
    looked, _ = bench.wine.schwelle("confirm", "--json", cwd=folder, code=1)
    check(b"the running Windows lies on this disk (C:" in looked, looked)
    # A disk with a mounted volume: read while in use; not written, since nothing here can take that volume off.
    looked, _ = bench.wine.schwelle("check", "MADE-UP-4", "--json", cwd=folder)
    found = [found for found in json.loads(looked)["findings"] if found["rule"] == "medium.in-use"]
    check("read twice" in found[0]["evidence"]["text"] and found[0]["outcome"] == "caution", found)
    before = digest(folder / "4.img")
    _, told = bench.wine.schwelle("convert", "MADE-UP-4", "--job", "job4", "--yes", "--from-windows", cwd=folder, code=3)
    check("D:\\ is in use" in told and digest(folder / "4.img") == before, told)
    # Protected from writing: a rule says so.
    (folder / "7.readonly").touch()
    _, told = bench.wine.schwelle("check", "\\\\.\\PhysicalDrive7", cwd=folder, code=1)
    check("medium.writable" in told, told)
    (folder / "7.readonly").unlink()
    # A sector that cannot be written: its number is named, and undo has the disk as before.
    before = digest(folder / "7.img")
    size = (folder / "7.img").stat().st_size // 512
    (folder / "7.bad").write_bytes((size - 40).to_bytes(8, "little"))
    convert = ("convert", "MADE-UP-7", "--job", "bad", "--yes", "--from-windows")
    _, told = bench.wine.schwelle(*convert, cwd=folder, code=4)
    check(re.search(r"LBA \d+: write failed", told), told)
    (folder / "7.bad").unlink()
    bench.wine.schwelle("undo", "--job", "bad", "--folder-name", "bad", "--yes", "--from-windows", cwd=folder)
    check(digest(folder / "7.img") == before, "not as before after a write error")
    print("disks: 512 and 4096 bytes a sector, converted and taken back; the running system's, one with a mounted volume; "
          "write protection, a bad sector")


def typed(bench):
    """A disk converted in a console, all questions answered by typing; the one about Windows among them."""
    folder = bench.wine.drive / "disks"
    before = digest(folder / "7.img")
    program = Console(bench.wine, folder, "C:\\schwelle.exe", "convert", "MADE-UP-7", "--job", "typed")
    for asked, answer in ((b"Write this disk from here?", "yes"), (b"backup of the customer's data", "yes"),
                          (b"type its disk name", "BEACON-ROOM")):
        program.until(lambda: asked in program.told)
        program.type(f"{answer}\r")
    code = program.end()
    check(code == 0 and digest(folder / "7.img") != before, program.told.decode(errors="replace"))
    bench.wine.schwelle("undo", "--job", "typed", "--yes", "--from-windows", cwd=folder)
    check(digest(folder / "7.img") == before, "not as before")
    print("typed: every question, in a console")


def tests_for_linux(work, wine, tests):
    """The command line's own tests, those that need no other program and nothing that only Linux has."""
    place = work / "as_linux"
    place.mkdir()
    shutil.copy(ROOT / "tools/windows/as_linux.py", place / "schwelle")
    (place / "schwelle").chmod(0o755)
    places = {"wine": WINE, "program": "C:\\schwelle.exe", "drive": str(wine.drive), "env": wine.env}
    (place / "as_linux.json").write_text(json.dumps(places))
    temporary = wine.drive / "tmp"
    temporary.mkdir(exist_ok=True)
    left_out = [line.split("#")[0].strip() for line in (ROOT / "tools/windows/left-out.txt").read_text().splitlines()]
    skip = [word for name in left_out if name for word in ("--skip", name)]
    env = {**os.environ, "TMPDIR": str(temporary), "CARGO_BIN_EXE_schwelle": str(place / "schwelle")}
    done = subprocess.run([tests, "--include-ignored", "--test-threads", "4", *skip], env=env, cwd=ROOT / "crates/schwelle",
                          capture_output=True, text=True)
    check(done.returncode == 0, done.stdout[-20000:] + done.stderr)
    print("tests for Linux:", re.search(r"test result: (.*)", done.stdout)[1])


def main():
    program, unit_tests, linux, *tests = (Path(argument).resolve() for argument in sys.argv[1:])
    work = Path(tempfile.mkdtemp(prefix="schwelle-wine-"))
    wine = Wine(work, program)
    try:
        one_file(program)
        units(wine, unit_tests)
        demo(wine)
        bench = Bench(work, linux, wine)
        same_answers(bench)
        there_and_back(bench)
        ended(bench, 12)
        held(bench)
        long_paths(bench)
        disks(bench)
        typed(bench)
        if tests:
            tests_for_linux(work, wine, tests[0])
    finally:
        wine.stop()
        shutil.rmtree(work, ignore_errors=True)


main()
