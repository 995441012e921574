//! Who starts here: disks with several systems, what each is started by today, and whether it starts afterwards. What
//! would not is given up by its name; and at every moment of the writing the disk starts, one way or the other.

mod crosses;
pub(crate) mod dual;

use std::fs;
use std::path::Path;
use std::process::Command;

use serde_json::{Value, json};

use crate::job_files::{job_args, state};
use crate::menu::{
    BOOT, SECOND, SECOND_AT, WINDOWS, loader, object, of_manager, texts, two_systems, wide,
};
use crate::real_firmware::Firmware;
use crate::stopped::after_stages;
use crate::support::{Lab, SIGNATURE, lba, peek};
use crate::volumes::edit_volume;
use dual::{Dual, Holds, LINUX};
use schwelle_core::device::{DiskFile, Extent};
use schwelle_demo::{KERNEL_32BIT, put_program};
use schwelle_testkit::{Run, extract, hash, merge, tool};

use Holds::{Boot, Linux, Windows};

const WINDOWS_THEN_LINUX: Dual = Dual {
    order: [Boot, Windows, Linux],
    first: 2048,
    has_grub: true,
};

/// The systems that a command lists: name, partition, today, afterwards.
fn listed(run: &Run) -> Vec<(String, Value, String, String)> {
    let document = run.json();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let systems = document["starts"].as_array().unwrap().iter();
    systems
        .map(|system| {
            (
                text(&system["system"]),
                system["partition"].clone(),
                text(&system["today"]["kind"]),
                text(&system["afterwards"]["kind"]),
            )
        })
        .collect()
}

fn is_sound_ext4(volume: &Path) {
    tool("e2fsck", &["-f", "-n", volume.to_str().unwrap()]);
}

#[test]
#[ignore = "needs outside programs"]
fn a_linux_beside_windows_is_listed_given_up_by_name_and_taken_back_in_every_order() {
    let orders = [
        [Boot, Windows, Linux],
        [Boot, Linux, Windows],
        [Windows, Boot, Linux],
        [Windows, Linux, Boot],
        [Linux, Boot, Windows],
        [Linux, Windows, Boot],
    ];
    for (index, order) in orders.into_iter().enumerate() {
        // A table that an old partitioning program made, and one of today's.
        let first = if index % 2 == 0 { 63 } else { 2048 };
        let dual = Dual {
            order,
            first,
            has_grub: true,
        };
        let lab = Lab::new();
        let image = dual.build(&lab, "disk.img");
        let (disk, before) = (image.to_str().unwrap(), hash(&image));
        let shown = lab.run(&["check", disk, "--json"]);
        let case = format!("{order:?} from {first} on: {}", shown.stdout);
        assert_eq!(shown.code, 0, "{case}");
        let number = |holds| json!(dual.number(holds));
        let mut expected = vec![
            (
                "Windows 10 Pro 22H2 (build 19045)".to_owned(),
                number(Windows),
                "windows-menu".to_owned(),
                "windows-menu".to_owned(),
            ),
            (
                LINUX.to_owned(),
                number(Linux),
                "grub-menu".to_owned(),
                "no-loader".to_owned(),
            ),
        ];
        expected.sort_by_key(|system| system.1.as_u64());
        assert_eq!(listed(&shown), expected, "{case}");
        assert_eq!(
            listed(&lab.run(&["plan", disk, "--json"])),
            expected,
            "{case}"
        );

        // --yes does not give it up, and neither does another name.
        for (more, told) in [
            (&[][..], "--drop \"Ankerplatz Linux 7 (Boje)\""),
            (
                &["--drop", "Ankerplatz"],
                "These stop starting: \"Ankerplatz Linux 7 (Boje)\"",
            ),
        ] {
            let refused = lab.convert(&image, "job", more);
            assert_eq!(refused.code, 2, "{case}{}", refused.stdout);
            assert!(refused.stderr.contains(told), "{case}{}", refused.stderr);
            assert!(
                hash(&image) == before && !lab.path("job").exists(),
                "{case}"
            );
        }

        let linux = dual.extent(Linux);
        let place = (linux.first.0 * 512, linux.sectors() * 512);
        let volume = |name: &str| {
            let at = lab.path(name);
            extract(&image, place, &at);
            hash(&at)
        };
        let content = volume("before.img");
        let done = lab.convert(&image, "job", &["--quiet", "--drop", &LINUX.to_lowercase()]);
        assert_eq!(done.code, 0, "{case}{}{}", done.stdout, done.stderr);
        let record: Value =
            serde_json::from_slice(&fs::read(lab.path("job/job.json")).unwrap()).unwrap();
        let stages = record["plan"]["stages"].as_array().unwrap().iter();
        let stages: Vec<&str> = stages
            .map(|stage| stage["stage"].as_str().unwrap())
            .collect();
        assert_eq!(stages, ["prepare", "commit", "table", "edit"], "{case}");
        let rehearsed = lab.run(&["rehearse", disk]);
        assert_eq!(rehearsed.code, 0, "{case}{}", rehearsed.stdout);
        assert_eq!(volume("after.img"), content, "{case}");
        is_sound_ext4(&lab.path("after.img"));
        let back = lab.run(&job_args(
            "undo",
            &lab.path("job"),
            &["--yes", "--disk", disk],
        ));
        assert_eq!(back.code, 0, "{case}{}{}", back.stdout, back.stderr);
        assert_eq!(hash(&image), before, "{case}");
    }
}

#[test]
#[ignore = "needs outside programs"]
fn real_firmware_starts_the_disk_while_boot_code_still_lies_where_the_table_goes() {
    let lab = Lab::new();
    let old = WINDOWS_THEN_LINUX.build(&lab, "old.img");
    let converted = lab.path("converted.img");
    fs::copy(&old, &converted).unwrap();
    let job = lab.path("job");
    let done = lab.convert(&converted, &job, &["--quiet", "--drop", LINUX]);
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    for stages in [&["prepare", "commit"][..], &["prepare", "commit", "table"]] {
        let disk = lab.path("middle.img");
        after_stages(&old, &disk, &job, stages);
        let has_code = peek(&disk, 512, 512) == peek(&old, 512, 512);
        assert_eq!(has_code, stages.len() == 2, "{stages:?}");
        let said = Firmware::plain().start(&lab, &disk, 512);
        assert!(said.contains("boot store found"), "{stages:?}: {said}");
    }
    // Before sector 0 is replaced, a BIOS goes the old way: GRUB finds its core image, and all that it needs.
    let disk = lab.path("middle.img");
    after_stages(&old, &disk, &job, &["prepare"]);
    for sector in 0..62 {
        assert_eq!(
            peek(&disk, sector * 512, 446),
            peek(&old, sector * 512, 446),
            "LBA {sector}"
        );
    }
}

/// Starts an image as it is, so that the firmware may write to it, until it has said what it looks for.
fn start_for_real(lab: &Lab, disk: &Path) {
    let variables = lab.path("own-variables.fd");
    fs::copy("/usr/share/OVMF/OVMF_VARS_4M.fd", &variables).unwrap();
    let serial = lab.path("own-serial.txt");
    let mut firmware = Command::new("qemu-system-x86_64")
        .args([
            "-machine",
            "q35,accel=tcg",
            "-m",
            "256",
            "-nodefaults",
            "-display",
            "none",
            "-net",
            "none",
        ])
        .args(["-no-reboot", "-boot", "menu=on,splash-time=0"])
        .args([
            "-drive",
            "if=pflash,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd",
        ])
        .args([
            "-drive",
            &format!("if=pflash,format=raw,file={}", variables.display()),
        ])
        .args([
            "-drive",
            &format!("if=none,id=disk,format=raw,file={}", disk.display()),
        ])
        .args(["-device", "virtio-blk-pci,drive=disk,bootindex=0"])
        .args(["-serial", &format!("file:{}", serial.display())])
        .spawn()
        .expect("tools/install-test-tools.sh brings the emulator");
    let begun = std::time::Instant::now();
    let said = || String::from_utf8_lossy(&fs::read(&serial).unwrap_or_default()).into_owned();
    while !said().contains("boot store found") {
        assert!(begun.elapsed().as_secs() < 180, "{}", said());
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    firmware.kill().unwrap();
    firmware.wait().unwrap();
}

#[test]
#[ignore = "needs outside programs"]
fn a_table_that_firmware_has_mended_meanwhile_is_the_jobs_own() {
    let lab = Lab::new();
    let old = WINDOWS_THEN_LINUX.build(&lab, "old.img");
    let disk = lab.path("disk.img");
    fs::copy(&old, &disk).unwrap();
    let job = lab.path("job");
    let done = lab.convert(&disk, &job, &["--quiet", "--drop", LINUX]);
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    let finished = hash(&disk);
    for (command, expected, end) in [("resume", finished, "done"), ("undo", hash(&old), "undone")] {
        after_stages(&old, &disk, &job, &["prepare", "commit"]);
        let before = peek(&disk, 512, 33 * 512);
        start_for_real(&lab, &disk);
        let mended = peek(&disk, 512, 33 * 512) != before;
        println!(
            "{command}: the firmware has {}mended the primary table",
            if mended { "" } else { "not " }
        );
        crate::job_files::set_state(&job, "writing");
        let named = ["--disk", disk.to_str().unwrap(), "--yes"];
        let args = if command == "resume" {
            &named[..2]
        } else {
            &named
        };
        let run = lab.run(&job_args(command, &job, args));
        assert_eq!(run.code, 0, "{command}: {}{}", run.stdout, run.stderr);
        assert_eq!(
            (hash(&disk), state(&job).as_str()),
            (expected, end),
            "{command}"
        );
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn an_old_windows_in_the_menu_is_given_up_by_name_and_leaves_it() {
    for is_default in [false, true] {
        let lab = Lab::new();
        let image = two_systems(&lab);
        let second = Extent::new(lba(SECOND_AT / 512), 160 * 2048).unwrap();
        let disk = DiskFile::open_write(&image, Some(512)).unwrap();
        put_program(
            &disk,
            second,
            "\\Windows\\System32\\ntoskrnl.exe",
            KERNEL_32BIT,
        )
        .unwrap();
        drop(disk);
        edit_volume(&image, BOOT, |mount| {
            let store = lab.path("edited");
            fs::copy(mount.path("Boot/BCD"), &store).unwrap();
            let first = if is_default { SECOND } else { WINDOWS };
            let manager = [
                (0x2300_0003, wide(1, first)),
                (0x2400_0001, texts(&[WINDOWS, SECOND])),
            ];
            let text = object(
                SECOND,
                0x1020_0003,
                &loader("Engine room", SIGNATURE, SECOND_AT),
            ) + &of_manager(&manager);
            merge(&store, "BCD", &text);
            fs::copy(&store, mount.path("Boot/BCD")).unwrap();
        });
        let old = "Windows 10 Pro 22H2 (build 19045) on partition 3";
        let disk = image.to_str().unwrap();
        let shown = lab.run(&["check", disk, "--json"]);
        assert_eq!(shown.code, 0, "{}", shown.stdout);
        let systems = listed(&shown);
        let afterwards: Vec<&str> = systems.iter().map(|system| system.3.as_str()).collect();
        assert_eq!(
            (afterwards, systems[1].0.as_str()),
            (vec!["windows-menu", "unfit"], old)
        );
        let refused = lab.convert(&image, "job", &[]);
        refused.refuses(2, old);
        let done = lab.convert(&image, "job", &["--quiet", "--drop", old]);
        assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
        let record: Value =
            serde_json::from_slice(&fs::read(lab.path("job/job.json")).unwrap()).unwrap();
        let menu = &record["plan"]["menu"];
        assert_eq!(menu["taken_out"], json!(["Engine room"]));
        assert_eq!(
            (&menu["default"], &menu["entries"]),
            (&json!("Windows 10"), &json!(["Windows 10"]))
        );
        assert_eq!(lab.run(&["rehearse", disk]).code, 0);
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_name_is_typed_where_there_is_somebody_to_ask() {
    let lab = Lab::new();
    let image = WINDOWS_THEN_LINUX.build(&lab, "disk.img");
    let disk = image.to_str().unwrap();
    let before = hash(&image);
    let args = ["convert", disk, "--job", "job"];
    for typed in ["yes", "", "Windows 10 Pro 22H2 (build 19045)"] {
        let run = lab.run_with(
            &args,
            &format!("{typed}\nyes\n{}\n", crate::support::COMPUTER),
        );
        assert_eq!(run.code, 2, "{}", run.stdout);
        assert!(
            run.stderr.contains("was not given up"),
            "{typed}: {}",
            run.stderr
        );
        assert_eq!(hash(&image), before);
    }
    let run = lab.run_with(
        &args,
        &format!("{LINUX}\nyes\n{}\nno\n", crate::support::COMPUTER),
    );
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
}
