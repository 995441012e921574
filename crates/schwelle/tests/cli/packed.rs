//! Boot files that are compressed on the Windows volume: by the file system, through its driver, and
//! as overlays, made by a free imaging library. What is damaged blocks the conversion.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::MIB;

use crate::support::{Lab, place};
use crate::volumes::{Mount, edit_volume};
use schwelle_testkit::Dice;
use schwelle_testkit::{extract, hash, tool};

const WINDOWS: (u64, u64) = (51 * MIB, 160 * MIB);
const FONTS: &str = "Windows/Boot/Fonts";

/// Name of the algorithm, unit, and its number in the reparse point.
const KINDS: [(&str, &str, u32); 4] = [
    ("xpress", "4096", 0),
    ("lzx", "32768", 1),
    ("xpress", "8192", 2),
    ("xpress", "16384", 3),
];

/// Something like a program: text, calls, stretches that do not compress, zeros.
fn program(len: usize) -> Vec<u8> {
    let mut dice = Dice::new(len as u64);
    let mut bytes = Vec::new();
    while bytes.len() < len {
        match dice.below(5) {
            0 => bytes.extend(b"lantern, bell and buoy; ".repeat(60)),
            1 => {
                for _ in 0..50 {
                    bytes.push(0xE8);
                    let target = u32::try_from(dice.below(9_000_000)).unwrap();
                    bytes.extend(target.to_le_bytes());
                    bytes.extend(dice.bytes(3));
                }
            }
            2 => bytes.extend(vec![0; 3000]),
            _ => bytes.extend(dice.bytes(2500)),
        }
    }
    bytes.truncate(len);
    bytes
}

/// The compressed form of a file, taken out of an image file that the library has made. A resource
/// there has the form of an overlay's stream.
fn packed(folder: &Path, content: &[u8], algorithm: &str, unit: &str) -> Vec<u8> {
    let source = folder.join("source");
    fs::create_dir_all(&source).unwrap();
    fs::write(source.join("file"), content).unwrap();
    let image = folder.join("image.wim");
    fs::remove_file(&image).ok();
    tool(
        "wimlib-imagex",
        &[
            "capture",
            source.to_str().unwrap(),
            image.to_str().unwrap(),
            &format!("--compress={algorithm}"),
            &format!("--chunk-size={unit}"),
        ],
    );
    let bytes = fs::read(&image).unwrap();
    let u64_at = |at: usize| u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap());
    // A place: seven bytes of length and one of flags, offset, length of the content.
    let place_at = |at: usize| {
        (
            u64_at(at) << 8 >> 8,
            u64_at(at) >> 56,
            u64_at(at + 8),
            u64_at(at + 16),
        )
    };
    let (len, _, table, _) = place_at(48);
    let mut found = None;
    for entry in (table..table + len).step_by(50) {
        let (len, flags, offset, content_len) = place_at(usize::try_from(entry).unwrap());
        if flags & 2 == 0 && content_len == content.len() as u64 {
            assert_eq!(flags & 4, 4, "compressed");
            let from = usize::try_from(offset).unwrap();
            found = Some(bytes[from..from + usize::try_from(len).unwrap()].to_vec());
        }
    }
    found.unwrap()
}

/// Puts a file with an overlay on a volume.
fn put_overlay(mount: &Mount, name: &str, len: usize, stream: &[u8], point: &[u32]) {
    let path = mount.path(name);
    let file = fs::File::create(&path).unwrap();
    file.set_len(len as u64).unwrap();
    drop(file);
    let named = PathBuf::from(format!("{}:WofCompressedData", path.display()));
    fs::write(named, stream).unwrap();
    let data: Vec<u8> = point.iter().flat_map(|word| word.to_le_bytes()).collect();
    let mut point = 0x8000_0017u32.to_le_bytes().to_vec();
    point.extend(u32::try_from(data.len()).unwrap().to_le_bytes());
    point.extend(data);
    let none = rustix::fs::XattrFlags::empty();
    rustix::fs::setxattr(&path, "system.ntfs_reparse_data", &point, none).unwrap();
}

#[test]
#[ignore = "needs root and outside programs"]
fn compressed_boot_files_of_every_kind_arrive_as_they_were() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let mut expected: Vec<(String, Vec<u8>)> = Vec::new();
    edit_volume(&image, WINDOWS, |mount| {
        for (algorithm, unit, number) in KINDS {
            // Lengths on and around the bounds of units.
            for len in [1, 4096, 32_768, 65_537, 150_001] {
                let content = program(len);
                let stream = match len {
                    1 => content.clone(),
                    _ => packed(&lab.path("wim"), &content, algorithm, unit),
                };
                let name = format!("{algorithm}-{unit}-{len}.ttf");
                put_overlay(
                    mount,
                    &format!("{FONTS}/{name}"),
                    len,
                    &stream,
                    &[1, 2, 1, number],
                );
                expected.push((name, content));
            }
        }
        // Compressed by the file system: the folder's flag makes new files in it so.
        let content = program(300_000);
        fs::write(mount.path(&format!("{FONTS}/lznt1.ttf")), &content).unwrap();
        expected.push(("lznt1.ttf".to_owned(), content));
        // The boot files signed in 2023.
        for (folder, name) in [
            ("EFI_EX", "bootmgfw_EX.efi"),
            ("Fonts_EX", "mono_boot_EX.ttf"),
        ] {
            fs::create_dir(mount.path(&format!("Windows/Boot/{folder}"))).unwrap();
            fs::write(mount.path(&format!("Windows/Boot/{folder}/{name}")), name).unwrap();
        }
    });
    let job = lab.path("job");
    let run = lab.convert(&image, &job, &["--quiet"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let record = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
    let (esp, copy) = (lab.path("esp.img"), lab.path("copy"));
    extract(&image, place(&record, "EFI system"), &esp);
    let boot = "::/EFI/Microsoft/Boot";
    tool(
        "mcopy",
        &[
            "-s",
            "-i",
            esp.to_str().unwrap(),
            boot,
            copy.to_str().unwrap(),
        ],
    );
    for (name, content) in &expected {
        assert!(
            fs::read(copy.join("Fonts").join(name)).unwrap() == *content,
            "{name}"
        );
    }
    // Of the two sets one is placed: the first, where nothing is known of the firmware's keys.
    assert!(fs::read(copy.join("bootmgfw.efi")).unwrap() == schwelle_demo::BOOT_MANAGER);
    assert!(
        !copy.join("bootmgfw_EX.efi").exists() && !copy.join("Fonts/mono_boot_EX.ttf").exists()
    );
    assert!(fs::read(copy.join("Fonts/mono_boot.ttf")).unwrap() != b"mono_boot_EX.ttf");
}

#[test]
#[ignore = "needs root and outside programs"]
fn what_cannot_be_unpacked_blocks_with_the_files_name() {
    let content = program(100_000);
    let lab = Lab::new();
    let good = packed(&lab.path("wim"), &content, "xpress", "4096");
    let wrong_table = [&[0xFF; 8][..], &good[8..]].concat();
    let mut wrong_unit = good.clone();
    let table = (content.len().div_ceil(4096) - 1) * 4;
    wrong_unit[table..table + 256].fill(0x11);
    let cut = good[..good.len() / 2].to_vec();
    // A megabyte that says it is a gigabyte.
    let bomb = vec![0; 1 << 20];
    /// Name, stream, length of the file, reparse point, what is reported.
    type Case<'a> = (&'a str, &'a [u8], usize, &'a [u32], &'a str);
    let cases: [Case<'_>; 7] = [
        (
            "table",
            &wrong_table,
            content.len(),
            &[1, 2, 1, 0],
            "names a place that cannot be",
        ),
        (
            "unit",
            &wrong_unit,
            content.len(),
            &[1, 2, 1, 0],
            "the code lengths make no code",
        ),
        (
            "cut off",
            &cut,
            content.len(),
            &[1, 2, 1, 0],
            "names a place that cannot be",
        ),
        (
            "bomb",
            &bomb,
            1 << 30,
            &[1, 2, 1, 1],
            "too long for a boot file",
        ),
        (
            "algorithm",
            &good,
            content.len(),
            &[1, 2, 1, 9],
            "overlay-compressed in an unknown way",
        ),
        (
            "in an image",
            &good,
            content.len(),
            &[1, 1, 1, 0],
            "lies in an image file elsewhere",
        ),
        (
            "version",
            &good,
            content.len(),
            &[2, 2, 1, 0],
            "overlay-compressed in an unknown way",
        ),
    ];
    for (name, stream, len, point, expected) in cases {
        let lab = Lab::new();
        let (image, _) = lab.standard("disk.img", 512);
        edit_volume(&image, WINDOWS, |mount| {
            put_overlay(mount, &format!("{FONTS}/night.ttf"), len, stream, point);
        });
        let before = hash(&image);
        let check = lab.run(&["check", image.to_str().unwrap(), "--json"]);
        let json = check.json();
        assert_eq!(json["answer"], "blocked", "{name}");
        let findings = json["findings"].as_array().unwrap();
        let found = findings
            .iter()
            .find(|f| f["rule"] == "system.boot-files")
            .unwrap();
        let evidence = found["evidence"]["text"].as_str().unwrap();
        assert!(
            evidence.contains("night.ttf") && evidence.contains(expected),
            "{name}: {evidence}"
        );
        assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 1, "{name}");
        assert_eq!(hash(&image), before, "{name}");
    }
}
