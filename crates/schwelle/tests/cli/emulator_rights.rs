//! What the emulator may do, and where it is looked for.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::emulate::pretend;
use crate::support::Lab;

/// The lines of /proc/PID/status that say what a process may do.
fn rights(status: &str) -> Vec<String> {
    let keys = [
        "Uid:",
        "Gid:",
        "Groups:",
        "CapEff:",
        "CapBnd:",
        "NoNewPrivs:",
    ];
    let lines = status
        .lines()
        .filter(|line| keys.iter().any(|key| line.starts_with(key)));
    lines
        .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
        .collect()
}

fn has_none(rights: &[String]) -> bool {
    let is_none = |line: &String| match line.split_once(": ") {
        Some(("Uid" | "Gid", numbers)) => numbers
            .split(' ')
            .all(|number| number.parse::<u32>().unwrap() > 60_000),
        Some(("NoNewPrivs", value)) => value == "1",
        Some((_, value)) => value.chars().all(|digit| digit == '0'),
        None => line == "Groups:",
    };
    rights.len() == 6 && rights.iter().all(is_none)
}

#[test]
#[ignore = "needs root and outside programs"]
fn the_emulator_has_no_rights_no_network_and_no_way_to_other_files() {
    let lab = Lab::new();
    lab.converted("disk.img", 512);
    fs::set_permissions(lab.path("disk.img"), fs::Permissions::from_mode(0o600)).unwrap();
    // The real one: the filter for system calls is on, and the disk is open for reading alone.
    let mut child = Command::new(env!("CARGO_BIN_EXE_schwelle"))
        .args(["rehearse", "disk.img", "--emulate", "--quiet"])
        .current_dir(lab.path(""))
        .env("SCHWELLE_SECRET", "what a variable holds")
        .spawn()
        .unwrap();
    let begun = Instant::now();
    let started = loop {
        let children = format!("/proc/{0}/task/{0}/children", child.id());
        let emulator = fs::read_to_string(children).unwrap_or_default();
        let status = fs::read_to_string(format!("/proc/{}/status", emulator.trim()));
        let status = status.unwrap_or_default();
        if status.contains("Seccomp:\t2") {
            break (status, emulator.trim().to_owned());
        }
        assert!(begun.elapsed() < Duration::from_secs(20), "{status}");
        std::thread::sleep(Duration::from_millis(10));
    };
    let (status, pid) = started;
    assert!(has_none(&rights(&status)), "{status}");
    let environment = fs::read(format!("/proc/{pid}/environ")).unwrap();
    let environment = String::from_utf8_lossy(&environment);
    assert!(!environment.contains("SCHWELLE"), "{environment}");
    // Where namespaces can be made, it has its own.
    let mut made = Command::new("unshare");
    let made = made.args(["--net", "--ipc", "--uts", "--mount", "true"]);
    if made.status().is_ok_and(|status| status.success()) {
        for kind in ["net", "ipc", "uts", "mnt"] {
            let of = |pid: &str| fs::read_link(format!("/proc/{pid}/ns/{kind}")).unwrap();
            assert_ne!(of(&pid), of("self"), "{kind}");
        }
    }
    let opened = fs::read_dir(format!("/proc/{pid}/fd")).unwrap();
    let disks: Vec<_> = opened
        .map(|file| file.unwrap())
        .filter(|file| fs::read_link(file.path()).is_ok_and(|path| path == lab.path("disk.img")))
        .collect();
    assert!(!disks.is_empty());
    for disk in disks {
        let mode = fs::symlink_metadata(disk.path())
            .unwrap()
            .permissions()
            .mode();
        assert_eq!(mode & 0o200, 0, "open for writing");
    }
    let work = fs::read_link(format!("/proc/{pid}/cwd")).unwrap();
    assert_eq!(
        fs::metadata(&work).unwrap().permissions().mode() & 0o777,
        0o700
    );
    child.kill().unwrap();
    child.wait().unwrap();

    // One in its place says what it was given, and leaves a link where its console should be.
    let secret = lab.path("secret");
    fs::write(&secret, "what only root can read\n").unwrap();
    fs::set_permissions(&secret, fs::Permissions::from_mode(0o600)).unwrap();
    let tells = "for a in \"$@\"; do case $a in enable=*) : > \"${a##*file=}\";; esac; done; \
        echo \"arguments: $*\"; grep NoNewPrivs /proc/$$/status";
    let answer = "; while read -r order; do echo '{\"return\": {}}'; done";
    let args = [
        "rehearse",
        "disk.img",
        "--emulate",
        "--emulate-limit",
        "1",
        "--keep",
        "kept",
    ];
    let console = || fs::read_to_string(lab.path("kept/firmware-console.txt")).unwrap();
    let script = format!(
        "{{ {tells}; cat {} 2>&1; }} > console.log{answer}",
        secret.display()
    );
    let run = lab.run_in(&pretend(&lab, &script), &args, "");
    assert_eq!(run.code, 1, "{}", run.stderr);
    for expected in [
        "-nic none",
        "-sandbox on,",
        "elevateprivileges=deny,spawn=deny",
        "Permission denied",
        "NoNewPrivs:1",
    ] {
        assert!(console().contains(expected), "{expected}: {}", console());
    }
    let script = format!(
        "{tells} >/dev/null; ln -s {} console.log{answer}",
        secret.display()
    );
    let run = lab.run_in(&pretend(&lab, &script), &args, "");
    assert!(
        !console().contains("only root") && !run.stdout.contains("only root"),
        "{}",
        run.stdout
    );

    // One in the current folder, or in a folder named from there, is not found.
    fs::rename(
        lab.path("pretended/qemu-system-x86_64"),
        lab.path("qemu-system-x86_64"),
    )
    .unwrap();
    fs::create_dir(lab.path("kept/bin")).unwrap();
    fs::copy(
        lab.path("qemu-system-x86_64"),
        lab.path("kept/bin/qemu-system-x86_64"),
    )
    .unwrap();
    for path in ["", ".", ":", "kept/bin", "./kept/bin::."] {
        let run = lab.run_in(path, &args, "");
        let told = format!("{}{}", run.stdout, run.stderr);
        assert!(
            told.contains("qemu-system-x86_64 is not on this machine"),
            "{path}: {told}"
        );
    }
}

#[test]
#[ignore = "needs root"]
fn where_a_part_of_its_isolation_is_missing_it_does_not_run_as_root_or_that_is_said() {
    let lab = Lab::new();
    lab.converted("disk.img", 512);
    let args = ["rehearse", "disk.img", "--emulate", "--emulate-limit", "1"];
    for (helper, code, said) in [
        (
            "unshare",
            3,
            "setpriv is missing, without which the emulator would run as root",
        ),
        ("setpriv", 1, "The emulator had no namespaces of its own"),
    ] {
        let folder = lab.path(helper);
        fs::create_dir(&folder).unwrap();
        for program in ["qemu-system-x86_64", helper] {
            let real = Path::new("/usr/bin").join(program);
            std::os::unix::fs::symlink(real, folder.join(program)).unwrap();
        }
        let run = lab.run_in(folder.to_str().unwrap(), &args, "");
        assert_eq!(run.code, code, "{helper}: {}", run.stderr);
        assert!(run.stderr.contains(said), "{helper}: {}", run.stderr);
    }
}
