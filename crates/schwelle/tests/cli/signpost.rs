//! The boot code of the protective MBR, run by a BIOS in the emulator: what it says, and that it goes on
//! to the next boot device.

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::Lab;
use schwelle_testkit::{hash, tool};

const FORMATS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../schwelle-formats");

/// Boot code that shows a word and halts.
fn next_device() -> Vec<u8> {
    let mut code = vec![0x31, 0xC0, 0x8E, 0xD8, 0xBE, 0x12, 0x7C];
    // lodsb; test al,al; jz; mov ah,0Eh; int 10h; jmp: print, then halt for ever.
    code.extend([
        0xAC, 0x84, 0xC0, 0x74, 0xFE, 0xB4, 0x0E, 0xCD, 0x10, 0xEB, 0xF5,
    ]);
    code.extend(b"NEXT DEVICE REACHED\0");
    code.resize(510, 0);
    code.extend([0x55, 0xAA]);
    code.resize(1_474_560, 0);
    code
}

/// A PC with a BIOS, under the monitor's hand; stopped when it goes out of sight.
pub(crate) struct Pc {
    child: Child,
    monitor: ChildStdin,
    answers: BufReader<ChildStdout>,
}

impl Pc {
    pub(crate) fn start(disk: &str, floppy: &str) -> Self {
        let drive = format!("file={disk},format=raw,if=ide,snapshot=on");
        let floppy = format!("file={floppy},format=raw,if=floppy,snapshot=on");
        let child = Command::new("qemu-system-x86_64")
            .args([
                "-machine",
                "pc,accel=tcg",
                "-m",
                "64",
                "-net",
                "none",
                "-display",
                "none",
            ])
            .args([
                "-drive",
                &drive,
                "-drive",
                &floppy,
                "-boot",
                "order=ca",
                "-no-shutdown",
                "-monitor",
                "stdio",
            ])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn();
        let mut child = child.unwrap_or_else(|error| {
            panic!("qemu-system-x86_64: {error} (tools/install-test-tools.sh brings it)")
        });
        let (monitor, answers) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let answers = BufReader::new(answers);
        Self {
            child,
            monitor,
            answers,
        }
    }

    fn tell(&mut self, command: &str) {
        writeln!(self.monitor, "{command}").unwrap();
    }

    /// The text on the screen, read from its memory.
    fn screen(&mut self) -> String {
        self.tell("xp /4000xb 0xb8000");
        self.tell("info version");
        let mut cells = Vec::new();
        let mut line = String::new();
        loop {
            line.clear();
            assert!(
                self.answers.read_line(&mut line).unwrap() > 0,
                "the emulator has ended"
            );
            let text = line.trim();
            if let Some((_, bytes)) = text.split_once(": 0x").filter(|_| text.starts_with("0000")) {
                let bytes = format!("0x{bytes}");
                let all = bytes.split_whitespace();
                cells.extend(all.map(|byte| u8::from_str_radix(&byte[2..], 16).unwrap()));
            } else if cells.len() >= 4000 {
                break;
            }
        }
        // Character and colour take turns; 80 in a line.
        let chars: Vec<u8> = cells.chunks(2).map(|cell| cell[0]).collect();
        let lines = chars
            .chunks(80)
            .map(|line| String::from_utf8_lossy(line).trim_end().to_owned());
        lines.collect::<Vec<_>>().join("\n")
    }

    /// Waits until the screen shows a text.
    pub(crate) fn wait_for(&mut self, text: &str) -> String {
        let begun = Instant::now();
        loop {
            let screen = self.screen();
            if screen.contains(text) {
                return screen;
            }
            assert!(
                begun.elapsed() < Duration::from_secs(60),
                "no \"{text}\":\n{screen}"
            );
            std::thread::sleep(Duration::from_millis(300));
        }
    }
}

impl Drop for Pc {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}

#[test]
#[ignore = "needs outside programs"]
fn a_bios_shows_the_signpost_and_goes_on_to_the_next_device() {
    let lab = Lab::new();
    let (image, _) = lab.converted("disk.img", 512);
    let floppy = lab.path("floppy.img");
    fs::write(&floppy, next_device()).unwrap();
    let before = hash(&image);
    // At a key, and without one.
    for key in [true, false] {
        let mut pc = Pc::start(image.to_str().unwrap(), floppy.to_str().unwrap());
        let screen = pc.wait_for("the next boot device.");
        for expected in [
            "it starts in UEFI mode only",
            "change the boot mode to UEFI",
            "Nothing is wrong",
        ] {
            assert!(screen.contains(expected), "{screen}");
        }
        assert!(!screen.contains("NEXT DEVICE"), "{screen}");
        if key {
            pc.tell("sendkey spc");
        }
        let begun = Instant::now();
        pc.wait_for("NEXT DEVICE REACHED");
        assert!(key || begun.elapsed() > Duration::from_secs(10));
    }
    assert_eq!(hash(&image), before);
}

#[test]
#[ignore = "needs outside programs"]
fn a_data_disk_is_passed_over_at_once() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 64, |_| ());
    let args = [
        "convert",
        "disk.img",
        "--data-disk",
        "--job",
        "job",
        "--yes",
    ];
    assert_eq!(lab.run(&args).code, 0);
    let floppy = lab.path("floppy.img");
    fs::write(&floppy, next_device()).unwrap();
    let mut pc = Pc::start(image.to_str().unwrap(), floppy.to_str().unwrap());
    let screen = pc.wait_for("NEXT DEVICE REACHED");
    assert!(!screen.contains("GPT"), "{screen}");
}

#[test]
#[ignore = "needs outside programs"]
fn the_bytes_are_made_from_the_source() {
    let lab = Lab::new();
    let folder = lab.path("");
    tool(
        "sh",
        &[&format!("{FORMATS}/boot-code.sh"), folder.to_str().unwrap()],
    );
    for (made, kept) in [
        ("signpost.bin", "mbr/signpost/signpost.bin"),
        ("mbr-active.bin", "mbr/boot-code/active.bin"),
        ("fat-boot.bin", "fat/boot-code/boot.bin"),
    ] {
        let kept_bytes = fs::read(format!("{FORMATS}/src/{kept}")).unwrap();
        assert_eq!(fs::read(lab.path(made)).unwrap(), kept_bytes, "{kept}");
    }
}
