"""A PC is started from the network: see network-test.sh. Every check that fails ends it."""

import http.server
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

# No files beside the sources.
sys.dont_write_bytecode = True
sys.path.insert(0, str(Path(__file__).resolve().parent))
from pc_test import OVMF, PC, ROOT, check, run  # noqa: E402

PROGRAM = Path(os.environ["SCHWELLE"])
# The network card's address, as the boot loader writes it.
CARD = "52:54:00:12:34:56"
LIMIT = 300


class Bench:
    """What a virtual PC here needs of a stick: a folder. Beside it the folder that is handed out, and the jobs."""

    def __init__(self, work):
        self.work, self.served, self.web, self.image = work, work / "served", work / "web", work / "stick.img"
        for name in ("key", "other-key"):
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", work / name)
        run(ROOT / "tools/stick.sh", "--key", work / "key.pub", "--network", self.served, self.image)
        self.web.mkdir()
        handler = lambda *given: Quiet(*given, directory=str(self.web))  # noqa: E731
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.config = (self.served / "grub/grub.cfg").read_text()
        check('set job=""\n' in self.config, self.config)

    def job(self, protocol, *steps):
        """Hands out the steps of a job, by a URL as the page about the network has it."""
        folder, server = (self.web, f"10.0.2.2:{self.server.server_port}") if protocol == "http" else (self.served, "$net_default_server")
        (folder / "jobs").mkdir(exist_ok=True)
        (folder / "jobs" / CARD).write_text("# A job of the tests.\n" + "\n".join(steps) + "\n")
        config = self.config.replace('set job=""', f'set job="{protocol}://{server}/jobs/$net_default_mac"')
        (self.served / "grub/grub.cfg").write_text(config.replace(" quiet", " console=ttyS0 no_timer_check quiet"))

    def plays(self, pc, job, plays):
        """Runs plays on a PC; what each says of it."""
        host = {"ansible_host": "127.0.0.1", "ansible_port": pc.port, "ansible_user": "root", "schwelle_disk": "SATA-1",
                "ansible_ssh_private_key_file": str(self.work / "key"), "ansible_python_interpreter": "/usr/bin/python3",
                "schwelle_program": "/bin/schwelle", "schwelle_job": job, "schwelle_fetch_to": str(self.work / "by-play"),
                "schwelle_disk_name": "BEACON-ROOM", "schwelle_backup_confirmed": True}
        inventory = self.work / "inventory.json"
        inventory.write_text(json.dumps({"bench": {"hosts": {pc.name: host}}}))
        # The name of a socket must be short, wherever the tests' files lie.
        with tempfile.TemporaryDirectory(dir="/tmp") as home:
            environment = {"PATH": "/usr/bin:/bin", "HOME": home, "LC_ALL": "C.UTF-8", "ANSIBLE_HOST_KEY_CHECKING": "false",
                           "ANSIBLE_ROLES_PATH": str(ROOT / "fleet/roles"), "ANSIBLE_TIMEOUT": "60"}
            for play, wanted in plays:
                said = run("/usr/bin/ansible-playbook", "-i", inventory, ROOT / f"fleet/{play}.yml", "-e", "schwelle_group=bench",
                           env=environment)
                check(re.search(f"{pc.name}.*{wanted}", said), said)
        check((self.work / "by-play" / pc.name / "journal.json").exists(), "the job folder was not fetched")


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


class NetworkPC(PC):
    """One with a network that the emulator is; its SSH server answers at a port here."""

    def __init__(self, bench, name):
        super().__init__(bench, name)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]

    def with_network(self, card, more=""):
        self.arguments += ["-netdev", f"user,id=net,hostfwd=tcp:127.0.0.1:{self.port}-:22{more}",
                           "-device", f"{card},netdev=net,mac={CARD}"]
        return self

    def from_network(self, loader, card):
        return self.with_network(f"{card},bootindex=0", f",tftp={self.stick.served},bootfile={loader}")

    def off(self, disk, before):
        self.ssh("sync; poweroff -f", None)
        self.process.wait(60)
        check(disk.read_bytes() == before, f"{self.name}: the disk is another one")

    def ssh(self, command, code=0, key="key", options=()):
        ended = subprocess.run(
            ["ssh", "-F", "none", "-i", str(self.stick.work / key), "-p", str(self.port), "-o", "StrictHostKeyChecking=no",
             "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "ConnectTimeout=5", "-o", "BatchMode=yes",
             "-o", "IdentitiesOnly=yes", *options, "root@127.0.0.1", command],
            capture_output=True, stdin=subprocess.DEVNULL)
        said = ended.stdout.decode(errors="replace") + ended.stderr.decode(errors="replace")
        check(code is None or ended.returncode == code, f"{self.name}: {command}: {ended.returncode}\n{said}")
        return ended.returncode if code is None else ended.stdout

    def wait_for_ssh(self):
        begun = time.monotonic()
        while self.ssh("true", None) != 0:
            check(self.process.poll() is None, f"{self.name}: it ended\n{self.text()[-3000:]}")
            check(time.monotonic() - begun < LIMIT, f"{self.name}: no SSH server\n{self.text()[-3000:]}")
            time.sleep(1)
        print(f"    {self.name}: its SSH server answers after {time.monotonic() - begun:.0f} s", flush=True)

    def steps(self):
        """What the steps printed, once they have ended."""
        self.wait_for("Schwelle rescue stick")
        return self.ssh("cat /jobs/steps.log").decode()


def from_bios(bench, disk):
    """The whole job: steps from a URL, the report and the folder over SSH, and the plays for many PCs on it."""
    before = disk.read_bytes()
    bench.job("http", "schwelle survey", "", "schwelle convert SATA-1 --disk-name BEACON-ROOM --job /jobs/lamp --job-in-memory --yes",
              "schwelle report --job /jobs/lamp")
    pc = NetworkPC(bench, "by-bios").bios().ahci(disk, "SATA-1").from_network("schwelle.0", "e1000")
    pc.start()
    pc.wait_for_ssh()
    log = pc.steps()
    check(log.rstrip().endswith("steps: all done"), log)
    check("Converted." in log, log)
    report = pc.ssh("cat /jobs/lamp/report.html").decode()
    check("Conversion of BEACON-ROOM" in report, report[:500])
    (bench.work / "fetched").mkdir()
    subprocess.run(["tar", "-C", bench.work / "fetched", "-x"], input=pc.ssh("tar -C /jobs -c lamp"), check=True)
    shown = run(PROGRAM, "report", "--jobs", bench.work / "fetched")
    check(shown.startswith("to confirm     lamp"), shown)
    # One key, and no password.
    pc.ssh("true", 255, key="other-key")
    pc.ssh("true", 255, options=("-o", "PubkeyAuthentication=no", "-o", "PreferredAuthentications=password,keyboard-interactive"))
    shown = pc.text()
    check("SSH server: SHA256:" in shown and "Network: 10.0.2.15" in shown and "Steps: all done" in shown, shown[-3000:])

    # The same PC as a host of the plays.
    bench.plays(pc, "/jobs/lamp", [("check", "starts"), ("undo", "changed=1")])
    pc.off(disk, before)


def from_stick(bench, disk):
    """The stick itself, with the same key: the plays convert the disk, with the job folder on the stick."""
    before = disk.read_bytes()
    pc = NetworkPC(bench, "by-stick").bios().ahci(disk, "SATA-1").with_stick(bench.image, first=0).with_network("e1000")
    pc.start()
    pc.wait_for_ssh()
    bench.plays(pc, "/jobs/lamp", [("convert", "changed=1"), ("convert", "changed=0"), ("check", "starts")])
    check(b"/jobs vfat" in pc.ssh("cat /proc/mounts"), "the job folder is not on the stick")
    bench.plays(pc, "/jobs/lamp", [("undo", "changed=1")])
    pc.off(disk, before)


def from_uefi(bench, disk):
    """Firmware with Secure Boot on starts the signed programs; steps that must not be done are not."""
    before = disk.read_bytes()
    bench.job("tftp", "schwelle survey", "schwelle convert SATA-1 --job /jobs/lamp --job-in-memory --yes")
    variables = bench.work / "secure.fd"
    shutil.copy(OVMF / "OVMF_VARS_4M.ms.fd", variables)
    # The firmware has a driver of its own for this card; the one on a card would have to be signed.
    pc = NetworkPC(bench, "by-uefi").uefi(variables, secure=True).ahci(disk, "SATA-1")
    pc.from_network("bootx64.efi", "virtio-net-pci,romfile=")
    pc.start()
    pc.wait_for_ssh()
    check("line 3 writes a disk and does not name it (--disk-name): nothing is done" in pc.steps(), pc.steps())
    check("Disk name" not in pc.steps(), "a step before it was done")
    firmware = pc.ssh("schwelle firmware").decode()
    check(re.search("Secure Boot +on", firmware), firmware)
    convert = "schwelle convert SATA-1 --disk-name {} --job /jobs/lamp --job-in-memory --yes"
    for steps, code, wanted in (
        (convert.format("OTHER-PC"), 1, "is called BEACON-ROOM, and not OTHER-PC"),
        ("schwelle survey; touch /run/pwned", 2, "a sign that none may have"),
        ("schwelle survey\n$(touch /run/pwned)", 2, "a sign that none may have"),
        ("touch /run/pwned", 2, "line 1 is no step"),
        ("schwelle demo /run/pwned", 2, "line 1 is no step"),
        ("schwelle mend SATA-1 --disk-name --job /jobs/lamp --yes", 2, "line 1 writes a disk"),
        ("schwelle check NO-DISK\nschwelle demo /run/pwned", 2, "line 2 is no step"),
        ("schwelle check NO-DISK\nschwelle survey", 1, "ended with 3: no further step is done"),
    ):
        said = pc.ssh(f"printf '%s' '{steps}' >/run/more; steps /run/more", code)
        check(wanted in said.decode(), f"{steps}: {said.decode()}")
    check(pc.ssh("ls /run/pwned", 1) == b"", "a step was more than one")
    pc.off(disk, before)


def main():
    begun = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="network-") as folder:
        work = Path(folder)
        bench = Bench(work)
        run(PROGRAM, "demo", work / "demo", "--quiet")
        disk = work / "beacon.img"
        shutil.move(work / "demo/beacon.img", disk)
        # Without a key there is no SSH server in it, nor what could be asked by one.
        bare = work / "bare"
        run(ROOT / "tools/stick.sh", "--network", bare)
        # The names in the archive end with a zero.
        archive = subprocess.run(["zstd", "-dc", bare / "initrd.img"], capture_output=True, check=True).stdout
        check(b"bin/network\0" in archive, "no network in it")
        check(b"bin/dropbear\0" not in archive and b"bin/python3\0" not in archive, "more in it than was wanted")
        from_bios(bench, disk)
        from_uefi(bench, disk)
        from_stick(bench, disk)
    print(f"network test: passed in {time.monotonic() - begun:.0f} s")


main()
