//! Disks that are shown with another sector size than they were written with, and what is not recognised on
//! data disks.

use schwelle_core::device::Extent;
use serde_json::Value;

use crate::blocked::entry;
use crate::devices::Attached;
use crate::support::{Lab, SIGNATURE, lba, poke};
use schwelle_testkit::hash;

fn finding(json: &Value, rule: &str) -> Value {
    let findings = json["findings"].as_array().unwrap();
    let found = findings.iter().find(|finding| finding["rule"] == rule);
    found.unwrap().clone()
}

#[test]
#[ignore = "needs root"]
fn an_adapter_that_changes_the_sector_size_is_told_and_refused() {
    for (written, shown) in [(512, 4096), (4096, 512)] {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", written);
        let before = hash(&image);
        let dock = Attached::new(&image, &["--sector-size", &shown.to_string()]);
        for more in [&[][..], &["--data-disk"]] {
            let check = lab.run(&[&["check", dock.path(), "--json"], more].concat());
            let found = finding(&check.json(), "medium.sector-size");
            assert_eq!(
                (check.code, &found["outcome"]),
                (1, &"block".into()),
                "{found}"
            );
            let reported = format!("written with {written}-byte sectors");
            assert!(
                found["evidence"]["text"]
                    .as_str()
                    .unwrap()
                    .contains(&reported),
                "{found}"
            );
            assert!(
                found["remedy"]["text"]
                    .as_str()
                    .unwrap()
                    .contains("adapter"),
                "{found}"
            );
            let run = lab.convert(&dock.0, "job", more);
            assert_eq!(
                (run.code, lab.path("job").exists()),
                (1, false),
                "{}",
                run.stderr
            );
        }
        assert_eq!(hash(&image), before);
    }
}

#[test]
fn what_is_not_recognised_on_a_data_disk_is_kept_only_when_that_is_said() {
    let lab = Lab::new();
    let image = lab.image("disk.img", 512, 64, |disk| {
        let extent = Extent::new(lba(2048), 40_000).unwrap();
        disk.boot_record(lba(0), SIGNATURE, &[entry(false, 0x07, extent)])
            .unwrap();
    });
    poke(&image, 2048 * 512, &[0x1D, 0x9C, 0x44]);
    let before = hash(&image);
    let path = image.to_str().unwrap();
    let check = lab.run(&["check", path, "--data-disk", "--json"]);
    let found = finding(&check.json(), "volume.matches-type");
    assert_eq!(found["outcome"], "unknown", "{found}");
    assert!(
        found["evidence"]["text"]
            .as_str()
            .unwrap()
            .contains("begins 1D 9C 44 00"),
        "{found}"
    );
    let run = lab.convert(&image, "job", &["--data-disk"]);
    assert_eq!((run.code, hash(&image)), (2, before), "{}", run.stdout);
    assert!(run.stderr.contains("--keep-unrecognised"), "{}", run.stderr);
    // Asked for by name, and before anything else.
    let ask = ["convert", path, "--data-disk", "--job", "job"];
    let run = lab.run_with(&ask, "no\n");
    assert_eq!((run.code, hash(&image)), (2, before), "{}", run.stderr);
    assert!(
        run.stderr.contains("Nothing is recognised in partition 1"),
        "{}",
        run.stderr
    );
    let run = lab.convert(&image, "job", &["--data-disk", "--keep-unrecognised"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
}
