//! Disks, volumes and encrypted volumes that real Windows systems wrote: accepted when sound, converted, taken back, and
//! refused for true reasons.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use crate::restore_points::data_disk;
use crate::support::{Lab, peek};
use crate::volumes::{is_consistent, real_data, snapshot};
use schwelle_core::device::MIB;
use schwelle_testkit::{extract, hash, tool, tool_any};

/// The sectors of a virtual machine's disk.
fn plain(lab: &Lab, file: &Path) -> PathBuf {
    let image = lab.path("plain.img");
    let args = ["convert", "-O", "raw"].map(Path::new);
    let args: Vec<&str> = args
        .iter()
        .copied()
        .chain([file, &image])
        .map(|path| path.to_str().unwrap())
        .collect();
    tool("qemu-img", &args);
    image
}

/// Every file of a FAT volume with its content's hash, by the FAT tools.
fn fat_files(lab: &Lab, image: &Path, at: u64) -> BTreeMap<PathBuf, blake3::Hash> {
    let to = lab.path("fat-files");
    fs::remove_dir_all(&to).ok();
    fs::create_dir(&to).unwrap();
    let volume = format!("{}@@{at}", image.display());
    tool(
        "mcopy",
        &["-s", "-n", "-i", &volume, "::", to.to_str().unwrap()],
    );
    let mut files = BTreeMap::new();
    let mut folders = vec![to];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.is_dir() {
                true => folders.push(path),
                false => drop(files.insert(path.clone(), hash(&path))),
            }
        }
    }
    files
}

#[test]
#[ignore = "needs root and outside programs"]
fn disks_that_windows_made_are_converted_and_come_back_to_the_byte() {
    for (name, is_ntfs) in [
        ("ntfs-fixed.vhd", true),
        ("ntfs-dynamic.vhd", true),
        ("ntfs-dynamic.vhdx", true),
        ("ntfs-parent.vhd", true),
        ("ntfs-parent.vhdx", true),
        ("fat-parent.vhd", false),
        ("fat-parent.vhdx", false),
    ] {
        let lab = Lab::new();
        let image = plain(&lab, &real_data("dfvfs").join(name));
        let number =
            |at: u64| u64::from(u32::from_le_bytes(peek(&image, at, 4).try_into().unwrap()));
        let (first, len) = (number(446 + 8) * 512, number(446 + 12) * 512);
        let volume = lab.path("volume.img");
        let look = || {
            extract(&image, (first, len), &volume);
            match is_ntfs {
                true => (Some(snapshot(&volume)), None),
                false => (None, Some(fat_files(&lab, &image, first))),
            }
        };
        let (whole, before) = (hash(&image), look());
        let check = lab.run(&["check", image.to_str().unwrap(), "--data-disk", "--json"]);
        assert_eq!(check.code, 0, "{name}: {}", check.stdout);
        let run = lab.convert(&image, "job", &["--data-disk", "--quiet"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let listed = tool("mmls", &[image.to_str().unwrap()]).stdout;
        let place = format!("{:010}", first / 512);
        assert!(
            listed.contains("GUID Partition Table") && listed.contains(&place),
            "{listed}"
        );
        assert!(look() == before, "{name}: a file has changed");
        let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
        assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
        assert_eq!(hash(&image), whole, "{name}");
    }
}

/// A data disk that ends where the volume on it ends.
fn to_the_end(lab: &Lab, volume: &Path) -> PathBuf {
    let image = data_disk(lab, &[volume.to_owned()], 0);
    let file = fs::File::options().write(true).open(&image).unwrap();
    file.set_len(MIB + fs::metadata(volume).unwrap().len())
        .unwrap();
    image
}

#[test]
#[ignore = "needs root and outside programs"]
fn a_volume_that_windows_wrote_makes_room_for_the_backup_table() {
    for name in ["dissect.ntfs/ntfs.bin", "dfvfs/windows_volume.qcow2"] {
        let lab = Lab::new();
        // At one place all the while: the driver shows links with the path that it is mounted at.
        let volume = lab.path("volume.img");
        fs::copy(plain(&lab, &real_data(name)), &volume).unwrap();
        let len = fs::metadata(&volume).unwrap().len();
        let image = to_the_end(&lab, &volume);
        let files = snapshot(&volume);
        assert!(files.len() > 3, "{name}: {files:?}");
        let run = lab.convert(&image, "job", &["--data-disk", "--json"]);
        assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
        let look = || {
            extract(&image, (MIB, len), &volume);
            snapshot(&volume)
        };
        assert!(look() == files, "{name}: a file has changed");
        // The utilities want no more than the file system: its sectors, and the copy of its boot sector.
        let sectors = peek(&image, MIB + 40, 8).try_into().map(u64::from_le_bytes);
        extract(&image, (MIB, (sectors.unwrap() + 1) * 512), &volume);
        is_consistent(&volume).unwrap();
        let undo = lab.run(&["undo", "--job", "job", "--folder-name", "job", "--yes"]);
        assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
        assert!(look() == files, "{name}: a file has changed");
    }
}

#[test]
#[ignore = "needs fetched disk images"]
fn a_volume_taken_from_a_running_windows_is_refused_for_that() {
    let lab = Lab::new();
    let image = data_disk(&lab, &[real_data("dissect.ntfs/ntfs-cloud.bin")], 1);
    let check = lab.run(&["check", image.to_str().unwrap(), "--data-disk", "--json"]);
    assert_eq!(check.code, 1, "{}", check.stdout);
    let json = check.json();
    let findings = json["findings"].as_array().unwrap();
    let found = findings
        .iter()
        .find(|found| found["rule"] == "volume.clean");
    let evidence = &found.unwrap()["evidence"];
    assert_eq!(evidence["kind"], "log-mounted", "{evidence}");
}

#[test]
#[ignore = "needs outside programs"]
fn encrypted_volumes_of_windows_are_known_by_their_state() {
    let mut cases: Vec<(PathBuf, &str)> = [
        ("aes-xts_128", "encrypted"),
        ("aes_256_diffuser", "encrypted"),
        ("decrypted", "decrypted"),
        ("eow_partial", "encrypting"),
        ("recovery_key", "encrypted"),
        ("suspended", "suspended"),
        ("vista", "not-reported"),
        ("win7_partial", "decrypting"),
    ]
    .map(|(name, state)| (real_data(&format!("dissect.fve/{name}.bin")), state))
    .into();
    cases.push((real_data("dfvfs/bdetogo.raw"), "encrypted"));
    let folder = real_data("cryptsetup/bitlk-images");
    let images = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path());
    for image in images.filter(|path| path.extension().is_some_and(|end| end == "img")) {
        // What the disk encryption tool reads: a key in the clear means that protection is suspended.
        let dump = tool_any("cryptsetup", &["bitlkDump", image.to_str().unwrap()]);
        assert_eq!(dump.code, 0, "{}", dump.stderr);
        // Encrypted as it is written, as its header has it: a conversion under way, with or without a clear key.
        let on_write = peek(&image, 160, 4) == [0x3B, 0x4D, 0xA8, 0x92];
        let state = match dump.stdout.contains("VMK protected with clear key") {
            _ if on_write => "encrypting",
            true => "suspended",
            false => "encrypted",
        };
        cases.push((image, state));
    }
    assert_eq!(cases.len(), 9 + 16);
    let lab = Lab::new();
    for (image, state) in cases {
        let json = lab
            .run(&["check", image.to_str().unwrap(), "--json"])
            .json();
        let findings = json["findings"].as_array().unwrap();
        let mut found = findings
            .iter()
            .filter(|found| found["rule"] == "volume.encryption");
        let found = found.next().unwrap();
        assert_eq!(found["outcome"], "block", "{}", image.display());
        assert_eq!(found["evidence"]["state"], state, "{}", image.display());
    }
}
