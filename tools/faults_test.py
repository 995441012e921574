#!/usr/bin/env python3
"""The built program with input and output that fails; started by faults-test.sh.

The operations of a clean run are counted, then the run is repeated with one of them failing: once, or from then on. The exit
code must be true: 2 and 3 only for a disk as it was, 0 only for the finished one. With the fault gone, the job must be finished to the
converted disk, or taken back to the old one.
"""
import hashlib
import json
import os
import pathlib
import shutil
import subprocess
import sys

PROGRAM, WORK, EVERY = sys.argv[1], pathlib.Path(sys.argv[2]), int(sys.argv[3])
OPERATIONS = ("read", "write", "sync", "open")
READING = (("check",), ("survey",), ("rehearse",), ("plan",), ("confirm",))


def run(*arguments, **faults):
    env = {"PATH": os.environ["PATH"]}
    env |= {f"FAULT_{name.upper()}": str(value) for name, value in faults.items()}
    done = subprocess.run([WORK / "faults", PROGRAM, *arguments], cwd=WORK, env=env, capture_output=True, text=True, timeout=300)
    assert done.returncode in (0, 1, 2, 3, 4) and "panicked" not in done.stderr, (arguments, faults, done)
    return done


CHUNK = 1 << 20
ZEROS = bytes(CHUNK)


def digest(path):
    """A hash over what is not zero: the disks are sparse."""
    hasher = hashlib.blake2b()
    with open(path, "rb") as file:
        for number, chunk in enumerate(iter(lambda: file.read(CHUNK), b"")):
            if chunk != ZEROS:
                hasher.update(number.to_bytes(8) + chunk)
    return hasher.hexdigest()


def copy(source, target):
    subprocess.run(["cp", "--sparse=always", source, target], check=True)


def counted(file, operation, *arguments):
    """How many operations of this kind a clean run makes."""
    count = WORK / "count"
    done = run(*arguments, file=file, op=operation, count=count)
    return int(count.read_text()), done.returncode


class Job:
    """A demo disk at a moment of its job, which every run begins with anew."""

    def __init__(self, name, stopped):
        self.name, self.stopped = name, stopped
        self.disk, self.folder = WORK / "disk.img", WORK / "job"
        self.kept = WORK / f"kept-{name}-{stopped}"
        self.kept.mkdir()
        copy(WORK / f"demo/{name}.img", self.disk)
        self.old = digest(self.disk)
        shutil.rmtree(self.folder, ignore_errors=True)
        if stopped == "new":
            self.keep()
            return
        writes, _ = counted("disk.img", "write", "convert", "disk.img", "--yes", "--job", "job", "--quiet")
        self.converted = digest(self.disk)
        if stopped == "half-way":
            copy(WORK / f"demo/{name}.img", self.disk)
            shutil.rmtree(self.folder)
            run("convert", "disk.img", "--yes", "--job", "job", "--quiet", file="disk.img", op="write", at=writes // 2, **{"for": 1 << 30})
            self.keep()
            # The identities are other ones each time.
            run(*self.command("resume"))
            self.converted = digest(self.disk)
            return
        self.keep()

    def keep(self):
        copy(self.disk, self.kept / "disk.img")
        if self.folder.exists():
            shutil.copytree(self.folder, self.kept / "job")

    def begin(self):
        copy(self.kept / "disk.img", self.disk)
        shutil.rmtree(self.folder, ignore_errors=True)
        if (self.kept / "job").exists():
            shutil.copytree(self.kept / "job", self.folder)

    def command(self, name):
        if name == "convert":
            return ["convert", "disk.img", "--yes", "--job", "job", "--quiet"]
        more = ["--yes"] if name == "undo" else []
        return [name, "--job", "job", "--folder-name", "job", "--disk", "disk.img", "--quiet", *more]

    def is_undone(self):
        """The old disk, but for free clusters that took moved data."""
        if digest(self.disk) == self.old:
            return True
        old, now = bytearray((WORK / f"demo/{self.name}.img").read_bytes()), bytearray(self.disk.read_bytes())
        journal = json.loads((self.folder / "journal.json").read_text())
        for moved in journal["moves"]:
            first, end = moved["to_lba"] * 512, (moved["to_lba"] + moved["sectors"]) * 512
            old[first:end] = now[first:end] = bytes(end - first)
        return old == now

    def fails(self, name, file, operation, at, times):
        self.begin()
        before = digest(self.disk)
        done = run(*self.command(name), file=file, op=operation, at=at, **{"for": times})
        case = f"{self.name}, {self.stopped}: {name}, {operation} of {file} {at} ({times} times): {done.returncode} {done.stderr}"
        finished = digest(self.disk) == self.converted if name != "undo" and self.stopped != "new" else None
        if done.returncode == 0:
            assert (self.is_undone() if name == "undo" else finished is not False), case
        if done.returncode in (2, 3):
            assert digest(self.disk) == before, case
        if done.returncode == 1:
            # A rule blocks; or the disk is written, and its rehearsal could not read it.
            assert digest(self.disk) == before or finished is not False, case
        # With the fault gone.
        if self.folder.exists() and any(self.folder.iterdir()):
            undone = run(*self.command("undo"))
            never = "before anything was written" in undone.stderr or "taken back already" in undone.stderr \
                or "neither state-a.json" in undone.stderr
            assert undone.returncode == 0 or never, case + undone.stderr
            assert self.is_undone(), case + undone.stderr
        else:
            assert digest(self.disk) == self.old, case


def main():
    run("demo", "demo", "--quiet")
    cases = 0
    for name in ("beacon", "chartroom"):
        for stopped, commands in (("new", ["convert"]), ("half-way", ["resume", "undo"]), ("done", ["undo"])):
            job = Job(name, stopped)
            for command in commands:
                for file in ("disk.img", "/job/"):
                    for operation in OPERATIONS:
                        job.begin()
                        count, _ = counted(file, operation, *job.command(command))
                        for number, at in enumerate(range(0, count, EVERY)):
                            job.fails(command, file, operation, at, 1 if number % 2 else 1 << 30)
                            cases += 1
        job.begin()
        for command in READING:
            before = digest(job.disk)
            count, clean = counted("disk.img", "read", *command, "disk.img", "--json")
            for at in range(0, count, EVERY):
                done = run(*command, "disk.img", "--json", file="disk.img", op="read", at=at, **{"for": 1 << 30})
                # A read error must not turn into a good answer.
                assert done.returncode != 0 or clean == 0 and done.stdout, (command, at, done)
                assert digest(job.disk) == before
                cases += 1
        print(f"{name}: {cases} cases so far")
    print(f"{cases} cases of the built program")


main()
