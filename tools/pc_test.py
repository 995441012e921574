"""The rescue stick in a virtual PC: see pc-test.sh. Every check that fails ends it."""

import hashlib
import json
import os
import random
import re
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OVMF = Path("/usr/share/OVMF")
# A start that takes longer has hung. Everything here ends by what is read, not by waiting.
LIMIT = 600
START_LIMIT = 150


def run(*command, **more):
    done = subprocess.run([str(c) for c in command], capture_output=True, text=True, **more)
    check(done.returncode == 0, f"{command}: {done.returncode}\n{done.stdout}{done.stderr}")
    return done.stdout


def check(condition, told):
    if not condition:
        raise SystemExit(f"FAILED: {told}")


class Stick:
    """The stick's image, and what the tests take from it."""

    def __init__(self, work):
        self.work = work
        self.image = work / "stick.img"
        made = os.environ.get("SCHWELLE_STICK")
        if made:
            shutil.copy(made, self.image)
        else:
            run(ROOT / "tools/stick.sh", self.image)
        check(self.image.stat().st_size <= 300 << 20, "the stick is larger than 300 MiB")
        boot = f"{self.image}@@1M"
        for name in ("vmlinuz", "initrd.img"):
            run("mcopy", "-n", "-i", boot, f"::{name}", work / name)
        config = run("mtype", "-i", boot, "::EFI/debian/grub.cfg")
        self.jobs = re.search(r"schwelle\.stick=(\S+)", config)[1]
        # The program itself, to look at disks from here.
        target = os.environ.get("CARGO_TARGET_DIR", ROOT / "target")
        self.program = Path(os.environ.get("SCHWELLE", f"{target}/{os.uname().machine}-unknown-linux-gnu/dist/schwelle"))

    def schwelle(self, *arguments, code=0):
        done = subprocess.run([str(a) for a in (self.program, *arguments)], capture_output=True, text=True)
        check(done.returncode == code, f"{arguments}: {done.returncode}\n{done.stdout}{done.stderr}")
        return done.stdout


class PC:
    """A virtual PC: a start of it, with a script for the session on the stick."""

    def __init__(self, stick, name):
        self.stick, self.name = stick, name
        self.log = stick.work / f"{name}.log"
        self.monitor = stick.work / f"{name}.qmp"
        self.arguments = [
            "qemu-system-x86_64", "-accel", "tcg", "-m", "768", "-smp", "1", "-display", "none",
            "-net", "none", "-no-reboot", "-serial", f"file:{self.log}", "-qmp", f"unix:{self.monitor},server=on,wait=off",
            "-device", "qemu-xhci,id=xhci", "-object", "iothread,id=io",
        ]
        self.disks = 0
        self.process = None
        self.has_script = False

    def drive(self, image, device, interface=None, **options):
        """Attaches an image; `device` has the serial number and the bus."""
        self.disks += 1
        if interface:
            self.arguments += ["-device", interface]
        node = f"disk{self.disks}"
        more = "".join(f",{key}={value}" for key, value in options.items())
        self.arguments += ["-drive", f"if=none,id={node},format=raw,file={image},cache=writeback{more}",
                           "-device", device.format(node=node)]
        return self

    def ahci(self, image, serial, **more):
        return self.drive(image, f"ide-hd,drive={{node}},serial={serial},bus=ide.{self.disks}", **more)

    def nvme(self, image, serial):
        return self.drive(image, f"nvme,drive={{node}},serial={serial}")

    def scsi(self, image, serial, sector=512):
        if "virtio-scsi-pci,id=scsi" not in self.arguments:
            self.arguments += ["-device", "virtio-scsi-pci,id=scsi"]
        return self.drive(image, f"scsi-hd,drive={{node}},serial={serial},bus=scsi.0,logical_block_size={sector},"
                          f"physical_block_size={sector}")

    def usb(self, image, serial, first=None, name="usb"):
        order = "" if first is None else f",bootindex={first}"
        return self.drive(image, f"usb-storage,drive={{node}},serial={serial},bus=xhci.0,id={name}{self.disks},removable=on{order}")

    def mmc(self, image):
        """A card; its serial number is the emulator's."""
        return self.drive(image, "sd-card,drive={node}", interface="sdhci-pci")

    def with_stick(self, image=None, first=None):
        return self.usb(image or self.stick.image, "STICK-1", first, name="stick")

    def kernel(self, initrd="initrd.img"):
        """Starts the stick's kernel without firmware in between: a session in BIOS mode, sooner there."""
        self.arguments += ["-machine", "q35", "-kernel", self.stick.work / "vmlinuz", "-initrd", self.stick.work / initrd,
                           "-append", f"schwelle.stick={self.stick.jobs} console=ttyS0 quiet no_timer_check"]
        return self

    def bios(self):
        self.arguments += ["-machine", "q35"]
        return self

    def uefi(self, variables, secure=False):
        code = "OVMF_CODE_4M.secboot.fd" if secure else "OVMF_CODE_4M.fd"
        machine = "q35,smm=on" if secure else "q35"
        self.arguments += ["-machine", machine, "-global", "driver=cfi.pflash01,property=secure,value=on",
                           "-drive", f"if=pflash,unit=0,format=raw,readonly=on,file={OVMF / code}",
                           "-drive", f"if=pflash,unit=1,format=raw,file={variables}"] if secure else [
            "-machine", machine, "-drive", f"if=pflash,unit=0,format=raw,readonly=on,file={OVMF / code}",
            "-drive", f"if=pflash,unit=1,format=raw,file={variables}"]
        return self

    def script(self, text):
        path = self.stick.work / f"{self.name}.sh"
        # Each command's output, and its exit code, is kept apart from the others'.
        path.write_text("echo SESSION-BEGINS\nt() { echo \"== $*\"; \"$@\" 2>&1; echo \"-> $?\"; }\n" + text + "\necho END-OF-SCRIPT\n")
        self.arguments += ["-fw_cfg", f"name=opt/schwelle/script,file={path}"]
        self.has_script = True
        return self

    def begin(self):
        """Starts it. On a busy machine the emulated timer may not come to life, and the kernel hangs before the session begins:
        nothing has been touched then, and it is started again."""
        self.start()
        for _ in range(2):
            until = time.monotonic() + START_LIMIT
            while self.has_script and "SESSION-BEGINS" not in self.text() and self.process.poll() is None:
                if time.monotonic() > until:
                    print(f"    {self.name}: no session after {START_LIMIT} s, started again", flush=True)
                    self.cut()
                    self.start()
                    break
                time.sleep(0.05)
            else:
                break
        return self

    def start(self):
        self.log.unlink(missing_ok=True)
        self.monitor.unlink(missing_ok=True)
        self.process = subprocess.Popen([str(a) for a in self.arguments], stdin=subprocess.DEVNULL,
                                        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)

    def text(self):
        return self.log.read_text(errors="replace").replace("\r", "") if self.log.exists() else ""

    def wait_for(self, words, limit=LIMIT):
        until = time.monotonic() + limit
        while words not in self.text():
            if self.process.poll() is not None:
                check(words in self.text(), f"{self.name}: ended without {words!r}\n{self.process.stderr.read()}{self.text()[-3000:]}")
                return
            check(time.monotonic() < until, f"{self.name}: no {words!r} after {limit} s\n{self.text()[-3000:]}")
            time.sleep(0.05)

    def cut(self):
        """Power goes."""
        self.process.kill()
        self.process.wait()

    def end(self, whole=True):
        """Waits until the PC switches itself off; what the session printed."""
        try:
            self.process.wait(LIMIT)
        except subprocess.TimeoutExpired:
            self.cut()
            check(False, f"{self.name}: it does not end\n{self.text()[-3000:]}")
        text = self.text()
        check(not whole or "END-OF-SCRIPT" in text, f"{self.name}: the script did not end\n{self.process.stderr.read()}{text[-3000:]}")
        return text

    def qmp(self, command, **arguments):
        with socket.socket(socket.AF_UNIX) as line:
            line.connect(str(self.monitor))
            stream = line.makefile("rw")
            stream.readline()
            for message in ({"execute": "qmp_capabilities"}, {"execute": command, "arguments": arguments}):
                stream.write(json.dumps(message) + "\n")
                stream.flush()
                while True:
                    answer = json.loads(stream.readline())
                    if "return" in answer or "error" in answer:
                        break
            return answer


def parts(text):
    """Of a session's text: each command with its output and its exit code."""
    found = re.findall(r"^== (.*?)\n(.*?)^-> (\d+)$", text, re.M | re.S)
    return [(command, output, int(code)) for command, output, code in found]


def the(text, wanted, code=0):
    """The output of the command that contains `wanted`; its exit code is as it should be."""
    for command, output, found in parts(text):
        if wanted in command:
            check(found == code, f"{command}: {found}, not {code}\n{output}")
            return output
    raise SystemExit(f"FAILED: {wanted} was not run\n{text[-3000:]}")


def documents(output):
    """The JSON documents in what a command printed, one a line or one in all; what it said on stderr is left out."""
    lines = output.splitlines()
    one_line = [line for line in lines if line.startswith("{") and line.endswith("}")]
    if one_line:
        return [json.loads(line) for line in one_line]
    return [json.loads("\n".join(lines[lines.index("{"):lines.index("}") + 1]))]


def volumes(image, sector=512):
    """Places of the NTFS volumes that an MBR or a GPT names: (offset, length) in bytes."""
    with open(image, "rb") as disk:
        head = disk.read(sector)
        entries = [head[446 + 16 * i:462 + 16 * i] for i in range(4)]
        places = []
        if entries[0][4] == 0xEE:
            disk.seek(2 * sector)
            table = disk.read(128 * 128)
            for at in range(0, len(table), 128):
                first, last = struct.unpack("<QQ", table[at + 32:at + 48])
                if first:
                    places.append((first, last + 1 - first))
        else:
            places = [struct.unpack("<II", entry[8:]) for entry in entries if entry[4]]
        for first, sectors in places:
            disk.seek(first * sector + 3)
            if disk.read(4) == b"NTFS":
                yield first * sector, sectors * sector


def let_go(*command):
    """Give back a mount or a loop device.

    The programs that other threads start keep our open files from their fork to their start.
    """
    for _ in range(50):
        done = subprocess.run([str(c) for c in command], capture_output=True, text=True)
        if done.returncode == 0:
            return
        time.sleep(0.1)
    check(False, f"{command}: {done.stderr}")


def files(stick, image, sector=512):
    """Every file on every NTFS volume, by the file system's own driver, with its hash."""
    found = {}
    at = Path(tempfile.mkdtemp(prefix="looking-", dir=stick.work))
    for number, (offset, length) in enumerate(volumes(image, sector)):
        device = run("losetup", "--find", "--show", "--read-only", "--offset", offset, "--sizelimit", length, image).strip()
        try:
            run("ntfs-3g", "-o", "ro", device, at)
            try:
                for path in sorted(at.rglob("*")):
                    if path.is_file() and not path.is_symlink():
                        name = f"{number}:{path.relative_to(at)}"
                        found[name] = hashlib.sha256(path.read_bytes()).hexdigest()
            finally:
                let_go("umount", at)
        finally:
            let_go("losetup", "--detach", device)
    return found


# The two files that a conversion edits, and what comes with them.
EDITED = ("config/SYSTEM", "ReAgent.xml")


def same_files(before, after, told, edited=True):
    check(before.keys() == after.keys(), f"{told}: other files: {before.keys() ^ after.keys()}")
    for name, content in before.items():
        if not (edited and name.endswith(EDITED)):
            check(after[name] == content, f"{told}: {name} has changed")


def consistent(image, told, sector=512):
    """The NTFS utilities find nothing wrong with any volume."""
    with tempfile.TemporaryDirectory(dir=Path(image).parent) as folder:
        for offset, length in volumes(image, sector):
            volume = Path(folder) / "volume.ntfs"
            with open(image, "rb") as disk, open(volume, "wb") as out:
                disk.seek(offset)
                while length:
                    piece = disk.read(min(length, 1 << 20))
                    out.write(piece)
                    length -= len(piece)
            for command in (["ntfsresize", "--info", "--force", "--no-progress-bar"], ["ntfsfix", "-n"]):
                done = subprocess.run([*command, str(volume)], capture_output=True, text=True)
                check(done.returncode == 0, f"{told}: {done.stdout}{done.stderr}")


# ---------------------------------------------------------------------------------------------------------------------

# The serial number of every card that the emulator makes.
CARD = "0xdeadbeef"


def torn_ntfs(stick):
    """A volume in which the MFT's first record and its copy are whole and differ."""
    image = stick.work / "torn.img"
    run("truncate", "-s", "16M", image)
    run("mkntfs", "-F", "-Q", "-q", image)
    with open(image, "r+b") as volume:
        boot = volume.read(512)
        (copy,) = struct.unpack("<Q", boot[56:64])
        # The sequence number of the log's last entry about it.
        volume.seek(copy * boot[13] * 512 + 8)
        volume.write(b"\x07")
    return image


def every_bus(stick):
    """The whole job on SATA, NVMe, SCSI, USB and a memory card, from a session in BIOS mode, with the folder on the FAT32 stick. All disks
    are copies of one another, so each must be named by its serial number."""
    pc = PC(stick, "buses").kernel().with_stick(fresh(stick))
    images = {}
    for bus, serial in (("ahci", "SATA-0001"), ("nvme", "NVME-0002"), ("scsi", "SCSI-0003"), ("usb", "USB-0004")):
        images[serial] = pristine_copy(stick, "shrink", serial)
        getattr(pc, bus)(images[serial], serial)
    before = files(stick, images["SATA-0001"])
    # A card has a power of two as its size.
    images[CARD] = pristine_copy(stick, "shrink", "card")
    os.truncate(images[CARD], 256 << 20)
    pc.mmc(images[CARD])
    script = "t schwelle survey --json\nt other-stick nvme0n1p2\n"
    script += "for d in $(other-stick | sed 's/^ *//; s/ .*//'); do t other-stick $d; done\n"
    # An NTFS as power cuts leave it now and then: refused with what to do, which helps.
    pc.usb(torn_ntfs(stick), "TORN-5")
    script += "torn=$(other-stick | sed -n 's/^ *\\([a-z]*\\)  16 MiB .*/\\1/p'); t ntfsfix /dev/$torn\nt other-stick /dev/$torn\numount /mnt\n"
    script += "t schwelle convert /dev/nvme0n1 --job /jobs/never --yes\n"
    script += "t schwelle convert LANTERN-BAY --job /jobs/never --yes\n"
    for serial in images:
        script += f"t schwelle convert {serial} --job /jobs/{serial} --yes\n"
    script += "".join(f"t schwelle resume --job /jobs/{serial} --disk {serial}\n" for serial in images)
    script += "cat /proc/partitions\n"
    text = pc.script(script).begin().end()
    listed = documents(the(text, "survey", 1))
    for serial in images:
        check(any(disk["serial"] == serial for disk in listed), f"survey does not tell {serial}: {listed}")
    check("Nothing is mounted" in the(text, "other-stick nvme0n1p2", 1), "a volume of the PC's own disk is offered for job folders")
    # Those of disks outside that hold a system, each volume of two disks, are offered and then refused.
    tries = [output for command, output, _ in parts(text) if re.match("other-stick (sd|mmcblk)", command)]
    torn = [output for output in tries if "holds a system" not in output]
    check(len(tries) > 3 and len(torn) == 1, f"disks with a system: {tries}\n{text}")
    advice = re.search("could not be mounted\\.\n.*\n.*in the shell:\n  (ntfsfix /dev/sd[a-z]+)\n", torn[0])
    check(advice, torn[0])
    the(text, advice[1])
    check("(NTFS) is at /mnt" in the(text, "other-stick /dev/"), text)
    # By a path, or by the name that is read from the disk, it looks like its copies.
    check("medium.copy" in the(text, "/dev/nvme0n1", 1), "a copy of a disk is not noticed")
    check("several disks are called LANTERN-BAY" in the(text, "convert LANTERN-BAY", 2), "a name of several disks")
    for serial, image in images.items():
        told = the(text, f"convert {serial}")
        check("Converted" in told and "job folder is on its medium" in told, told)
        # FAT keeps no permissions.
        check("Other users of this system can read the job folder" in told, f"that others can read the stick: {told}")
        check(f"schwelle confirm {serial}" in told, f"the next command has no name that stays: {told}")
        check("old partition table" not in told, f"the kernel has not read the new table: {told}")
        the(text, f"resume --job /jobs/{serial}")
        stick.schwelle("rehearse", image, "--quiet")
        consistent(image, serial)
        same_files(before, files(stick, image), serial)
    return images["SATA-0001"]


def large_sectors(stick):
    """The same on a disk with sectors of 4096 bytes."""
    image = pristine_copy(stick, "large", "large")
    before = files(stick, image, 4096)
    script = "t schwelle convert SCSI-4096 --job /jobs/large --yes\nt schwelle undo --job /jobs/large --disk SCSI-4096 --yes\n"
    script += "t schwelle convert SCSI-4096 --job /jobs/again --yes\n"
    text = PC(stick, "large").kernel().with_stick(fresh(stick)).scsi(image, "SCSI-4096", 4096).script(script).begin().end()
    the(text, "undo")
    the(text, "/jobs/again")
    stick.schwelle("rehearse", image, "--sector-size", "4096", "--quiet")
    same_files(before, files(stick, image, 4096), "4096")


def firmware(stick, converted):
    """The stick is started by real firmware: BIOS; UEFI with Secure Boot on, by the distribution's signed programs; UEFI, in which
    the boot entry is written. Then the firmware starts the disk by that entry, and the session confirms it."""
    text = PC(stick, "by-bios").bios().with_stick(fresh(stick), first=0).script("t schwelle survey --json\nt ls /sys/firmware").begin().end()
    check("efi" not in the(text, "ls /sys/firmware").split(), "the session was not started in BIOS mode")

    secure = stick.work / "secure.fd"
    shutil.copy(OVMF / "OVMF_VARS_4M.ms.fd", secure)
    script = "t schwelle firmware --json\nt schwelle firmware sheet SATA-0001 --json\n"
    pc = PC(stick, "secure").uefi(secure, secure=True).ahci(converted, "SATA-0001").with_stick(fresh(stick), first=0)
    text = pc.script(script).begin().end()
    facts = the(text, "firmware --json")
    check('"secure_boot"' in facts, facts)
    check(re.search(r'"on"|true', facts), facts)

    plain = stick.work / "plain.fd"
    shutil.copy(OVMF / "OVMF_VARS_4M.fd", plain)
    script = ("t schwelle firmware sheet SATA-0001 --json\nt schwelle firmware entry SATA-0001\n"
              "t schwelle firmware sheet SATA-0001 --json\n")
    pc = PC(stick, "entry").uefi(plain).ahci(converted, "SATA-0001").with_stick(fresh(stick), first=0)
    text = pc.script(script).begin().end()
    the(text, "firmware entry")
    sheets = [documents(output)[0] for command, output, _ in parts(text) if "sheet" in command]
    check("firmware entry SATA-0001" in sheets[0]["steps"][0]["what"], f"the sheet's first step: {sheets[0]['steps']}")
    check(any("comes first" in one["text"] for one in sheets[1]["already"]), f"right already: {sheets[1]['already']}")

    # The firmware starts the disk by that entry, and the manager on it finds its store.
    pc = PC(stick, "by-entry").uefi(plain).ahci(converted, "SATA-0001").begin()
    pc.wait_for("SCHWELLE-DEMO boot manager: boot store found")
    check('"Windows Boot Manager"' in pc.text(), pc.text())
    pc.cut()
    # No Windows has run there, which the next session finds out. It asks for the setup screen.
    script = "t schwelle confirm SATA-0001\nt schwelle firmware setup\n"
    pc = PC(stick, "confirm").uefi(plain).ahci(converted, "SATA-0001").with_stick(fresh(stick), first=0)
    text = pc.script(script).begin().end()
    the(text, "confirm", 1)
    the(text, "firmware setup")
    pc = PC(stick, "setup").uefi(plain).ahci(converted, "SATA-0001").begin()
    pc.wait_for("Boot Maintenance Manager")
    pc.cut()


def fresh(stick):
    """A stick on which nothing was written yet."""
    handle, copy = tempfile.mkstemp(prefix="stick-", suffix=".img", dir=stick.work)
    os.close(handle)
    shutil.copy(stick.image, copy)
    return Path(copy)


def pristine_copy(stick, name, to):
    copy = stick.work / f"disk-{to}.img"
    run("cp", "--sparse=always", stick.work / f"{name}.img", copy)
    return copy


def cuts(stick, count, seed=1, only=None):
    """Power goes while a disk is converted, finished or taken back; the next session finishes it or takes it back. The folder lies on
    the FAT32 stick, or on one with ext4, exFAT or NTFS; in turns, or on `only` one kind."""
    dice = random.Random(seed)
    whole = stick.work / "shrink.img"
    before = files(stick, whole)
    begin = "echo CONVERT-BEGINS\nt schwelle convert CUT-1 --job $jobs/cut --yes\n"
    # The stick offers the other one, and nothing else: not its own partitions, and not the disk.
    other = "jobs=/mnt; t other-stick\nmore=$(other-stick | sed 's/^ *//; s/ .*//')\nt other-stick $more\n"
    # A cut while a file is added leaves an NTFS that is to be repaired first, as is said then.
    other += "grep -q ' /mnt ' /proc/mounts || { t ntfsfix /dev/$more; t other-stick $more; }\n"
    make = {"FAT32": ["true"], "ext4": ["mkfs.ext4", "-q"], "exFAT": ["mkfs.exfat"], "NTFS": ["mkntfs", "-F", "-Q", "-q"]}
    reached = {}
    for number in range(count):
        kind = only or list(make)[number % len(make)]
        stick_image, more = fresh(stick), stick.work / "more.img"
        more.unlink(missing_ok=True)
        run("truncate", "-s", "64M", more)
        run(*make[kind], more)
        disk = pristine_copy(stick, "shrink", "cut")

        def start(name, script):
            pc = PC(stick, name).kernel().with_stick(stick_image).ahci(disk, "CUT-1").usb(more, "MORE-1")
            return pc.script(("jobs=/jobs\n" if kind == "FAT32" else other) + script).begin()

        words = dice.choice(["CONVERT-BEGINS", "CONVERT-BEGINS", "move:", "shrink:", "prepare:", "commit:", "edit:", "Converted"])
        delay = dice.uniform(0, 2.5 if words == "CONVERT-BEGINS" else 0.4)
        pc = start("cut", begin + "sleep 30\n")
        pc.wait_for(words)
        time.sleep(delay)
        pc.cut()
        way = dice.choice(["resume", "undo"])
        option = " --yes" if way == "undo" else ""
        again = dice.random() < 0.3
        if again:
            # Power goes once more, on the way.
            pc = start("cut-again", f"echo WAY-BEGINS\nt schwelle {way} --job $jobs/cut --folder-name cut --disk CUT-1{option}\nsleep 30\n")
            pc.wait_for("WAY-BEGINS")
            time.sleep(dice.uniform(0, 1.5))
            pc.cut()
        text = start("after", f"t ls -l $jobs/cut\nt schwelle {way} --job $jobs/cut --folder-name cut --disk CUT-1{option}\n"
                     "t schwelle check CUT-1\n").end()
        repaired = None
        if kind != "FAT32":
            check(re.fullmatch(rf" *sd[a-z]+  64 MiB  {kind}\n", the(text, "other-stick")), f"what is offered: {text}")
            repaired = re.search("in the shell:\n  (ntfsfix /dev/sd[a-z]+)\n", text)
            check(not repaired or kind == "NTFS", text)
            if repaired:
                the(text, repaired[1])
                reached["repaired"] = reached.get("repaired", 0) + 1
            check(f"({kind}) is at /mnt" in text, text)
        told = f"cut {number} ({kind}, {words} + {delay:.2f} s{', again' if again else ''}, {way})"
        output, code = next((output, code) for command, output, code in parts(text) if f"schwelle {way}" in command)
        never = "stopped before anything was written" in output or "whole state" in output or "No such file" in output
        if code == 0 and way == "resume":
            stick.schwelle("rehearse", disk, "--quiet")
            state = "finished"
        elif code == 0 or "taken back already" in output:
            state = "taken back"
        elif never:
            # Nothing was written before the folder was whole.
            check(disk.read_bytes() == whole.read_bytes(), f"{told}: the disk was written: {output}\n{text}")
            state = "untouched"
        else:
            raise SystemExit(f"FAILED: {told}: {text}")
        consistent(disk, told)
        same_files(before, files(stick, disk), told, edited=state == "finished")
        stick_image.unlink()
        reached[state] = reached.get(state, 0) + 1
        print(f"    {told}: {state}{', NTFS repaired first' if repaired else ''}", flush=True)
    print(f"    {count} cuts: {reached}")


def faults(stick):
    """Disks that fail at a sector, a drive that warns of itself, partitions in use, a full stick, none at all; and a stick that is
    pulled."""
    images = {serial: pristine_copy(stick, "shrink", serial) for serial in ("WRITE-1", "READ-1", "WORN-1", "USED-1", "FULL-1")}
    pc = PC(stick, "faults").kernel().with_stick(fresh(stick))
    # LBA 1 cannot be written, which the stage prepare does. The last sector, where a volume keeps a copy of its boot sector, cannot
    # be read.
    last = images["READ-1"].stat().st_size // 512 - 1
    for serial, kind, sector, bus in (("WRITE-1", "write", 1, 4), ("READ-1", "read", last, 5)):
        rules = stick.work / f"{serial}.conf"
        rules.write_text(f'[inject-error]\nevent = "none"\niotype = "{kind}"\nerrno = "5"\nsector = "{sector}"\nonce = "off"\n')
        pc.arguments += ["-blockdev", f"driver=blkdebug,node-name={serial},config={rules},image.driver=file,"
                         f"image.filename={images[serial]}", "-device", f"ide-hd,drive={serial},serial={serial},bus=ide.{bus}"]
    pc.drive(images["WORN-1"], "nvme,drive={node},serial=WORN-1,id=worn")
    pc.ahci(images["USED-1"], "USED-1").scsi(images["FULL-1"], "FULL-1")
    pc.script("""
t schwelle convert WRITE-1 --job /jobs/write --yes
t schwelle check WRITE-1
t schwelle undo --job /jobs/write --folder-name write --disk WRITE-1 --yes
t schwelle check READ-1
t schwelle check WORN-1
for s in /sys/block/sd*; do grep -q USED-1 $s/device/vpd_pg80 2>/dev/null && d=/dev/${s##*/}; done
losetup /dev/loop0 ${d}1
t schwelle convert USED-1 --job /jobs/loop --yes
losetup -d /dev/loop0
sleep 1000 <${d}2 &
t schwelle convert USED-1 --job /jobs/open --yes
kill %1
mkswap ${d}1 >/dev/null
swapon ${d}1
t schwelle convert USED-1 --job /jobs/swap --yes
swapoff ${d}1
dd if=/dev/zero of=/jobs/filler bs=1M 2>/dev/null
t schwelle convert FULL-1 --job /jobs/full --yes
umount /jobs
t schwelle convert FULL-1 --job /jobs/memory --yes
""").begin()
    pc.wait_for("Looking for disks")
    pc.qmp("qom-set", path="/machine/peripheral/worn", property="smart_critical_warning", value=4)
    text = pc.end()
    words = lambda output: " ".join(output.split())
    told = words(the(text, "convert WRITE-1", 4))
    check("LBA 1: write failed" in told and "stage prepare" in told, told)
    check("/jobs/write" in the(text, "check WRITE-1", 1), "check does not name the folder of the stopped job")
    the(text, "undo --job /jobs/write")
    told = words(the(text, "check READ-1", 1))
    check("medium.readable" in told and f"LBA {last} to {last}: cannot be read" in told, told)
    told = words(the(text, "check WORN-1"))
    check("medium.health" in told and "has become unreliable" in told, told)
    for way, user in (("loop", "is attached as /dev/loop0"), ("open", "is open in sleep"), ("swap", "is used as swap")):
        told = words(the(text, f"/jobs/{way}", 1))
        check(user in told, f"{way}: {told}")
    # Without room, and without a stick, nothing is written.
    check("needs up to" in words(the(text, "/jobs/full", 3)), text)
    check("RAM disk" in words(the(text, "/jobs/memory", 1)), text)
    check(images["FULL-1"].read_bytes() == (stick.work / "shrink.img").read_bytes(), "a disk was written without a folder")


def with_tools(stick):
    """The stick's memory disk with the programs that put a partition to other uses."""
    tree = stick.work / "tools"
    (tree / "tools").mkdir(parents=True)
    run("apt-get", "download", "-q", "dmsetup", "libdevmapper1.02.1", "mdadm", "cpio", cwd=tree)
    for package in tree.glob("*.deb"):
        run("dpkg", "-x", package, tree / "from")
        package.unlink()
    libraries = {**os.environ, "LD_LIBRARY_PATH": str(tree / "from/lib/x86_64-linux-gnu")}
    for program in ("dmsetup", "mdadm"):
        shutil.copy(tree / "from/sbin" / program, tree / "tools")
        for library in re.findall(r"(/\S+) \(0x", run("ldd", tree / "from/sbin" / program, env=libraries)):
            place = tree / ("lib64" if "ld-linux" in library else "lib/x86_64-linux-gnu")
            place.mkdir(parents=True, exist_ok=True)
            shutil.copy(library, place)
    names = "\n".join(str(path.relative_to(tree)) for path in sorted(tree.rglob("*")) if "from" not in path.relative_to(tree).parts)
    archive = subprocess.run([tree / "from/bin/cpio", "--quiet", "-o", "-H", "newc"], cwd=tree, input=names.encode(), check=True, capture_output=True).stdout
    # The kernel looks for another archive at a multiple of four bytes.
    first = (stick.work / "initrd.img").read_bytes()
    (stick.work / "initrd-tools.img").write_bytes(first + bytes(-len(first) % 4) + archive)
    return "initrd-tools.img"


def users(stick):
    """Others that hold a partition and that no loop device can show: a mapping, an array, a mount that only another process sees."""
    image, other = pristine_copy(stick, "shrink", "users"), pristine_copy(stick, "shrink", "users-mounted")
    # A file system that the stick's kernel can mount.
    mountable = stick.work / "mountable.ext4"
    run("truncate", "-s", "32M", mountable)
    run("mkfs.ext4", "-q", mountable)
    second = list(volumes(other))[1][0]
    run("dd", f"if={mountable}", f"of={other}", "bs=1M", f"seek={second >> 20}", "conv=notrunc", "status=none")
    pc = PC(stick, "users").kernel(with_tools(stick)).with_stick(fresh(stick)).ahci(image, "USED-2").ahci(other, "USED-3")
    text = pc.script("""
modprobe dm-mod; modprobe md-mod; modprobe linear
for s in /sys/block/sd*; do
    grep -q USED-2 $s/device/vpd_pg80 2>/dev/null && d=/dev/${s##*/}
    grep -q USED-3 $s/device/vpd_pg80 2>/dev/null && e=/dev/${s##*/}
done
t /tools/dmsetup create held --noudevsync --table "0 2048 linear ${d}2 0"
t schwelle convert USED-2 --job /jobs/mapping --yes
t /tools/dmsetup remove --noudevsync held
t /tools/mdadm --build /dev/md7 --level=linear --force --raid-devices=1 ${d}2
t schwelle convert USED-2 --job /jobs/array --yes
t /tools/mdadm --stop /dev/md7
unshare -m sh -c "mount -t ext4 ${e}2 /mnt && touch /tmp/there && sleep 1000" >/dev/null 2>&1 &
for second in 1 2 3 4 5 6 7 8 9; do [ -f /tmp/there ] || sleep 1; done
t ls /tmp/there
t grep /mnt /proc/mounts
t schwelle convert USED-3 --job /jobs/elsewhere --yes
t schwelle convert USED-2 --job /jobs/nobody --yes
t schwelle undo --job /jobs/nobody --disk USED-2 --yes
(until grep -q ^move: /tmp/log; do sleep 0.1; done; exec sleep 1000 <${d}2) >/dev/null 2>&1 &
t sh -c "schwelle convert USED-2 --job /jobs/late --yes 2>/tmp/log; c=\\$?; cat /tmp/log; exit \\$c"
""").begin().end()
    # The session itself does not see that mount.
    the(text, "ls /tmp/there")
    the(text, "grep /mnt /proc/mounts", 1)
    for way, user in (("mapping", "held"), ("array", "md7"), ("elsewhere", "is mounted")):
        told = " ".join(the(text, f"/jobs/{way}", 1).split())
        check("medium.in-use" in told and user in told, f"{way}: {told}")
    # Once released, it is converted.
    the(text, "convert USED-2 --job /jobs/nobody")
    the(text, "undo --job /jobs/nobody")
    # A partition is opened meanwhile: the kernel keeps the old table, and that is reported.
    told = " ".join(the(text, "/jobs/late").split())
    check("The kernel still uses the old partition table" in told and "Converted" in told, told)
    stick.schwelle("rehearse", image, "--quiet")


def pulled(stick, what):
    """The stick, or the disk, is pulled in the middle of a conversion; plugged in again, the disk is taken back."""
    disk = pristine_copy(stick, "shrink", "pulled")
    before = files(stick, disk)
    image = fresh(stick)
    pc = PC(stick, f"pulled-{what}").kernel().with_stick(image).scsi(disk, "PULLED-1,id=disk")
    pc.script("echo CONVERT-BEGINS\nt schwelle convert PULLED-1 --job /jobs/pulled --yes\n").begin()
    pc.wait_for("move:")
    pc.qmp("device_del", id={"stick": "stick1", "disk": "disk"}[what])
    text = pc.end()
    output, code = next((output, code) for command, output, code in parts(text) if "convert" in command)
    check(code in (0, 3, 4), f"{what} pulled: {code}: {output}")
    print(f"    {what} pulled: exit code {code}")
    text = PC(stick, "plugged").kernel().with_stick(image).scsi(disk, "PULLED-1").script(
        "t schwelle undo --job /jobs/pulled --folder-name pulled --disk PULLED-1 --yes\n").begin().end()
    output, code = next((output, code) for command, output, code in parts(text) if "undo" in command)
    never = "stopped before anything was written" in output
    check(code == 0 or never, f"{what} pulled, then undo: {code}: {output}")
    consistent(disk, f"{what} pulled")
    same_files(before, files(stick, disk), f"{what} pulled", edited=False)


def starts(stick):
    firmware(stick, every_bus(stick))


def pulls(stick):
    pulled(stick, "stick")
    pulled(stick, "disk")


# What can be run alone.
ALONE = {"starts": starts, "buses": every_bus, "large": large_sectors, "faults": faults, "pulled": pulls, "users": users}


def step(name, work_of, *arguments):
    at = time.monotonic()
    work_of(*arguments)
    print(f"{name}: {time.monotonic() - at:.0f} s", flush=True)


def short(stick):
    """Three lanes: a PC waits much of its time, and one that it starts from waits for the one before."""
    def pull():
        step("sectors of 4096 bytes", large_sectors, stick)
        step("a stick that is pulled", pulled, stick, "stick")
        step("users of a partition", users, stick)

    def fail():
        step("faults", faults, stick)
        step("power cuts", cuts, stick, 4)

    with ThreadPoolExecutor(3) as lanes:
        work = [lanes.submit(step, "every bus, every start", starts, stick), lanes.submit(pull), lanes.submit(fail)]
        for lane in work:
            lane.result()


def main():
    form = sys.argv[1] if len(sys.argv) > 1 else "short"
    work = Path(tempfile.mkdtemp(prefix="pc-test-"))
    begun = time.monotonic()
    try:
        stick = Stick(work)
        make_disks(stick)
        print(f"the stick: {time.monotonic() - begun:.0f} s", flush=True)
        if form in ALONE:
            step(form, ALONE[form], stick)
        elif form == "short":
            short(stick)
        else:
            if form == "long":
                step("a disk that is pulled", pulled, stick, "disk")
            count, *only = [int(sys.argv[2]), *sys.argv[3:]] if form == "cuts" else [100]
            step("power cuts", cuts, stick, count, int(time.time()), *only)
    finally:
        if os.environ.get("SCHWELLE_KEEP"):
            print(f"kept: {work}")
        else:
            shutil.rmtree(work, ignore_errors=True)
    print(f"pc-test: passed in {time.monotonic() - begun:.0f} s")


def make_disks(stick):
    """The disks, from the test kit: one of each sector size, without room for an EFI system partition."""
    run(os.environ["PC_DISKS"], stick.work)


if __name__ == "__main__":
    main()
