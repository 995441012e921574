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
        self.work, self.served, self.web = work, work / "served", work / "web"
        self.key = work / "key"
        for name in ("key", "other-key"):
            run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", work / name)
        run(ROOT / "tools/stick.sh", "--key", work / "key.pub", "--network", self.served)
        (self.web / "jobs").mkdir(parents=True)
        handler = lambda *given: Quiet(*given, directory=str(self.web))  # noqa: E731
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        # As the page about the network has it.
        config = self.served / "grub/grub.cfg"
        text = config.read_text()
        steps = f'set job="http://10.0.2.2:{self.server.server_port}/jobs/$net_default_mac"'
        check('set job=""\n' in text, text)
        config.write_text(text.replace('set job=""', steps).replace(" quiet", " console=ttyS0 no_timer_check quiet"))

    def job(self, *steps):
        (self.web / "jobs" / CARD).write_text("# A job of the tests.\n" + "\n".join(steps) + "\n")


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, *_):
        pass


class NetworkPC(PC):
    def __init__(self, bench, name):
        super().__init__(bench, name)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]

    def from_network(self, loader, card):
        self.arguments += ["-netdev", f"user,id=net,tftp={self.stick.served},bootfile={loader},hostfwd=tcp:127.0.0.1:{self.port}-:22",
                           "-device", f"{card},netdev=net,mac={CARD},bootindex=0"]
        return self

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
    bench.job("schwelle survey", "", "schwelle convert SATA-1 --disk-name BEACON-ROOM --job /jobs/lamp --job-in-memory --yes",
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
    host = {"ansible_host": "127.0.0.1", "ansible_port": pc.port, "ansible_user": "root", "ansible_ssh_private_key_file": str(bench.key),
            "ansible_python_interpreter": "/usr/bin/python3", "schwelle_program": "/bin/schwelle", "schwelle_disk": "SATA-1",
            "schwelle_job": "/jobs/lamp", "schwelle_fetch_to": str(bench.work / "by-play")}
    inventory = bench.work / "inventory.json"
    inventory.write_text(json.dumps({"bench": {"hosts": {"lamp-room": host}}}))
    with tempfile.TemporaryDirectory(dir="/tmp") as home:
        environment = {"PATH": "/usr/bin:/bin", "HOME": home, "LC_ALL": "C.UTF-8", "ANSIBLE_HOST_KEY_CHECKING": "false",
                       "ANSIBLE_ROLES_PATH": str(ROOT / "fleet/roles"), "ANSIBLE_TIMEOUT": "60"}
        for play, wanted in (("check", "starts"), ("undo", "changed=1")):
            said = run("/usr/bin/ansible-playbook", "-i", inventory, ROOT / f"fleet/{play}.yml", "-e", "schwelle_group=bench",
                       env=environment)
            check(re.search(f"lamp-room.*{wanted}", said), said)
    check((bench.work / "by-play/lamp-room/journal.json").exists(), "the job folder was not fetched")
    pc.ssh("sync; poweroff -f", None)
    pc.process.wait(60)
    check(disk.read_bytes() == before, "taken back, the disk is another one")


def from_uefi(bench, disk):
    """Firmware with Secure Boot on starts the signed programs; steps that must not be done are not."""
    before = disk.read_bytes()
    bench.job("schwelle survey", "schwelle convert SATA-1 --job /jobs/lamp --job-in-memory --yes")
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
    pc.ssh("poweroff -f", None)
    pc.process.wait(60)
    check(disk.read_bytes() == before, "the disk was written")


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
    print(f"network test: passed in {time.monotonic() - begun:.0f} s")


main()
