//! What is not mended: refused with the reason, and left alone.

use std::fs::File;

use schwelle_core::host::HostFacts;
use schwelle_core::profile::Profile;

use super::{Bench, MIB};
use crate::support::{peek, poke};
use schwelle_testkit::hash;

#[test]
#[ignore = "needs outside programs"]
fn what_cannot_be_mended_is_refused_with_the_reason_and_left_alone() {
    // What is wrong, how it comes about, what is reported.
    type Refused = (&'static str, fn(&Bench), &'static str);
    let cases: [Refused; 7] = [
        (
            "both copies damaged",
            |bench| {
                poke(&bench.image, bench.byte(1) + 60, &[0xFF; 4]);
                poke(&bench.image, bench.byte(bench.last_lba()) + 60, &[0xFF; 4]);
            },
            "neither copy of the table is sound",
        ),
        (
            "a partition that only sector 0 names",
            |bench| {
                let last = u32::try_from(bench.last_lba()).unwrap();
                poke(&bench.image, 446 + 16 + 4, &[7]);
                let place = [(last - 20).to_le_bytes(), 10_u32.to_le_bytes()].concat();
                poke(&bench.image, 446 + 16 + 8, &place);
            },
            "lie in no partition of the GPT",
        ),
        (
            "a kernel that is missing",
            |bench| {
                let device = bench.device();
                let profile = Profile::read(&device, HostFacts::default()).unwrap();
                let extent = profile.partitions[1].extent;
                let path = "\\Windows\\System32\\ntoskrnl.exe";
                schwelle_demo::edit_file(&device, extent, path, |kernel| kernel[..2].fill(0))
                    .unwrap();
            },
            "the system's own files are damaged",
        ),
        (
            "another file system on the EFI partition",
            |bench| {
                let ntfs = peek(&bench.image, MIB, 512);
                for sector in [0, 6] {
                    poke(&bench.image, bench.esp().0 + sector * 512, &ntfs);
                }
            },
            "which would be lost",
        ),
        (
            "boot files missing, and the volume they come from hibernated",
            |bench| {
                bench.on_esp("mdeltree", &["::EFI"]);
                let device = bench.device();
                let profile = Profile::read(&device, HostFacts::default()).unwrap();
                let extent = profile.partitions[1].extent;
                schwelle_demo::edit_file(&device, extent, "\\hiberfil.sys", |content| {
                    content[..4].copy_from_slice(b"HIBR");
                })
                .unwrap();
            },
            "volume.hibernation",
        ),
        (
            "a full EFI partition",
            |bench| {
                bench.on_esp("mdeltree", &["::EFI"]);
                // Ever smaller files, until nothing more fits.
                for kib in [120 << 10, 1 << 10, 100, 10, 1] {
                    let path = bench.lab.path("filler");
                    File::create(&path).unwrap().set_len(kib << 10).unwrap();
                    let esp = bench.esp_image();
                    for number in 0.. {
                        let name = format!("::{kib}-{number}");
                        let args = ["-i", &esp, path.to_str().unwrap(), &name];
                        if schwelle_testkit::tool_any("mcopy", &args).code != 0 {
                            break;
                        }
                    }
                }
            },
            "the volume is full",
        ),
        (
            "an MBR disk",
            |bench| {
                let run = bench.lab.run(&[
                    "undo",
                    "--job",
                    "disk.img.job",
                    "--folder-name",
                    "disk.img.job",
                    "--yes",
                ]);
                assert_eq!(run.code, 0, "{}", run.stderr);
            },
            "it is no GPT disk",
        ),
    ];
    for (name, break_it, expected) in cases {
        let bench = Bench::new(512);
        break_it(&bench);
        let whole = hash(&bench.image);
        for more in [&[][..], &["--job", "mend.job", "--yes"]] {
            let run = bench.lab.run(&[&["mend", "disk.img"][..], more].concat());
            let all = format!("{}{}", run.stdout, run.stderr);
            assert_eq!(run.code, 1, "{name}: {all}");
            assert!(all.contains(expected), "{name}: {all}");
            assert_eq!(hash(&bench.image), whole, "{name}");
        }
        assert!(!bench.lab.path("mend.job").exists(), "{name}");
    }
}
