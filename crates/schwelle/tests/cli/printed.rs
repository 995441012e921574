//! Texts with commands and what they print: each command is run, and prints what stands there.
//!
//! In a text, a block that begins with "```console" has lines with `$ ` in front: commands for a shell, in a
//! folder where `schwelle demo disks --quiet` has been run. What follows up to the next is what is printed, and
//! the exit code where it is not 0. `SCHWELLE_RENEW=1` puts in what is printed now; look at it before it is kept.

use std::fs;
use std::path::Path;
use std::process::Command;

use assert_cmd::cargo::cargo_bin;

use crate::support::Lab;

const OPEN: &str = "```console";
const CLOSE: &str = "```";

/// What a command prints, in a terminal of so many columns.
fn printed(lab: &Lab, command: &str, columns: &str) -> String {
    let program = cargo_bin("schwelle");
    let path = format!("{}:/usr/bin:/bin", program.parent().unwrap().display());
    let output = Command::new("sh")
        .args(["-c", &format!("{{ {command}\n}} 2>&1")])
        .env_clear()
        .envs([("PATH", path.as_str()), ("COLUMNS", columns)])
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    let mut text = steady(&String::from_utf8(output.stdout).unwrap());
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    match output.status.code() {
        Some(0) => text,
        code => format!("{text}(exit code {})\n", code.unwrap_or(-1)),
    }
}

/// The text with what is another one each time in signs of the same length: GUIDs, disk signatures, and times.
fn steady(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    let is_guid = |text: &str| {
        text.len() == 36
            && text.bytes().enumerate().all(|(at, byte)| match at {
                8 | 13 | 18 | 23 => byte == b'-',
                _ => byte.is_ascii_hexdigit(),
            })
    };
    // What follows the century.
    let is_minute = |text: &str| {
        text.bytes()
            .zip("00-00-00 00:00".bytes())
            .all(|(byte, form)| match form {
                b'0' => byte.is_ascii_digit(),
                other => byte == other,
            })
    };
    while let Some(c) = rest.chars().next() {
        if rest.get(..36).is_some_and(is_guid) {
            out += "xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx";
            rest = &rest[36..];
        } else if let Some(after) = rest.strip_prefix("20")
            && after.get(..14).is_some_and(is_minute)
        {
            out += "20XX-XX-XX XX:XX";
            rest = &after[14..];
        } else if let Some(after) = rest.strip_prefix("disk signature ")
            && after
                .get(..8)
                .is_some_and(|text| text.bytes().all(|byte| byte.is_ascii_hexdigit()))
        {
            out += "disk signature XXXXXXXX";
            rest = &after[8..];
        } else {
            out.push(c);
            rest = &rest[c.len_utf8()..];
        }
    }
    out
}

/// Runs a text's commands; the text with what they print.
fn run(text: &str, columns: &str) -> String {
    let lab = Lab::new();
    assert_eq!(lab.run(&["demo", "disks", "--quiet"]).code, 0);
    let mut out = String::new();
    let mut inside = false;
    for line in text.lines() {
        match (inside, line) {
            (false, OPEN) => inside = true,
            (true, CLOSE) => inside = false,
            _ => {}
        }
        let command = line.strip_prefix("$ ").filter(|_| inside);
        if inside && command.is_none() && line != OPEN {
            continue;
        }
        out += &format!("{line}\n");
        if let Some(command) = command {
            out += &printed(&lab, command, columns);
        }
    }
    out
}

fn check(file: &Path, columns: &str) {
    let now = run(&fs::read_to_string(file).unwrap(), columns);
    schwelle_testkit::renew(file, &now);
    let text = fs::read_to_string(file).unwrap();
    let mut pairs = text.lines().zip(now.lines()).enumerate();
    let differs = pairs.find(|(_, (expected, prints))| expected != prints);
    assert_eq!(differs, None, "{}", file.display());
    assert_eq!(text, now, "{}", file.display());
    // A command to type and a path are never broken.
    let columns: usize = columns.parse().unwrap();
    let is_long = |line: &&str| line.chars().count() > columns && !line.contains("schwelle ");
    let blocks = now.split(OPEN).skip(1);
    let printed = blocks.flat_map(|block| block.split(CLOSE).next().unwrap().lines());
    let long: Vec<&str> = printed.filter(is_long).collect();
    assert!(long.is_empty(), "{}: {long:#?}", file.display());
}

#[test]
fn the_guide_says_what_the_program_says() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    for name in ["guide.md", "when-it-does-not-start.md"] {
        check(&docs.join(name), "100");
    }
}

#[test]
fn every_view_at_three_widths() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/golden");
    for columns in ["80", "100", "160"] {
        check(&folder.join(format!("{columns}.txt")), columns);
    }
}
