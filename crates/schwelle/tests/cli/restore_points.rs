//! Shadow copies (restore points): reported, never lost silently, and not moved.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use schwelle_core::device::DiskFile;
use schwelle_core::ntfs::{NtfsVolume, ShrinkError};
use schwelle_demo::MbrEntry;

use crate::support::{Lab, SIGNATURE, lba};
use schwelle_testkit::Dice;
use schwelle_testkit::{extract, hash, tool};

use crate::volumes::{Mount, format, real_data, snapshot};

const MIB: u64 = 1 << 20;

/// A data disk with these volumes one after the other from the first MiB on, and so many MiB after them.
pub(crate) fn data_disk(lab: &Lab, volumes: &[PathBuf], rest_mib: u64) -> PathBuf {
    let lens = volumes.iter().map(|path| fs::metadata(path).unwrap().len());
    let ends: Vec<u64> = lens
        .scan(MIB, |end, len| {
            *end = (*end + len).next_multiple_of(MIB);
            Some(*end)
        })
        .collect();
    let size = ends.last().unwrap() / MIB + rest_mib;
    let firsts: Vec<u64> = [MIB].iter().chain(&ends).copied().collect();
    let image = lab.image("disk.img", 512, size, |disk| {
        let entries: Vec<MbrEntry> = volumes
            .iter()
            .zip(&firsts)
            .map(|(path, first)| MbrEntry {
                active: false,
                kind: 0x07,
                first: u32::try_from(first / 512).unwrap(),
                sectors: u32::try_from(fs::metadata(path).unwrap().len() / 512).unwrap(),
            })
            .collect();
        disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
    });
    let file = fs::File::options().write(true).open(&image).unwrap();
    for (path, first) in volumes.iter().zip(&firsts) {
        file.write_all_at(&fs::read(path).unwrap(), *first).unwrap();
    }
    image
}

/// Puts the header and the catalog of one shadow copy onto an empty volume, where it has nothing.
fn with_shadow_copy(volume: &Path) {
    let mark = b"\x6B\x87\x08\x38\x76\xC1\x48\x4E\xB7\xAE\x04\x04\x6E\x6C\xC7\x52";
    let file = fs::File::options().write(true).open(volume).unwrap();
    let catalog = file.metadata().unwrap().len() / 4 * 3;
    let mut header = [0; 128];
    header[..16].copy_from_slice(mark);
    header[16..24].copy_from_slice(&[1, 0, 0, 0, 1, 0, 0, 0]);
    header[0x30..0x38].copy_from_slice(&catalog.to_le_bytes());
    file.write_all_at(&header, 0x1E00).unwrap();
    let mut block = vec![0; 16 << 10];
    block[..16].copy_from_slice(mark);
    block[16..24].copy_from_slice(&[1, 0, 0, 0, 2, 0, 0, 0]);
    block[128] = 2;
    file.write_all_at(&block, catalog).unwrap();
}

#[test]
#[ignore = "needs root and outside programs"]
fn the_restore_points_of_a_real_windows_go_only_when_that_is_said() {
    let lab = Lab::new();
    // At one place all the while: the driver shows links with the path that it is mounted at.
    let volume = lab.path("volume.img");
    fs::copy(real_data("dfvfs/vss.raw"), &volume).unwrap();
    let listed = tool("vshadowinfo", &[volume.to_str().unwrap()]).stdout;
    assert!(listed.contains("Number of stores:\t2"), "{listed}");
    // The volume has room after it: nothing is shrunk.
    let roomy = data_disk(&lab, std::slice::from_ref(&volume), 1);
    let shown = lab.run(&["check", roomy.to_str().unwrap(), "--data-disk", "--all"]);
    assert!(
        shown
            .stdout
            .contains("2 restore points (shadow copies): kept"),
        "{}",
        shown.stdout
    );
    // It reaches to the disk's end, where the backup table must lie.
    let image = data_disk(&lab, std::slice::from_ref(&volume), 0);
    let end = MIB + fs::metadata(&volume).unwrap().len();
    fs::File::options()
        .write(true)
        .open(&image)
        .unwrap()
        .set_len(end)
        .unwrap();
    let before = hash(&image);
    let shown = lab
        .run(&["check", image.to_str().unwrap(), "--data-disk"])
        .stdout;
    for expected in [
        "volume.shadow-copies",
        "2 restore points (shadow copies): lost, since the volume",
    ] {
        assert!(shown.contains(expected), "{shown}");
    }
    let refused = lab.convert(&image, "job", &["--data-disk"]);
    refused.refuses(2, "--lose-restore-points");
    assert_eq!(hash(&image), before, "changed without a word");
    assert!(!lab.path("job").exists());

    let files = snapshot(&volume);
    let done = lab.convert(&image, "job", &["--data-disk", "--lose-restore-points"]);
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    extract(&image, (MIB, end - MIB), &volume);
    assert!(files == snapshot(&volume), "a file has changed");
    let undone = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
    assert_eq!(undone.code, 0, "{}", undone.stderr);
    extract(&image, (MIB, end - MIB), &volume);
    assert!(files == snapshot(&volume), "a file has changed");
}

#[test]
#[ignore = "needs outside programs"]
fn room_is_taken_from_a_volume_without_restore_points() {
    let lab = Lab::new();
    let volumes = ["first", "second"].map(|name| {
        let path = lab.path(name);
        format(&path, 400 * MIB, 512, 4096);
        path
    });
    let request = ["--data-disk", "--place", "shrink", "--json"];
    for (shadowed, expected) in [(None, 1), (Some(0), 2), (Some(1), 1)] {
        let lab = Lab::new();
        let copies = [0, 1].map(|index: usize| {
            let copy = lab.path(&format!("volume-{index}"));
            fs::copy(&volumes[index], &copy).unwrap();
            if shadowed == Some(index) {
                with_shadow_copy(&copy);
            }
            copy
        });
        let image = data_disk(&lab, &copies, 1);
        let plan = lab.run(&[&["plan", image.to_str().unwrap()][..], &request].concat());
        let text = plan.stdout.clone();
        assert_eq!(plan.code, 0, "{shadowed:?}: {text}");
        let before = &plan.json()["before"];
        let after = &plan.json()["after"];
        // The one of the two that ends earlier afterwards.
        let ends = |table: &serde_json::Value| -> Vec<u64> {
            let parts = table.as_array().unwrap().iter();
            let of_volumes =
                parts.filter(|part| part["first_lba"].as_u64().unwrap() % 819_200 == 2048);
            of_volumes
                .map(|part| part["last_lba"].as_u64().unwrap())
                .collect()
        };
        let (old, new) = (ends(before), ends(after));
        let shrunk = old.iter().zip(&new).position(|(old, new)| new < old);
        assert_eq!(shrunk, Some(expected - 1), "{shadowed:?}: {text}");
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn what_shadow_copies_remember_is_not_moved() {
    let lab = Lab::new();
    let volume = lab.path("volume.img");
    format(&volume, 64 * MIB, 512, 4096);
    let mount = Mount::new(&volume, true);
    let mut dice = Dice::new(3);
    fs::write(mount.path("ballast"), dice.bytes(40 << 20)).unwrap();
    let folder = "System Volume Information";
    fs::create_dir(mount.path(folder)).unwrap();
    let store = "{d4fe0bd5-0000-4000-8000-1c872c5a6d8f}{3808876B-C176-4e48-B7AE-04046E6CC752}";
    fs::write(
        mount.path(&format!("{folder}/{store}")),
        dice.bytes(4 << 20),
    )
    .unwrap();
    fs::remove_file(mount.path("ballast")).unwrap();
    drop(mount);
    let device = DiskFile::open_read(&volume, Some(512)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    let shrink = |mib: u64| opened.plan_shrink(mib * MIB / 512);
    assert!(matches!(shrink(20), Err(ShrinkError::ShadowCopies)));
    assert!(shrink(63).is_ok(), "it does not lie in the last MiB");
}
