//! What a terminal shows: at three widths, in 7 bits, without colours, with labels in other scripts, and while
//! something takes long.

use std::process::Command;

use assert_cmd::cargo::cargo_bin;
use schwelle_demo::MbrEntry;
use unicode_width::UnicodeWidthStr;

use crate::support::{Lab, lba, poke};

/// A label that begins from the right, and one of wide characters.
const LABELS: [&str; 2] = ["מגדל א", "灯台三号"];

/// A standard disk with two more volumes, which have these labels.
fn bench() -> Lab {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        disk.standard(7, "SIGNAL-MAST").unwrap();
        let [boot, windows] = {
            let places = disk.standard_places();
            [places.boot, places.windows]
        };
        let entry = |active, kind, first: u64, sectors: u64| MbrEntry {
            active,
            kind,
            first: u32::try_from(first).unwrap(),
            sectors: u32::try_from(sectors).unwrap(),
        };
        let entries = [
            entry(true, 7, boot.first.0, boot.sectors()),
            entry(false, 7, windows.first.0, windows.sectors()),
            entry(false, 0x83, 452_608, 8192),
            entry(false, 0x83, 460_800, 8192),
        ];
        disk.boot_record(lba(0), 7, &entries).unwrap();
    });
    for (first, label) in [452_608, 460_800].into_iter().zip(LABELS) {
        let superblock = first * 512 + 1024;
        poke(&image, superblock + 56, &[0x53, 0xEF]);
        poke(&image, superblock + 120, label.as_bytes());
    }
    lab
}

/// Runs the program in a terminal of so many columns.
fn in_terminal(lab: &Lab, columns: usize, env: &[(&str, &str)], args: &str) -> String {
    let program = cargo_bin("schwelle");
    let command = format!("stty rows 50 cols {columns}; {} {args}", program.display());
    let output = Command::new("script")
        .args(["-qec", &command, "/dev/null"])
        .env_clear()
        .envs([
            ("PATH", "/usr/bin:/bin"),
            ("TERM", "xterm"),
            ("SHELL", "/bin/sh"),
        ])
        .envs(env.iter().copied())
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    assert!(output.status.success(), "{output:?}");
    // What a progress line shows for a moment is overwritten.
    let text = String::from_utf8(output.stdout).unwrap();
    let lines = text.split('\n').map(|line| {
        let line = line.trim_end_matches('\r');
        line.rsplit('\r').next().unwrap_or_default()
    });
    lines.collect::<Vec<_>>().join("\n")
}

/// Text without colours.
fn plain(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

#[test]
fn lines_fit_whatever_the_labels_are() {
    let lab = bench();
    for columns in [80, 100, 160] {
        for args in [
            "check disk.img",
            "plan disk.img",
            "survey disk.img",
            "check disk.img --lba",
        ] {
            let text = in_terminal(&lab, columns, &[("LANG", "C.UTF-8")], args);
            assert!(text.contains('\x1b'), "{args}");
            let text = plain(&text);
            let long = text
                .lines()
                .find(|line| line.width() > columns && !line.contains("schwelle "));
            assert_eq!(long, None, "{args} at {columns}");
            if args == "check disk.img" {
                for label in LABELS {
                    assert!(text.contains(label), "{label}: {text}");
                }
                // The one that begins from the right keeps to itself, so that it turns nothing else round.
                assert!(text.contains("\u{2068}מגדל א\u{2069}"), "{text}");
            }
        }
    }
}

#[test]
fn a_terminal_of_seven_bits_gets_seven_bits() {
    let lab = bench();
    for args in ["check disk.img", "plan disk.img", "survey disk.img"] {
        let text = in_terminal(&lab, 80, &[("LC_ALL", "C")], args);
        assert!(text.is_ascii(), "{args}");
    }
    // A wide character takes the columns of two signs.
    let text = in_terminal(&lab, 80, &[("LC_ALL", "C")], "check disk.img");
    assert!(
        text.contains("???? ?") && text.contains("????????"),
        "{text}"
    );
}

#[test]
fn no_color_is_heeded_in_a_terminal() {
    let lab = bench();
    let env = [("LANG", "C.UTF-8"), ("NO_COLOR", "1")];
    for args in ["check disk.img", "rehearse disk.img || true"] {
        assert!(
            !in_terminal(&lab, 100, &env, args).contains('\x1b'),
            "{args}"
        );
    }
}
