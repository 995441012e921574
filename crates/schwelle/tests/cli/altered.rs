//! Signed programs that are not what was signed.

use std::fs;
use std::path::Path;

use schwelle_core::pe::PeImage;
use schwelle_demo::BOOT_MANAGER;
use schwelle_testkit::{copy_image, hash, tool};

use crate::signing::{sign, test_key};
use crate::support::{Lab, place};
use crate::volumes::edit_volume;

/// Where the boot manager lies: its source on the Windows volume, and its place on the EFI system partition.
const SOURCE: &str = "Windows/Boot/EFI/bootmgfw.efi";
const REMOVABLE: &str = "::/EFI/BOOT/BOOTX64.EFI";

#[test]
#[ignore = "needs root and outside programs"]
fn a_signed_loader_that_is_not_what_was_signed_does_not_start_and_is_mended() {
    let lab = Lab::new();
    let signed = sign(&lab, &test_key(&lab), BOOT_MANAGER);
    let whole = PeImage::read(&signed[..]).unwrap();
    assert!(!whole.is_altered && PeImage::read(BOOT_MANAGER).unwrap() == whole);
    // Half of it is zeros; a sector is another file's; a single bit.
    let changed = |at: std::ops::Range<usize>, change: fn(&mut u8)| {
        let mut program = signed.clone();
        program[at].iter_mut().for_each(change);
        assert!(program != signed);
        program
    };
    let half = signed.len() / 2;
    let damaged = [
        changed(1024..half, |byte| *byte = 0),
        changed(4096..4608, |byte| *byte ^= 0xA5),
        changed(half..half + 1, |byte| *byte ^= 1),
    ];
    let (image, _) = lab.standard("disk.img", 512);
    let put = |image: &Path, program: &[u8]| {
        edit_volume(image, (51 << 20, 160 << 20), |mount| {
            fs::write(mount.path(SOURCE), program).unwrap();
        });
    };
    put(&image, &signed);
    let pristine = lab.path("pristine.img");
    copy_image(&image, &pristine);
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    let record: serde_json::Value =
        serde_json::from_slice(&fs::read(lab.path("job/job.json")).unwrap()).unwrap();
    let esp = format!("{}@@{}", image.display(), place(&record, "EFI system").0);
    for (number, program) in damaged.iter().enumerate() {
        let file = lab.path("loader.efi");
        fs::write(&file, program).unwrap();
        tool(
            "mcopy",
            &["-o", "-i", &esp, file.to_str().unwrap(), REMOVABLE],
        );
        let run = lab.run(&["rehearse", "disk.img", "--json"]);
        assert_eq!(run.code, 1, "{number}: {}", run.stdout);
        let json = run.json();
        let steps = json["steps"].as_array().unwrap();
        let fault = steps.iter().find(|step| step["outcome"] != "pass").unwrap();
        // The one that a boot entry names is as it was.
        assert_eq!(
            (&fault["step"], &fault["outcome"]),
            (&"loader-image".into(), &"caution".into()),
            "{fault}"
        );
        assert_eq!(fault["evidence"]["kind"], "only-by-entry", "{fault}");
        assert_eq!(fault["evidence"]["why"]["kind"], "altered", "{fault}");
        let job = format!("mended-{number}");
        let mended = lab.run(&["mend", "disk.img", "--job", &job, "--yes", "--quiet"]);
        assert_eq!(
            mended.code, 0,
            "{number}: {}{}",
            mended.stdout, mended.stderr
        );
        tool(
            "mcopy",
            &["-n", "-o", "-i", &esp, REMOVABLE, file.to_str().unwrap()],
        );
        assert!(fs::read(&file).unwrap() == signed, "{number}");
    }
    // A boot manager that is damaged where it would be copied from is found before anything is written.
    put(&pristine, &damaged[0]);
    let before = hash(&pristine);
    let check = lab.run(&["check", "pristine.img"]);
    assert_eq!(check.code, 1, "{}", check.stdout);
    let flat = check
        .stdout
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ");
    assert!(flat.contains("does not match its signature"), "{flat}");
    assert_eq!(lab.convert(&pristine, "never", &["--quiet"]).code, 1);
    assert_eq!(hash(&pristine), before);
}
