#!/usr/bin/env python3
"""Measures memory and disk traffic of `check`, `plan`, `convert` and `rehearse` on huge sparse disks.

Usage: tools/bench.py [FOLDER]. Builds the release program and one disk for each size and number of partitions in FOLDER (default: a temporary one), and
prints a table: peak memory, bytes read and written by the program, seconds. For `convert` also the least that could be written
(the sectors that differ) and the ratio to it. Bytes are those of the read and write calls, from /proc/PID/io. At the end, as root, what
the care costs on a loop device: the same change sets with the job folder and the reading back, and bare, in the same stages with the
same flushes; nine times each in turns.
"""
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
# Size in GB and number of partitions: growth with either, and a disk beyond the reach of an MBR.
DISKS = [(20, 2), (200, 2), (2000, 2), (3300, 2), (200, 32), (200, 127)]


def measure(*command):
    begun = time.monotonic()
    child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    output = child.stdout.read()
    os.waitid(os.P_PID, child.pid, os.WEXITED | os.WNOWAIT)
    seconds = time.monotonic() - begun
    with open(f"/proc/{child.pid}/io") as text:
        io = {name: int(value) for name, value in (line.split(": ") for line in text)}
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    if child.returncode != 0:
        sys.exit(f"{' '.join(command)} ended with {child.returncode}")
    return usage.ru_maxrss / 1024, io["rchar"], io["wchar"], seconds, output


def safety(target, folder):
    """The same change sets with all care and bare, on the demo's disks with a gap and without."""
    subprocess.run([f"{target}/schwelle", "demo", f"{folder}/demo", "--quiet"], check=True, stderr=subprocess.DEVNULL)
    for name, image in [("gap", "beacon"), ("shrink", "chartroom")]:
        seconds = {"with care": [], "bare": []}
        for turn in range(9):
            for how in seconds:
                shutil.copyfile(f"{folder}/demo/{image}.img", f"{folder}/{image}.img")
                job = [f"{folder}/{image}-{turn}.job"] if how == "with care" else []
                device = subprocess.run(["losetup", "--direct-io=on", "--find", "--show", f"{folder}/{image}.img"], check=True,
                                        capture_output=True, text=True).stdout.strip()
                output = measure(f"{target}/examples/bench_job", device, *job)[4]
                subprocess.run(["losetup", "--detach", device], check=True)
                written, kept, took = output.split()
                seconds[how].append(float(took))
                if job:
                    in_job = int(kept)
        care, bare = (sorted(seconds[how])[4] for how in ("with care", "bare"))
        print(f"{name}: {int(written) / 1024:.1f} KiB to the disk, {in_job / 1024:.1f} KiB to the job folder; with care "
              f"{care * 1000:.1f} ms, bare {bare * 1000:.1f} ms: {care / bare:.1f} times the time, "
              f"{(int(written) + in_job) / int(written):.2f} times the bytes")


def main():
    subprocess.run(["cargo", "build", "--release", "--quiet", "--example", "bench_disk", "--example", "bench_job",
                    "--bin", "schwelle"], cwd=ROOT, check=True)
    target = os.environ.get("CARGO_TARGET_DIR", os.path.join(ROOT, "target")) + "/release"
    program = f"{target}/schwelle"
    with tempfile.TemporaryDirectory(dir=sys.argv[1] if len(sys.argv) > 1 else None) as folder:
        print(f"{'disk':>8} {'parts':>5}  {'command':10} {'peak MiB':>9} {'read MiB':>9} {'written KiB':>12} {'seconds':>8}")
        for size, parts in DISKS:
            disk, job = f"{folder}/{size}-{parts}.img", f"{folder}/{size}-{parts}.job"
            subprocess.run([f"{target}/examples/bench_disk", disk, str(size), str(parts)], check=True)
            commands = {"check": ["check", disk, "--quiet"], "plan": ["plan", disk, "--json"],
                        "convert": ["convert", disk, "--job", job, "--yes", "--quiet"],
                        "rehearse": ["rehearse", disk, "--quiet"]}
            for name, arguments in commands.items():
                peak, read, written, seconds, output = measure(program, *arguments)
                written -= len(output)  # what went to the standard output
                print(f"{size:>5} GB {parts:>5}  {name:10} {peak:9.1f} {read / 2**20:9.2f} {written / 1024:12.1f} {seconds:8.2f}")
            with open(f"{job}/job.json") as text:
                least = json.load(text)["plan"]["bytes_written"]
            folder_bytes = sum(os.path.getsize(f"{job}/{name}") for name in os.listdir(job))
            print(f"          least that must be written to the disk: {least / 1024:.1f} KiB; "
                  f"the job folder holds {folder_bytes / 1024:.1f} KiB")
            os.remove(disk)
        safety(target, folder)


if __name__ == "__main__":
    main()
