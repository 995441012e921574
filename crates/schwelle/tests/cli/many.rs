//! Many disks in one call.

use std::fs;

use serde_json::Value;

use crate::support::Lab;
use schwelle_testkit::{Run, hash};

/// The documents, one in a line.
fn lines(run: &Run) -> Vec<Value> {
    let lines = run.stdout.lines();
    lines
        .map(|line| serde_json::from_str(line).unwrap())
        .collect()
}

/// Name and answer of each disk.
fn answers(run: &Run) -> Vec<(String, String)> {
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let answer = |line: &Value| (text(&line["disk"]), text(&line["answer"]));
    lines(run).iter().map(answer).collect()
}

#[test]
fn folders_patterns_and_disks_get_a_line_each_in_the_order_named() {
    let lab = Lab::new();
    fs::create_dir_all(lab.path("bench/below")).unwrap();
    let (ready, _) = lab.standard("bench/b.img", 512);
    fs::copy(&ready, lab.path("bench/a.RAW")).unwrap();
    lab.image("bench/c.img", 512, 4, |_| {});
    fs::write(lab.path("bench/short.img"), [0; 100]).unwrap();
    // Neither what is no image by its name, nor what lies below.
    fs::write(lab.path("bench/notes.txt"), "no disk").unwrap();
    fs::copy(lab.path("bench/c.img"), lab.path("bench/below/d.img")).unwrap();
    fs::copy(lab.path("bench/c.img"), lab.path("with [brackets].img")).unwrap();
    let before = hash(&ready);

    let in_bench = [
        ("bench/a.RAW", "ready"),
        ("bench/b.img", "ready"),
        ("bench/c.img", "blank"),
        ("bench/short.img", "unreadable"),
    ];
    let expected = |pairs: &[(&str, &str)]| -> Vec<(String, String)> {
        pairs
            .iter()
            .map(|(disk, answer)| ((*disk).into(), (*answer).into()))
            .collect()
    };
    for command in ["check", "survey"] {
        // What could not be read counts more than a block.
        let run = lab.run(&[command, "bench", "--json"]);
        assert_eq!(
            (run.code, answers(&run)),
            (3, expected(&in_bench)),
            "{command}"
        );
        // Named twice, shown once; a pattern reaches below; brackets in a name that is there are none.
        let run = lab.run(&[
            command,
            "with [brackets].img",
            "bench/*/?.img",
            "bench/b.img",
            "bench/[bc].img",
            "--json",
        ]);
        let named = expected(&[
            ("with [brackets].img", "blank"),
            ("bench/below/d.img", "blank"),
            ("bench/b.img", "ready"),
            ("bench/c.img", "blank"),
        ]);
        assert_eq!((run.code, answers(&run)), (1, named), "{command}");
        let run = lab.run(&[command, "bench/a.RAW", "bench/b.img", "--json"]);
        assert_eq!((run.code, lines(&run).len()), (0, 2), "{command}");
        for (path, wanted) in [
            ("no/*.img", "there is no disk or image"),
            ("bench/below/[", "bench/below/["),
        ] {
            let run = lab.run(&[command, path]);
            assert!(
                run.code == 2 && run.stderr.contains(wanted),
                "{command}: {}",
                run.stderr
            );
        }
    }
    let run = lab.run(&["check", "bench"]);
    assert_eq!(run.code, 3);
    let shown: Vec<&str> = run
        .stdout
        .lines()
        .map(|line| line.split(':').next().unwrap())
        .collect();
    assert_eq!(shown[0], "ready          bench/a.RAW  SIGNAL-MAST");
    assert_eq!(
        shown[2],
        "blank          bench/c.img  no partition table and no content found"
    );
    assert_eq!(shown[5], "4 disks", "{}", run.stdout);
    assert!(
        run.stdout
            .contains("4 disks: 2 ready, 1 blank, 1 unreadable.")
    );
    assert!(
        run.stdout.lines().all(|line| line.chars().count() <= 100),
        "{}",
        run.stdout
    );
    assert_eq!(hash(&ready), before);
}

#[test]
fn a_hundred_images_are_an_ordinary_morning() {
    let lab = Lab::new();
    let (ready, _) = lab.standard("ready.img", 512);
    fs::create_dir(lab.path("morning")).unwrap();
    for number in 0..100 {
        let path = lab.path(&format!("morning/{number:02}.img"));
        // As links: a hundred copies would only be large.
        std::os::unix::fs::symlink(&ready, path).unwrap();
    }
    let run = lab.run(&["check", "morning", "--json"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let found = lines(&run);
    assert_eq!(found.len(), 100);
    let ids: Vec<&Value> = found[0]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| &f["rule"])
        .collect();
    for (number, line) in found.iter().enumerate() {
        assert_eq!(line["disk"], format!("morning/{number:02}.img"));
        let of_line: Vec<&Value> = line["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| &f["rule"])
            .collect();
        assert_eq!(of_line, ids);
    }
}

#[test]
fn a_disk_has_the_same_line_alone_as_among_others_and_all_lines_have_one_shape() {
    let lab = Lab::new();
    lab.standard("ready.img", 512);
    lab.image("blank.img", 512, 4, |_| {});
    fs::write(lab.path("short.img"), [0; 100]).unwrap();
    let disks = ["ready.img", "blank.img", "short.img"];
    for command in ["check", "survey"] {
        let together = lab.run(&[&[command], &disks[..], &["--json"]].concat());
        let together: Vec<&str> = together.stdout.lines().collect();
        assert_eq!(together.len(), disks.len(), "{command}");
        let mut shapes = Vec::new();
        for (disk, line) in disks.iter().zip(together) {
            let alone = lab.run(&[command, disk, "--json"]);
            assert_eq!(alone.stdout, format!("{line}\n"), "{command} {disk}");
            let document: Value = serde_json::from_str(line).unwrap();
            let keys = document.as_object().unwrap().keys();
            shapes.push(keys.cloned().collect::<Vec<_>>());
        }
        shapes.dedup();
        assert_eq!(shapes.len(), 1, "{command}: {shapes:?}");
    }
}
