//! The first answer about a disk: what it is, and "blocked" only where a conversion is wanted and refused.

use std::path::PathBuf;

use schwelle_core::device::Extent;
use schwelle_demo::{Asset, MbrEntry};

use crate::blocked::write_gpt;
use crate::support::{Lab, lba, place, poke};
use schwelle_testkit::tool;

const MIB: u64 = 1 << 20;
const WINDOWS_AT: u64 = 51 * MIB;

/// What the disk is, its answer, what `survey` and `check` say of it, and how it is made.
type Case = (
    &'static str,
    &'static str,
    &'static str,
    fn(&Lab) -> PathBuf,
);

const CASES: &[Case] = &[
    ("MBR", "ready", "Ready. No blocking issue.", |lab| {
        lab.standard("disk.img", 512).0
    }),
    (
        "converted",
        "starts",
        "Starts. GPT already, and starts in UEFI mode. Each step: schwelle rehearse",
        converted,
    ),
    (
        "converted, sector 0 without its signature",
        "depends",
        "some firmware does not start it. Protective-mbr: LBA 0: the signature 55 AA is missing. What can be fixed: \
         schwelle mend",
        |lab| {
            let image = converted(lab);
            poke(&image, 510, &[0, 0]);
            image
        },
    ),
    (
        "converted, the boot files gone",
        "does-not-start",
        "Does not start. GPT already, but does not start in UEFI mode.",
        |lab| {
            let (image, record) = lab.converted("disk.img", 512);
            let esp = format!("{}@@{}", image.display(), place(&record, "EFI system").0);
            tool("mdeltree", &["-i", &esp, "::EFI"]);
            image
        },
    ),
    (
        "converted, its Windows encrypted since",
        "closed",
        "so its start cannot be checked",
        |lab| {
            let image = converted(lab);
            poke(&image, WINDOWS_AT + 3, b"-FVE-FS-");
            image
        },
    ),
    (
        "converted, its Windows wiped since",
        "no-windows",
        "No Windows. Another system may start from it.",
        |lab| {
            let image = converted(lab);
            poke(&image, WINDOWS_AT, &[0; 4096]);
            image
        },
    ),
    ("GPT, empty", "data", "no system on it", |lab| {
        lab.image("disk.img", 512, 340, write_gpt)
    }),
    (
        "MBR, a partition of another system",
        "data",
        "Data only. No system on it. To convert it: schwelle check",
        |lab| {
            lab.image("disk.img", 512, 64, |disk| {
                let entry = MbrEntry {
                    active: false,
                    kind: 0x83,
                    first: 2048,
                    sectors: 8 * 2048,
                };
                disk.boot_record(lba(0), 0xD15C, &[entry]).unwrap();
            })
        },
    ),
    (
        "MBR, its Windows wiped",
        "no-windows",
        "No Windows. Another system may start from it.",
        |lab| {
            let (image, _) = lab.standard("disk.img", 512);
            poke(&image, WINDOWS_AT, &[0; 4096]);
            image
        },
    ),
    (
        "MBR, its Windows encrypted",
        "blocked",
        "Blocked. Nothing was written.",
        |lab| {
            let (image, _) = lab.standard("disk.img", 512);
            poke(&image, WINDOWS_AT + 3, b"-FVE-FS-");
            image
        },
    ),
    (
        "blank",
        "blank",
        "Blank. No partition table and no content found. To give it an empty GPT: schwelle check",
        |lab| lab.image("disk.img", 512, 64, |_| {}),
    ),
    (
        "a table wiped, a volume after it",
        "unknown",
        "Neither a partition table nor a file system is recognised.",
        |lab| {
            let image = lab.image("disk.img", 512, 64, |_| {});
            poke(&image, MIB + 3, b"NTFS    ");
            image
        },
    ),
    (
        "a file system on the bare disk",
        "data",
        "a file system on the bare disk, without a partition table",
        |lab| {
            lab.image("disk.img", 512, 64, |disk| {
                let extent = Extent::new(lba(0), 50 * 2048).unwrap();
                disk.volume(Asset::Boot, extent).unwrap();
            })
        },
    ),
];

fn converted(lab: &Lab) -> PathBuf {
    lab.converted("disk.img", 512).0
}

#[test]
#[ignore = "needs outside programs"]
fn every_disk_is_called_what_it_is() {
    for (name, answer, says, build) in CASES {
        let lab = Lab::new();
        let image = build(&lab);
        let path = image.to_str().unwrap();
        let survey = lab.run(&["survey", path, "--json"]);
        let json = survey.json();
        let check = lab.run(&["check", path]);
        let document = lab.run(&["check", path, "--json"]).json();
        assert_eq!(
            (&json["answer"], &document["answer"]),
            (&(*answer).into(), &(*answer).into()),
            "{name}: {json}\n{}",
            check.stdout
        );
        // The exit code says only whether it can be converted, and so does the document.
        let code = i32::from(*answer != "ready");
        assert_eq!((survey.code, check.code), (code, code), "{name}");
        for document in [&json, &document] {
            assert_eq!(document["convertible"], code == 0, "{name}");
        }
        let flat = check
            .stdout
            .split_whitespace()
            .collect::<Vec<_>>()
            .join(" ");
        assert!(
            flat.to_lowercase().contains(&says.to_lowercase()),
            "{name}: {flat}"
        );
        assert_eq!(
            flat.contains("Blocked"),
            *answer == "blocked",
            "{name}: {flat}"
        );
        let has_step = ["depends", "does-not-start"].contains(answer);
        assert_eq!(document["step"].is_object(), has_step, "{name}: {document}");
    }
}
