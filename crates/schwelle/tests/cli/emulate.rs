//! `--emulate`: the disk, or its draft, started on real firmware by the program itself.

use std::fs::{self, File};
use std::io::BufReader;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::damage::returning_loader;
use crate::support::{Lab, place, poke};
use schwelle_testkit::{Run, hash, tool};

/// Name, outcome of the steps on real firmware.
fn steps(run: &Run, of: &str) -> Vec<String> {
    let document = run.json();
    let steps = document[of]["steps"].as_array().unwrap().iter();
    let step = |step: &serde_json::Value| format!("{} {}", step["step"], step["outcome"]);
    steps.map(|found| step(found).replace('"', "")).collect()
}

/// False for a picture of a single colour.
fn shows_something(picture: &Path) -> bool {
    let file = BufReader::new(File::open(picture).unwrap());
    let mut reader = png::Decoder::new(file).read_info().unwrap();
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut pixels).unwrap();
    pixels.chunks(3).any(|pixel| pixel != &pixels[..3])
}

const STARTED: [&str; 4] = [
    "partition pass",
    "loader pass",
    "bcd-store pass",
    // The stand-in for the boot manager goes no further.
    "system-loader caution",
];

#[test]
fn real_firmware_starts_the_draft_before_a_byte_is_written_and_the_disk_afterwards() {
    for sector in [512, 4096] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk, with a comma.img", sector);
        let before = hash(&image);
        let disk = image.to_str().unwrap();
        let run = lab.emulate(&["plan", disk, "--emulate", "--keep", "kept", "--json"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        assert_eq!(steps(&run, "emulated"), STARTED, "{sector}");
        assert_eq!(hash(&image), before, "nothing is written");
        let console = fs::read_to_string(lab.path("kept/firmware-console.txt")).unwrap();
        assert!(
            console.contains("boot store found") && !console.contains('\x1b'),
            "{console}"
        );
        assert!(shows_something(&lab.path("kept/firmware-screen.png")));

        let args = [
            "convert",
            disk,
            "--job",
            "job",
            "--yes",
            "--emulate",
            "--json",
        ];
        let run = lab.emulate(&args);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        assert_eq!(steps(&run, "emulated"), STARTED, "{sector}");
        assert!(lab.path("job/firmware-screen.png").exists());
        let after = hash(&image);
        let run = lab.emulate(&["rehearse", disk, "--emulate", "--json"]);
        assert_eq!(
            (run.code, steps(&run, "emulated")),
            (0, STARTED.map(str::to_owned).to_vec())
        );
        assert_eq!(hash(&image), after);
        let left: Vec<_> = fs::read_dir(lab.path("")).unwrap().collect();
        assert_eq!(left.len(), 3, "no passing files stay: {left:?}");
    }
}

/// A shrunk volume: what moves is part of what the firmware is shown.
#[test]
fn the_draft_of_a_shrink_is_shown_with_what_moves() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 211, |disk| {
        disk.standard(crate::support::SIGNATURE, crate::support::COMPUTER)
            .unwrap();
    });
    let before = hash(&image);
    let run = lab.emulate(&["plan", "disk.img", "--emulate", "--json"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert_eq!(steps(&run, "emulated"), STARTED);
    assert_eq!(hash(&image), before);
}

#[test]
#[ignore = "needs root and outside programs"]
fn firmware_that_does_not_start_the_draft_keeps_it_from_being_written() {
    let lab = Lab::new();
    let (image, record) = lab.converted("disk.img", 512);
    let esp = format!("{}@@{}", image.display(), place(&record, "EFI system").0);
    // A loader without a signature that is sound as far as can be seen, and comes back at once.
    let program = lab.path("program.efi");
    fs::write(&program, returning_loader()).unwrap();
    let args = [
        "-o",
        "-i",
        &esp,
        program.to_str().unwrap(),
        "::/EFI/BOOT/BOOTX64.EFI",
    ];
    tool("mcopy", &args);
    assert_eq!(
        lab.run(&["rehearse", "disk.img"]).code,
        0,
        "the walk finds nothing"
    );
    let run = lab.emulate(&["rehearse", "disk.img", "--emulate"]);
    assert_eq!(run.code, 1, "{}", run.stdout);
    for expected in ["FAIL     bcd-store", "real firmware does not start it"] {
        assert!(run.stdout.contains(expected), "{}", run.stdout);
    }
    // The same as the draft of an old disk.
    let (old, places) = lab.standard("old.img", 512);
    let windows = places.windows;
    let windows = (windows.first.0 * 512, windows.sectors() * 512);
    crate::volumes::edit_volume(&old, windows, |mount| {
        fs::copy(&program, mount.path("Windows/Boot/EFI/bootmgfw.efi")).unwrap();
    });
    let before = hash(&old);
    let run = lab.emulate(&[
        "convert",
        "old.img",
        "--job",
        "old.job",
        "--yes",
        "--emulate",
        "--json",
    ]);
    assert_eq!(
        (run.code, &run.json()["answer"]),
        (1, &"not-started".into()),
        "{}",
        run.stderr
    );
    assert_eq!(hash(&old), before);
    assert!(!lab.path("old.job").exists());
}

#[test]
#[ignore = "needs outside programs"]
fn a_loader_that_starts_and_looks_for_another_store_is_noticed() {
    let lab = Lab::new();
    let (image, record) = lab.converted("disk.img", 512);
    let esp = format!("{}@@{}", image.display(), place(&record, "EFI system").0);
    let utf16 = |text: &str| {
        text.encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect::<Vec<u8>>()
    };
    let (old, new) = (utf16("Boot\\BCD"), utf16("Boot\\XYZ"));
    let mut program = schwelle_demo::BOOT_MANAGER.to_vec();
    let at = program
        .windows(old.len())
        .position(|bytes| *bytes == old)
        .unwrap();
    program[at..at + old.len()].copy_from_slice(&new);
    let file = lab.path("program.efi");
    fs::write(&file, program).unwrap();
    tool(
        "mcopy",
        &[
            "-o",
            "-i",
            &esp,
            file.to_str().unwrap(),
            "::/EFI/BOOT/BOOTX64.EFI",
        ],
    );
    let run = lab.emulate(&["rehearse", "disk.img", "--emulate", "--json"]);
    let expected = [
        "partition pass",
        "loader pass",
        "bcd-store fail",
        "system-loader caution",
    ];
    assert_eq!(
        (run.code, steps(&run, "emulated")),
        (1, expected.map(str::to_owned).to_vec())
    );
}

/// Boot code that loads the active partition's boot record, which loads a sector from further inside.
#[test]
fn a_bios_starts_a_disk_that_goes_back() {
    let lab = Lab::new();
    let (image, places) = lab.standard("disk.img", 512);
    let run = lab.emulate(&[
        "rehearse",
        "disk.img",
        "--emulate",
        "--emulate-limit",
        "4",
        "--json",
    ]);
    // The demo disks have no boot code.
    assert_eq!(
        (run.code, steps(&run, "emulated")),
        (1, vec!["sector-0 pass".into(), "boot-record fail".into()])
    );

    let source = lab.path("code.s");
    // DL holds the drive; the packet at the end names the sector. Then to the sector loaded.
    fs::write(
        &source,
        ".code16\n.org 0\n cli\n xor %ax,%ax\n mov %ax,%ds\n mov %ax,%es\n mov %ax,%ss\n mov $0x7c00,%sp\n\
         \x20mov $0x7c00,%si\n mov $0x600,%di\n mov $256,%cx\n rep movsw\n ljmp $0,$0x600+next\n\
         next: mov $0x600+packet,%si\n mov $0x42,%ah\n int $0x13\n jmp go\n\
         packet: .byte 16,0\n .word 1,0x7c00,0\n .quad SECTOR\n go: ljmp $0,$0x7c00\n",
    )
    .unwrap();
    let assemble = |sector: u64| {
        let (object, code) = (lab.path("code.o"), lab.path("code.bin"));
        let (object, code) = (object.to_str().unwrap(), code.to_str().unwrap());
        let define = format!("SECTOR={sector}");
        tool(
            "as",
            &[
                "--32",
                "--defsym",
                &define,
                "-o",
                object,
                source.to_str().unwrap(),
            ],
        );
        tool("objcopy", &["-O", "binary", object, code]);
        fs::read(code).unwrap()
    };
    let active = places.boot.first.0;
    let (first, second) = (assemble(active), assemble(active + 2000));
    assert!(first.len() < 84, "room in a boot record of NTFS");
    poke(&image, 0, &first);
    poke(&image, active * 512, &[0xEB, 0x52]);
    poke(&image, active * 512 + 0x54, &second);
    // Its own code is copied from where it is loaded, so the jump before it must be skipped.
    poke(&image, active * 512, &second);
    // Says a word and halts.
    let mut last = vec![
        0x31, 0xC0, 0x8E, 0xD8, 0xBE, 0x12, 0x7C, 0xAC, 0x84, 0xC0, 0x74, 0xFE, 0xB4,
    ];
    last.extend([0x0E, 0xCD, 0x10, 0xEB, 0xF5]);
    last.extend(b"BOOT MANAGER REACHED\0");
    poke(&image, (active + 2000) * 512, &last);
    let run = lab.emulate(&[
        "rehearse",
        "disk.img",
        "--emulate",
        "--emulate-limit",
        "5",
        "--keep",
        "kept",
    ]);
    assert_eq!(run.code, 0, "{}", run.stdout);
    for expected in [
        "pass     boot-manager",
        "BOOT MANAGER REACHED",
        "Starts in BIOS mode.",
    ] {
        assert!(run.stdout.contains(expected), "{expected}: {}", run.stdout);
    }
}

#[test]
fn without_emulator_or_firmware_the_walk_stands_and_a_conversion_waits() {
    let lab = Lab::new();
    let (ready, _) = lab.standard("ready.img", 512);
    lab.converted("done.img", 512);
    let before = hash(&ready);
    fs::create_dir(lab.path("empty")).unwrap();
    let firmware = ["--emulate-firmware", "empty"];
    for (path, more, missing) in [
        (
            "empty",
            &[][..],
            "qemu-system-x86_64 is not on this machine",
        ),
        (
            "/usr/bin:/bin",
            &firmware[..],
            "there is no UEFI firmware for the emulator in empty",
        ),
    ] {
        for args in [
            &["rehearse", "done.img", "--emulate"][..],
            &["plan", "ready.img", "--emulate"],
        ] {
            let run = lab.run_in(path, &[args, more].concat(), "");
            assert_eq!(run.code, 0, "{args:?}: {}", run.stderr);
            for expected in [
                missing,
                "The walk stands by itself.",
                "Install the emulator",
            ] {
                assert!(
                    run.stdout.replace("\n  ", " ").contains(expected),
                    "{expected}: {}",
                    run.stdout
                );
            }
        }
        let args = ["convert", "ready.img", "--job", "job", "--yes", "--emulate"];
        let run = lab.run_in(path, &[&args[..], more].concat(), "");
        run.refuses(3, missing);
        assert!(run.stderr.contains("Nothing was written"), "{}", run.stderr);
        assert!(!lab.path("job").exists() && hash(&ready) == before);
    }
}

/// A program in the emulator's place.
pub(crate) fn pretend(lab: &Lab, script: &str) -> String {
    let folder = lab.path("pretended");
    fs::create_dir_all(&folder).unwrap();
    let program = folder.join("qemu-system-x86_64");
    // By another process: one that another test's process has inherited open for writing cannot be started.
    let text = folder.join("text");
    fs::write(&text, format!("#!/bin/sh\n{script}\n")).unwrap();
    tool("cp", &[text.to_str().unwrap(), program.to_str().unwrap()]);
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    format!("{}:/usr/bin:/bin", folder.display())
}

/// True while a process with this number runs.
fn runs(pid: &str) -> bool {
    let stat = fs::read_to_string(format!("/proc/{}/stat", pid.trim()));
    stat.is_ok_and(|stat| !stat.contains(") Z "))
}

#[test]
fn an_emulator_that_dies_hangs_or_outlives_us_is_dealt_with() {
    let lab = Lab::new();
    lab.converted("disk.img", 512);
    let args = ["rehearse", "disk.img", "--emulate", "--emulate-limit", "1"];
    let path = pretend(&lab, "echo 'no such machine' >&2; exit 1");
    let run = lab.run_in(&path, &args, "");
    assert_eq!(run.code, 3);
    for expected in ["ended by itself: no such machine", "Leave --emulate out"] {
        assert!(run.stderr.contains(expected), "{}", run.stderr);
    }
    // It answers, and then does nothing more: ended at the limit. It has no rights, but for a folder where all have them.
    let (pids, pid_file) = (lab.path("pids"), lab.path("pids/pid"));
    fs::create_dir(&pids).unwrap();
    fs::set_permissions(&pids, fs::Permissions::from_mode(0o777)).unwrap();
    let greet = format!(
        "echo $$ > {}; read order; echo '{{\"return\": {{}}}}'; : > \"$TRACE\"; exec sleep 600",
        pid_file.display()
    );
    let trace = "for a in \"$@\"; do case $a in enable=*) TRACE=${a##*file=};; esac; done; ";
    let path = pretend(&lab, &format!("{trace}{greet}"));
    let begun = Instant::now();
    let run = lab.run_in(&path, &args, "");
    let pid = fs::read_to_string(&pid_file).unwrap();
    assert!(
        begun.elapsed() < Duration::from_secs(30) && !runs(&pid),
        "{}",
        run.stdout
    );
    assert_eq!(run.code, 1);
    for expected in ["still running at the time limit", "FAIL     partition"] {
        assert!(run.stdout.contains(expected), "{}", run.stdout);
    }
    // We are killed: it goes as well.
    fs::remove_file(&pid_file).unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_schwelle"))
        .args(["rehearse", "disk.img", "--emulate", "--quiet"])
        .env("PATH", &path)
        .current_dir(lab.path(""))
        .spawn()
        .unwrap();
    let pid = wait_for_file(&pid_file);
    child.kill().unwrap();
    child.wait().unwrap();
    let begun = Instant::now();
    while runs(&pid) {
        assert!(
            begun.elapsed() < Duration::from_secs(10),
            "it is still running"
        );
        std::thread::sleep(Duration::from_millis(50));
    }
    // The disk is written to meanwhile.
    let disk = lab.path("disk.img");
    fs::set_permissions(&disk, fs::Permissions::from_mode(0o666)).unwrap();
    let len = fs::metadata(&disk).unwrap().len();
    let writes = format!("{trace}printf x >> {}; {greet}", disk.display());
    let run = lab.run_in(&pretend(&lab, &writes), &args, "");
    assert_eq!(run.code, 3, "{}", run.stdout);
    assert!(
        run.stderr
            .contains("has been changed while the emulator ran"),
        "{}",
        run.stderr
    );
    File::options()
        .write(true)
        .open(&disk)
        .unwrap()
        .set_len(len)
        .unwrap();
    // No room for what it needs.
    let run = Command::new(env!("CARGO_BIN_EXE_schwelle"))
        .args(args)
        .env("PATH", "/usr/bin:/bin")
        .env("TMPDIR", lab.path("no such folder"))
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    assert_eq!(run.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&run.stderr).contains("TMPDIR"));
}

#[test]
fn the_last_screen_that_shows_something_is_kept() {
    let lab = Lab::new();
    lab.converted("disk.img", 512);
    // Two pixels at first; then the firmware goes on, and clears its screen.
    let answer = r#"for a in "$@"; do case $a in enable=*) : > "${a##*file=}";; esac; done
        while read -r order; do
            case $order in *screendump*)
                file=${order##*'"filename":"'}; file=${file%%'"'*}
                printf "P6\n1 2\n255\n${screen:-abcdef}" > "$file"; screen='\0\0\0\0\0\0';;
            esac
            echo '{"return": {}}'
        done"#;
    let path = pretend(&lab, answer);
    let args = [
        "rehearse",
        "disk.img",
        "--emulate",
        "--emulate-limit",
        "2",
        "--keep",
        "kept",
    ];
    let run = lab.run_in(&path, &args, "");
    assert_eq!(run.code, 1, "{}", run.stderr);
    assert!(shows_something(&lab.path("kept/firmware-screen.png")));
}

fn wait_for_file(path: &Path) -> String {
    let begun = Instant::now();
    loop {
        match fs::read_to_string(path) {
            Ok(text) if text.ends_with('\n') => return text,
            _ => assert!(
                begun.elapsed() < Duration::from_secs(20),
                "it never started"
            ),
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}
