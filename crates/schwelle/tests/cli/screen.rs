//! What the technician reads.

use schwelle_core::device::Extent;
use schwelle_demo::{Asset, MbrEntry};

use crate::support::{Lab, lba, poke};

#[test]
fn labels_with_control_codes_are_shown_escaped() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 340, |disk| {
        disk.standard(1, "SIGNAL-MAST").unwrap();
        let places = disk.standard_places();
        let entry = |active, kind, extent: Extent| MbrEntry {
            active,
            kind,
            first: u32::try_from(extent.first.0).unwrap(),
            sectors: u32::try_from(extent.sectors()).unwrap(),
        };
        let ext = Extent::between(lba(500_000), lba(510_000));
        let entries = [
            entry(true, 7, places.boot),
            entry(false, 7, places.windows),
            entry(false, 0x83, ext),
        ];
        disk.boot_record(lba(0), 1, &entries).unwrap();
        disk.volume(Asset::Boot, places.boot).unwrap();
    });
    // An ext superblock with a label that would clear the screen and turn the reading direction.
    let base = 500_000 * 512 + 1024;
    poke(&image, base + 56, &[0x53, 0xEF]);
    poke(&image, base + 120, b"\x1b[2J<b>\xE2\x80\xAE\x07!");
    let path = image.to_str().unwrap();
    for args in [
        vec!["check", path, "--color", "always"],
        vec!["survey", path],
        vec!["plan", path],
    ] {
        let run = lab.run(&args);
        assert!(
            !run.stdout.contains("\x1b[2J")
                && !run.stdout.contains('\u{202E}')
                && !run.stdout.contains('\x07')
        );
    }
    let run = lab.run(&["check", path]);
    assert!(
        run.stdout.contains("\\u{1b}[2J<b>\\u{202e}\\u{7}!"),
        "{}",
        run.stdout
    );
}

#[test]
fn without_a_terminal_there_are_no_colours_and_lines_fit() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for args in [
        vec!["survey", path],
        vec!["check", path],
        vec!["plan", path],
        vec!["rules"],
        vec!["rules", "boot.store"],
    ] {
        let run = lab.run(&args);
        assert!(!run.stdout.contains('\x1b'), "{args:?}");
        // A path is never broken, so lines with one may be longer.
        let long = run
            .stdout
            .lines()
            .find(|line| line.chars().count() > 100 && !line.contains(path));
        assert_eq!(long, None, "{args:?}");
    }
    let coloured = lab.run(&["check", path, "--color", "always"]);
    assert!(coloured.stdout.contains('\x1b'));
}

#[test]
fn the_answer_and_the_next_step_stand_last() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    let last = |args: &[&str]| {
        lab.run(args)
            .stdout
            .lines()
            .last()
            .unwrap_or_default()
            .to_owned()
    };
    assert_eq!(
        last(&["check", path]),
        format!("Ready. No blocking issue. Next: schwelle plan {path}")
    );
    assert!(
        last(&["plan", path])
            .starts_with("The draft starts. Nothing has been written. Next: schwelle convert")
    );
    assert!(
        last(&["rehearse", path])
            .starts_with("Does not start in UEFI mode. The walk ends at the step protective-mbr.")
    );
}

#[test]
fn survey_gives_a_line_for_each_disk_and_goes_on_after_a_bad_one() {
    let lab = Lab::new();
    let (good, _) = lab.standard("good.img", 512);
    let blank = lab.image("blank.img", 512, 4, |_| {});
    let run = lab.run(&[
        "survey",
        good.to_str().unwrap(),
        "missing.img",
        blank.to_str().unwrap(),
        "--json",
    ]);
    assert_eq!(run.code, 3);
    let disks: Vec<serde_json::Value> = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let answers: Vec<_> = disks
        .iter()
        .map(|disk| disk["answer"].as_str().unwrap())
        .collect();
    assert_eq!(answers, ["ready", "unreadable", "blank"]);
    assert_eq!(disks[0]["disk_name"], "SIGNAL-MAST");
    assert_eq!(
        (&disks[2]["rule"], &disks[2]["convertible"]),
        (&serde_json::Value::Null, &false.into())
    );
}

#[test]
fn the_demo_runs_the_whole_job() {
    let lab = Lab::new();
    let run = lab.run(&["demo", "demo"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    for said in [
        "Blocked. Nothing was written.",
        "The draft starts.",
        "Converted. Next:",
        "Starts. This disk has everything that a start in UEFI mode needs.",
        "Starts. This disk has everything that a start in BIOS mode needs.",
    ] {
        assert!(run.stdout.contains(said), "{said}: {}", run.stdout);
    }
    // Every disk answers as its story says.
    for disk in schwelle_demo::disks() {
        let path = lab.path("demo").join(disk.file);
        let json = lab.run(&["check", path.to_str().unwrap(), "--json"]).json();
        let blocks: Vec<_> = json["findings"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|finding| finding["outcome"] == "block")
            .collect();
        match disk.blocked_by {
            // The one that went back to MBR is one that can be converted.
            _ if disk.file == "breakwater.img" => assert_eq!(json["answer"], "ready"),
            Some(rule) => assert!(
                blocks.iter().any(|finding| finding["rule"] == rule),
                "{}",
                disk.file
            ),
            None => assert!(
                blocks
                    .iter()
                    .all(|finding| finding["evidence"]["text"] == "the disk has a GPT already")
            ),
        }
    }
    assert_eq!(
        lab.run(&["demo", "demo"]).code,
        2,
        "a folder in use is refused"
    );
}
