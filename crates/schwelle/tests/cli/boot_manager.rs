//! Several systems of different age: the newest one's boot manager is placed, and an older one is reported.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::MIB;
use schwelle_core::pe::{FileVersion, PeImage};

use crate::menu::{
    BOOT, SECOND, SECOND_AT, WINDOWS, loader, object, of_manager, texts, two_systems,
};
use crate::support::{Lab, SIGNATURE, place};
use crate::volumes::edit_volume;
use schwelle_testkit::{merge, tool};

const OLDER: [u32; 4] = [10, 0, 10240, 16384];
const NEWER: [u32; 4] = [10, 0, 19041, 3636];
const MANAGER_FILE: &str = "Windows/Boot/EFI/bootmgfw.efi";
const LOADER_FILE: &str = "Windows/System32/winload.efi";

/// A program with this version resource, made by a free toolchain.
fn program(lab: &Lab, subsystem: u16, version: [u32; 4]) -> PathBuf {
    let [a, b, c, d] = version;
    let name = format!("{subsystem}-{c}");
    let path = |ending: &str| {
        lab.path(&format!("{name}.{ending}"))
            .to_str()
            .unwrap()
            .to_owned()
    };
    fs::write(path("s"), ".globl start\nstart: ret\n").unwrap();
    let resource =
        format!("1 VERSIONINFO\nFILEVERSION {a},{b},{c},{d}\nPRODUCTVERSION 1,2,3,4\nBEGIN\nEND\n");
    fs::write(path("rc"), resource).unwrap();
    tool("x86_64-w64-mingw32-as", &["-o", &path("o"), &path("s")]);
    let source = [
        "--preprocessor=cat",
        "-O",
        "coff",
        &path("rc"),
        &path("res"),
    ];
    tool("x86_64-w64-mingw32-windres", &source);
    let subsystem = subsystem.to_string();
    let link = [
        "--no-insert-timestamp",
        "--subsystem",
        &subsystem,
        "-e",
        "start",
        "-o",
        &path("efi"),
        &path("o"),
        &path("res"),
    ];
    tool("x86_64-w64-mingw32-ld", &link);
    PathBuf::from(path("efi"))
}

/// The disk with two systems, both in the menu, of these ages.
fn disk(lab: &Lab, first: [u32; 4], second: [u32; 4]) -> PathBuf {
    let image = two_systems(lab);
    for (at, version) in [(51 * MIB, first), (SECOND_AT, second)] {
        let (manager, system_loader) = (program(lab, 10, version), program(lab, 16, version));
        edit_volume(&image, (at, 160 * MIB), |mount| {
            fs::copy(&manager, mount.path(MANAGER_FILE)).unwrap();
            fs::copy(&system_loader, mount.path(LOADER_FILE)).unwrap();
        });
    }
    edit_volume(&image, BOOT, |mount| {
        let store = lab.path("edited");
        fs::copy(mount.path("Boot/BCD"), &store).unwrap();
        let text = object(
            SECOND,
            0x1020_0003,
            &loader("Engine room", SIGNATURE, SECOND_AT),
        ) + &of_manager(&[(0x2400_0001, texts(&[WINDOWS, SECOND]))]);
        merge(&store, "BCD", &text);
        fs::copy(&store, mount.path("Boot/BCD")).unwrap();
    });
    image
}

/// Where the EFI system partition begins in the image, as a place for the FAT utilities.
fn esp_of(job: &Path, image: &Path) -> String {
    let record = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
    let (at, _) = place(&record, "EFI system");
    format!("{}@@{at}", image.display())
}

#[test]
#[ignore = "needs outside programs"]
fn the_version_of_a_program_is_read() {
    let lab = Lab::new();
    for version in [OLDER, NEWER, [65535, 1, 0, 7]] {
        let bytes = fs::read(program(&lab, 10, version)).unwrap();
        let image = PeImage::read(&bytes[..]).unwrap();
        assert_eq!(image.version, Some(FileVersion(version)));
        // Damaged anywhere, it is read as another or none.
        for at in 0..bytes.len() {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0xFF;
            let _version = PeImage::read(&damaged[..]).map(|image| image.version);
        }
    }
}

#[test]
#[ignore = "needs root and outside programs"]
fn the_newest_boot_manager_is_placed_and_an_older_one_is_told() {
    for (first, second) in [(OLDER, NEWER), (NEWER, OLDER)] {
        let lab = Lab::new();
        let image = disk(&lab, first, second);
        let run = lab.convert(&image, "job", &["--quiet"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let esp = esp_of(&lab.path("job"), &image);
        let placed = lab.path("placed.efi");
        for file in ["EFI/BOOT/BOOTX64.EFI", "EFI/Microsoft/Boot/bootmgfw.efi"] {
            tool(
                "mcopy",
                &[
                    "-n",
                    "-o",
                    "-i",
                    &esp,
                    &format!("::{file}"),
                    placed.to_str().unwrap(),
                ],
            );
            let newest = fs::read(program(&lab, 10, NEWER)).unwrap();
            assert!(fs::read(&placed).unwrap() == newest, "{first:?}: {file}");
        }
        let rehearsal = lab.run(&["rehearse", image.to_str().unwrap()]);
        assert!(
            !rehearsal.stdout.contains("newer than"),
            "{}",
            rehearsal.stdout
        );

        // As a tool leaves it that takes the first Windows it finds.
        let old = program(&lab, 10, OLDER);
        let to = "::EFI/BOOT/BOOTX64.EFI";
        tool("mcopy", &["-o", "-i", &esp, old.to_str().unwrap(), to]);
        let rehearsal = lab.run(&["rehearse", image.to_str().unwrap(), "--json"]);
        let json = rehearsal.json();
        let mut steps = json["steps"].as_array().unwrap().iter();
        let menu = steps.find(|step| step["step"] == "menu").unwrap();
        assert_eq!(menu["outcome"], "caution", "{menu}");
        let shown = menu["evidence"]["text"].as_str().unwrap();
        assert!(
            shown.contains("is 10.0.19041.3636, newer than the boot manager (10.0.10240.16384)"),
            "{shown}"
        );
    }
}
