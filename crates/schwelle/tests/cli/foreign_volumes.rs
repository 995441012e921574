//! Disks that another system uses without a table, or that have lost theirs: never taken for blank.

use std::os::unix::fs::FileExt;
use std::path::Path;

use crate::support::Lab;
use crate::volumes::real_data;
use schwelle_testkit::{hash, tool};

/// Larger than the least that any of the manufacturers takes.
const DISK_BYTES: u64 = 400 << 20;

/// What makes a file system, and what it is called.
const MANUFACTURERS: &[(&str, &[&str], &str)] = &[
    ("mkfs.btrfs", &["-q"], "Btrfs"),
    ("mkfs.xfs", &["-q"], "XFS"),
    ("mkfs.ext4", &["-q"], "ext"),
    ("mkfs.exfat", &[], "exFAT"),
    ("mkudffs", &["--media-type=hd", "--blocksize=2048"], "UDF"),
    ("mkapfs", &[], "APFS"),
    ("hformat", &[], "HFS"),
    ("genisoimage", &["-quiet", "-o"], "ISO 9660"),
];

fn make(lab: &Lab, (program, args, _): (&str, &[&str], &str), image: &Path) {
    let file = std::fs::File::create(image).unwrap();
    file.set_len(DISK_BYTES).unwrap();
    let mut args = args.to_vec();
    args.push(image.to_str().unwrap());
    let content = lab.path("content");
    if program == "genisoimage" {
        std::fs::create_dir_all(&content).unwrap();
        std::fs::write(content.join("a file"), "something").unwrap();
        args.push(content.to_str().unwrap());
    }
    tool(program, &args);
    file.set_len(DISK_BYTES).unwrap();
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_disk_with_another_file_system_is_not_blank() {
    for &manufacturer in MANUFACTURERS {
        let lab = Lab::new();
        let (name, image) = (manufacturer.2, lab.path("disk.img"));
        make(&lab, manufacturer, &image);
        let before = hash(&image);
        let shown = lab.run(&["check", image.to_str().unwrap(), "--data-disk"]);
        assert_eq!(shown.code, 1, "{name}: {}", shown.stdout);
        for expected in [name, "a file system on the bare disk"] {
            assert!(shown.stdout.contains(expected), "{name}: {}", shown.stdout);
        }
        // The same after a table that was wiped.
        let shifted = lab.path("shifted.img");
        let (from, to) = (
            format!("if={}", image.display()),
            format!("of={}", shifted.display()),
        );
        tool(
            "dd",
            &[&from, &to, "bs=1M", "seek=1", "conv=sparse", "status=none"],
        );
        std::fs::File::options()
            .write(true)
            .open(&shifted)
            .unwrap()
            .set_len(DISK_BYTES + (2 << 20))
            .unwrap();
        let shown = lab.run(&["check", shifted.to_str().unwrap(), "--data-disk"]);
        let expected = format!("LBA 2048: a volume begins there ({name})");
        assert_eq!(shown.code, 1, "{name}: {}", shown.stdout);
        assert!(
            shown
                .stdout
                .replace("\n              ", " ")
                .contains(&expected),
            "{name}: {}",
            shown.stdout
        );
        assert_eq!(hash(&image), before, "{name}: changed");
    }
}

#[test]
#[ignore = "needs fetched disk images"]
fn volumes_of_a_forensics_librarys_tests_are_not_blank() {
    for (file, name) in [("dfvfs/hfsplus.raw", "HFS+"), ("dfvfs/apfs.raw", "APFS")] {
        let image = real_data(file);
        let shown = Lab::new().run(&["check", image.to_str().unwrap(), "--data-disk"]);
        assert_eq!(shown.code, 1, "{name}: {}", shown.stdout);
        for expected in [name, "a file system on the bare disk"] {
            assert!(shown.stdout.contains(expected), "{name}: {}", shown.stdout);
        }
    }
}

#[test]
fn a_disk_with_anything_where_a_table_lies_is_not_blank() {
    let last = (64 << 20) / 512 - 1;
    for (lba, is_blank) in [
        (1, false),
        (2, false),
        (33, false),
        (last - 32, false),
        (last, false),
        (last - 33, true),
    ] {
        let lab = Lab::new();
        let image = lab.path("disk.img");
        let file = std::fs::File::create(&image).unwrap();
        file.set_len((last + 1) * 512).unwrap();
        file.write_all_at(b"x", lba * 512 + 77).unwrap();
        let shown = lab.run(&["check", image.to_str().unwrap(), "--data-disk"]);
        assert_eq!(shown.code, i32::from(!is_blank), "{lba}: {}", shown.stdout);
        let expected = format!("LBA {lba}: content, though sector 0 is empty");
        assert_eq!(
            shown.stdout.contains(&expected),
            !is_blank,
            "{lba}: {}",
            shown.stdout
        );
    }
}
