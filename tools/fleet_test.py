"""The plays in fleet/ against five hosts on the loopback address: see fleet-test.sh. Every check that fails ends it."""

import hashlib
import json
import os
import shutil
import socket
import stat
import subprocess
import sys
import tempfile
import textwrap
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
FLEET = ROOT / "fleet"
PROGRAM = Path(os.environ["SCHWELLE"])
FIRST_START = Path(os.environ["FIRST_START"])
PLAYS = ["check", "convert", "resume", "confirm", "undo"]
# Host, its disk among the demo's, and its name. In this order they are converted, two at a time.
HOSTS = [
    ("alpha", "beacon.img", "BEACON-ROOM"),
    ("bravo", "breakwater.img", "BREAKWATER1"),
    ("delta", "chartroom.img", "CHART-TABLE"),
    ("echo", "foghorn.img", "FOGHORN-BOX"),
    ("foxtrot", "lantern.img", "LANTERN-ONE"),
]
# While this file is there, the host's files cannot grow beyond this many KiB: what lies at the disk's end cannot be written.
FAULT_KIB = 200_000


def check(is_right, what):
    if not is_right:
        sys.exit(f"fleet test: {what}")


def run(*command, code=0, **more):
    ended = subprocess.run([str(part) for part in command], capture_output=True, text=True, **more)
    check(ended.returncode == code, f"{command} ended with {ended.returncode}: {ended.stdout}{ended.stderr}")
    return ended.stdout


def sha256(path):
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class Host:
    """An SSH server with a folder of its own, in which its disk lies."""

    def __init__(self, work, key, name, image, disk_name):
        self.name, self.disk_name = name, disk_name
        self.folder = work / "hosts" / name
        self.folder.mkdir(parents=True)
        self.disk, self.job, self.fault = self.folder / image, self.folder / "jobs" / "job", self.folder / "fault"
        self.program = self.folder / "bin" / "schwelle"
        (self.folder / "bin").mkdir()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", self.folder / "host-key")
        shutil.copy(key.with_suffix(".pub"), self.folder / "authorized")
        # Every command of a session goes through this.
        session = self.folder / "session"
        session.write_text(
            "#!/bin/sh\n"
            f"if [ -e {self.fault} ]; then trap '' XFSZ; ulimit -f {FAULT_KIB * 2}; fi\n"
            'eval "$SSH_ORIGINAL_COMMAND"\n'
        )
        session.chmod(0o755)
        (self.folder / "sshd.conf").write_text(
            textwrap.dedent(f"""\
            ListenAddress 127.0.0.1:{self.port}
            HostKey {self.folder}/host-key
            PidFile {self.folder}/pid
            AuthorizedKeysFile {self.folder}/authorized
            PasswordAuthentication no
            StrictModes no
            UsePAM no
            MaxStartups 100
            Subsystem sftp /usr/lib/openssh/sftp-server
            ForceCommand {session}
            """)
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        self.server = subprocess.Popen(["/usr/sbin/sshd", "-D", "-e", "-f", self.folder / "sshd.conf"], stderr=subprocess.DEVNULL)
        for _ in range(100):
            with socket.socket() as ready:
                if ready.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            time.sleep(0.1)
        sys.exit(f"fleet test: no SSH server for {name}")

    def inventory(self, key):
        return {
            "ansible_host": "127.0.0.1",
            "ansible_port": self.port,
            "ansible_user": "root",
            "ansible_ssh_private_key_file": str(key),
            "ansible_python_interpreter": "/usr/bin/python3",
            "schwelle_program": str(self.program),
            "schwelle_disk": str(self.disk),
            "schwelle_disk_name": self.disk_name,
            "schwelle_job": str(self.job),
            "schwelle_backup_confirmed": True,
        }

    def state(self):
        jobs = json.loads(run(PROGRAM, "report", "--jobs", self.job, "--json"))["jobs"]
        return jobs[0]["state"]


class Engine:
    """Runs the plays."""

    def __init__(self, work, sockets, inventory):
        self.work, self.inventory = work, inventory
        self.environment = {
            "PATH": "/usr/bin:/bin:/usr/sbin:/sbin",
            "HOME": str(work / "home"),
            "LC_ALL": "C.UTF-8",
            "ANSIBLE_STDOUT_CALLBACK": "ansible.posix.json",
            "ANSIBLE_HOST_KEY_CHECKING": "false",
            "ANSIBLE_PIPELINING": "true",
            "ANSIBLE_ROLES_PATH": str(FLEET / "roles"),
            "ANSIBLE_CACHE_PLUGIN": "jsonfile",
            "ANSIBLE_CACHE_PLUGIN_CONNECTION": str(work / "facts"),
            "ANSIBLE_SSH_CONTROL_PATH_DIR": str(sockets),
            "ANSIBLE_LOCALHOST_WARNING": "false",
        }
        (work / "home").mkdir()

    def play(self, name, code, *more, environment=None):
        """What a play did: of each host how many tasks changed and failed, and all results."""
        begun = time.monotonic()
        command = ["/usr/bin/ansible-playbook", "-i", self.inventory, FLEET / f"{name}.yml", *more]
        ended = subprocess.run(
            [str(part) for part in command], env=self.environment | (environment or {}), capture_output=True, text=True, cwd=self.work
        )
        check(ended.stdout.find("{") >= 0, f"{name} {more} ended with {ended.returncode}: {ended.stdout}{ended.stderr}")
        document, _ = json.JSONDecoder().raw_decode(ended.stdout[ended.stdout.index("{") :])
        played = Played(document)
        check(ended.returncode == code, f"{name} {more} ended with {ended.returncode}: {played.troubles()}{ended.stderr}")
        print(f"    {name} {' '.join(more)}: {time.monotonic() - begun:.0f} s", flush=True)
        return played

    def refused(self, name, *more):
        """What a play that does not begin says."""
        command = ["/usr/bin/ansible-playbook", "-i", self.inventory, FLEET / f"{name}.yml", *more]
        ended = subprocess.run([str(part) for part in command], env=self.environment, capture_output=True, text=True, cwd=self.work)
        check(ended.returncode != 0, f"{name} {more} was not refused")
        return ended.stdout + ended.stderr


class Played:
    def __init__(self, document):
        self.document = document
        self.stats = document["stats"]

    def changed(self):
        return sorted(host for host, stats in self.stats.items() if stats["changed"])

    def failed(self):
        return sorted(host for host, stats in self.stats.items() if stats["failures"] or stats["unreachable"])

    def troubles(self):
        tasks = (task for play in self.document["plays"] for task in play["tasks"])
        results = ((task["task"]["name"], host, result) for task in tasks for host, result in task["hosts"].items())
        wrong = [f"{name}, {host}: {result}" for name, host, result in results if result.get("failed") or result.get("unreachable")]
        return "\n".join(wrong)[:6000]

    def messages(self, host):
        tasks = (task for play in self.document["plays"] for task in play["tasks"])
        results = (task["hosts"].get(host, {}) for task in tasks)
        return " ".join(str(result.get("msg", "")) for result in results)


def lint():
    files = [FLEET / f"{play}.yml" for play in PLAYS]
    with tempfile.TemporaryDirectory() as home:
        environment = {"PATH": "/usr/bin:/bin", "HOME": home, "LC_ALL": "C.UTF-8"}
        run("/usr/bin/ansible-lint", "--strict", "-c", FLEET / ".ansible-lint", *files, FLEET / "roles" / "schwelle",
            cwd=FLEET, env=environment)


def on_windows(work, engine):
    """The plays as they are for a Windows: their syntax, and what they would type there. No Windows takes part: in place of the
    engine's own modules for it stand some that write down what they were given, and answer as the program would."""
    collection = work / "stand-ins" / "ansible_collections" / "ansible" / "windows"
    (collection / "plugins" / "action").mkdir(parents=True)
    (collection / "plugins" / "modules").mkdir()
    (collection / "galaxy.yml").write_text("namespace: ansible\nname: windows\nversion: 1.0.0\n")
    typed = work / "typed.jsonl"
    for module in ["win_command", "win_copy", "win_stat", "win_find"]:
        (collection / "plugins" / "modules" / f"{module}.ps1").write_text("")
        (collection / "plugins" / "action" / f"{module}.py").write_text(
            textwrap.dedent(f"""\
            import json
            from ansible.plugins.action import ActionBase
            class ActionModule(ActionBase):
                def run(self, tmp=None, task_vars=None):
                    given = self._task.args
                    with open({str(typed)!r}, "a") as file:
                        file.write(json.dumps(["{module}", given]) + "\\n")
                    word = given.get("argv", ["", ""])[1]
                    disk = {{"disk": "S4EV", "disk_name": "OFFICE-PC", "answer": "ready", "rule": None, "reason": None}}
                    said = {{"survey": disk, "confirm": {{"answer": "confirmed", "reason": {{"text": "seen"}}}},
                             "report": {{"jobs": [{{"state": "needs-resume"}}]}}}}.get(word, {{}})
                    return {{"changed": False, "rc": 0, "stdout_lines": [json.dumps(said)], "stderr_lines": [], "files": [],
                             "stat": {{"exists": True, "checksum": {sha256(PROGRAM)!r}}}}}
            """)
        )
    inventory = work / "windows.json"
    host = {"ansible_connection": "psrp", "ansible_host": "192.0.2.1", "schwelle_disk": "S4EV", "schwelle_disk_name": "OFFICE-PC",
            "schwelle_backup_confirmed": True, "schwelle_binary": str(PROGRAM)}
    inventory.write_text(json.dumps({"office": {"hosts": {"office-1": host}}}))
    stand_ins = {"ANSIBLE_COLLECTIONS_PATH": str(work / "stand-ins") + ":/usr/lib/python3/dist-packages"}
    for play in PLAYS:
        # With the real collection: do all its modules and options exist?
        run("/usr/bin/ansible-playbook", "--syntax-check", "-i", inventory, FLEET / f"{play}.yml", "-e", "schwelle_group=office",
            env=engine.environment)
        engine.play(play, 0, "-i", str(inventory), "-e", "schwelle_group=office", environment=stand_ins)
    calls = [json.loads(line) for line in typed.read_text().splitlines()]
    argv = [given["argv"] for module, given in calls if module == "win_command"]
    exe, job = "C:\\ProgramData\\Schwelle\\schwelle.exe", "E:\\jobs\\office-1"
    form = ["--json", "--progress", "json"]
    for wanted in [
        ["survey", "S4EV"],
        ["convert", "S4EV", "--disk-name", "OFFICE-PC", "--job", job, "--yes"],
        ["resume", "--job", job, "--folder-name", "office-1", "--disk", "S4EV"],
        ["confirm", "S4EV", "--job", job],
        ["undo", "--job", job, "--yes", "--folder-name", "office-1", "--disk", "S4EV"],
    ]:
        check([exe, *wanted, *form] in argv, f"a Windows is not asked {wanted}: {argv}")
    copied = [given for module, given in calls if module == "win_copy"]
    check(copied and all(given["dest"] == exe for given in copied), f"{copied}")


def main():
    # The name of a socket must be short, wherever the tests' files lie.
    with tempfile.TemporaryDirectory(prefix="fleet-") as folder, tempfile.TemporaryDirectory(prefix="fleet-", dir="/tmp") as sockets:
        test(Path(folder), Path(sockets))
    print("fleet test: passed")


def test(work, sockets):
    lint()
    key = work / "key"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
    run(PROGRAM, "demo", work / "demo", "--quiet")
    run(PROGRAM, "undo", "--job", work / "demo" / "lantern.job", "--yes", "--quiet")
    hosts = {}
    try:
        for name, image, disk_name in HOSTS:
            hosts[name] = Host(work, key, name, image, disk_name)
            shutil.move(work / "demo" / image, hosts[name].disk)
        shutil.rmtree(work / "demo")
        everything(work, sockets, key, hosts)
    finally:
        for host in hosts.values():
            host.server.terminate()
        subprocess.run(["pkill", "-f", str(sockets)], check=False)


def everything(work, sockets, key, hosts):
    inventory = work / "inventory.json"
    # A group with an order: by name it would be another one.
    variables = {"schwelle_binary": str(PROGRAM), "schwelle_fetch_to": str(work / "fetched")}
    bench = {"hosts": {name: host.inventory(key) for name, host in hosts.items()}, "vars": variables}
    inventory.write_text(json.dumps({"bench": bench}))
    engine = Engine(work, sockets, inventory)
    before = {name: sha256(host.disk) for name, host in hosts.items()}
    unchanged = lambda *names: all(sha256(hosts[name].disk) == before[name] for name in names)  # noqa: E731
    group = ["-e", "schwelle_group=bench"]

    # Nothing is pushed that is not the published program; then it is, once.
    played = engine.play("check", 2, "-e", f"schwelle_sha256={'0' * 64}")
    check(len(played.failed()) == 5 and not any(host.program.exists() for host in hosts.values()), "a wrong program was pushed")
    table = work / "table.csv"
    played = engine.play("check", 0, "-e", f"schwelle_sha256={sha256(PROGRAM).upper()}", "-e", f"schwelle_table={table}")
    check(played.changed() == [*sorted(hosts), "localhost"], f"pushed to {played.changed()}")
    check(all(sha256(host.program) == sha256(PROGRAM) for host in hosts.values()), "the program there is another one")
    answers = {"alpha": "ready", "bravo": "starts", "delta": "ready", "echo": "blocked", "foxtrot": "ready"}
    shown = played.messages("localhost")
    rows = table.read_text().splitlines()
    check(len(rows) == 6 and stat.S_IMODE(table.stat().st_mode) == 0o600, f"the table: {rows}")
    for name, answer in answers.items():
        facts = json.loads((work / "facts" / name).read_text())
        check(facts["schwelle_answer"] == answer, f"{name}: {facts}")
        check(f"{name:<16}  {answer:<14}  {hosts[name].disk_name}" in shown, f"{name} in the table: {shown}")
        check(any(row.startswith(f'"{name}"') and f'"{answer}"' in row for row in rows), f"{name} in the file: {rows}")
    check("volume.hibernation" in shown, shown)
    check(engine.play("check", 0).changed() == [], "asked again, a host was changed")
    check(unchanged(*hosts), "check wrote a disk")

    # No group, all of them, a wrong disk, no backup, a dry run: nothing is written.
    check("Name the group" in engine.refused("convert"), "no group was named")
    check("Name a group" in engine.refused("convert", "-e", "schwelle_group=all"), "all hosts were taken")
    wrong = engine.play("convert", 2, *group, "-l", "alpha", "-e", "schwelle_disk_name=OTHER-PC")
    check("is called BEACON-ROOM, and not OTHER-PC" in wrong.messages("alpha"), "a wrong disk name")
    wrong = engine.play("convert", 2, *group, "-l", "alpha", "-e", '{"schwelle_backup_confirmed": false}')
    check("schwelle_backup_confirmed" in wrong.messages("alpha"), "no backup")
    engine.play("convert", 0, *group, "-l", "alpha", "--check")
    check(unchanged(*hosts) and not hosts["alpha"].job.exists(), "written all the same")

    # Two at a time, and none after a failure.
    hosts["delta"].fault.touch()
    played = engine.play("convert", 2, *group, "-e", "schwelle_at_once=2")
    check(played.changed() == ["alpha"], f"converted: {played.changed()}")
    check(played.failed() == ["delta"], f"failed: {played.failed()}")
    check("stopped in the stage prepare" in played.messages("delta"), played.messages("delta"))
    check("schwelle resume --job" in played.messages("delta"), played.messages("delta"))
    check("starts in UEFI mode" in played.messages("bravo"), played.messages("bravo"))
    check("Not converted: blocked" in played.messages("echo"), played.messages("echo"))
    check("foxtrot" not in played.stats and unchanged("bravo", "echo", "foxtrot"), "it went on after a failure")
    check((hosts["alpha"].state(), hosts["delta"].state()) == ("to-confirm", "needs-resume"), "the jobs' states")
    # The job folders are here as well, for their owner alone, also that of the job that was stopped.
    for name in ["alpha", "delta"]:
        fetched = work / "fetched" / name
        check(stat.S_IMODE(fetched.stat().st_mode) == 0o700, f"{fetched} can be read by others")
        for file in hosts[name].job.iterdir():
            check(sha256(file) == sha256(fetched / file.name), f"{file} was not fetched")
    overview = run(PROGRAM, "report", "--jobs", work / "fetched")
    check(overview.splitlines()[0].startswith("needs resume   delta"), overview)

    # The fault is gone: finished, the rest converted, and nothing twice.
    hosts["delta"].fault.unlink()
    played = engine.play("resume", 0, *group)
    check(played.changed() == ["delta"] and hosts["delta"].state() == "to-confirm", "it was not resumed")
    check(engine.play("resume", 0, *group).changed() == [], "resumed twice")
    check(engine.play("convert", 0, *group).changed() == ["foxtrot"], "the rest")
    converted = {name: sha256(host.disk) for name, host in hosts.items()}
    check(engine.play("convert", 0, *group).changed() == [], "converted twice")
    check(converted == {name: sha256(host.disk) for name, host in hosts.items()}, "a second run wrote")

    # One has been started since.
    parts = json.loads((hosts["alpha"].job / "job.json").read_text())["plan"]["after"]
    windows = next(part for part in parts if part["role"] == "Windows")
    esp = next(part for part in parts if part["role"] == "EFI system")
    run(FIRST_START, hosts["alpha"].disk, windows["first_lba"], windows["last_lba"], esp["number"])
    played = engine.play("confirm", 0, *group, "-l", "alpha")
    facts = json.loads((work / "facts" / "alpha").read_text())
    check(facts["schwelle_confirmed"] == "confirmed" and hosts["alpha"].state() == "confirmed", f"{facts}")
    played = engine.play("confirm", 2, *group, "-l", "foxtrot")
    check("no Windows on it has started" in played.messages("foxtrot"), played.messages("foxtrot"))
    overview = run(PROGRAM, "report", "--jobs", work / "fetched")
    check([line.split("  ")[0] for line in overview.splitlines()[:3]] == ["not confirmed", "to confirm", "confirmed"], overview)

    # And back.
    check(engine.play("undo", 0, *group, "--check").changed() == [], "a dry run changed something")
    played = engine.play("undo", 0, *group)
    check(played.changed() == ["alpha", "delta", "foxtrot"], f"taken back: {played.changed()}")
    check(unchanged("bravo", "echo", "foxtrot"), "a disk is not as it was")
    check(engine.play("undo", 0, *group).changed() == [], "taken back twice")
    on_windows(work, engine)


main()
