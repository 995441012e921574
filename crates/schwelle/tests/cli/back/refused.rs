//! What does not go back: each disk with the rule that says so, in numbers; none is touched.

use std::fs::{self, File};

use schwelle_core::device::DiskFile;
use schwelle_core::device::{BlockDevice, ReadDevice};
use schwelle_core::gpt::{GptEntry, GptLayout, type_guid};
use schwelle_core::mbr::{BiosStart, protective_sector};
use uuid::Uuid;

use super::{Bench, DATA, FREE, MIB, PER_MIB, entry};
use crate::support::{Lab, poke};
use crate::volumes::edit_volume;
use schwelle_testkit::{copy_image, hash, tool};

/// The Windows volume of the standard disk.
const WINDOWS: (u64, u64) = (51 * MIB, 160 * MIB);

type Case = (&'static str, fn(&Bench), &'static str, &'static str);

const CASES: &[Case] = &[
    (
        "five without space before two neighbours",
        |bench| {
            bench.retable(|all| all.extend([entry(DATA, FREE + 1, 4), entry(DATA, FREE + 5, 4)]));
        },
        "back.fits",
        "5 partitions: at least 2 that lie side by side must become logical ones, with a free sector before \
         each; partition 2 begins right after partition 1, partition 3 is the active one, \
         partition 5 begins right after partition 4",
    ),
    (
        "five, and only the active one and its neighbour have space before them",
        |bench| {
            bench.retable(|all| {
                all[1].extent.end.0 -= 1;
                all.extend([entry(DATA, FREE + 1, 4), entry(DATA, FREE + 5, 4)]);
            });
        },
        "back.fits",
        "partition 2 begins right after partition 1, partition 3 is the active one, partition 5 begins",
    ),
    (
        "a type that is not known",
        |bench| bench.retable(|all| all.push(entry(Uuid::from_u128(0xF0), FREE, 1))),
        "back.types",
        "no MBR type is known for its type",
    ),
    (
        "a reserved partition in use",
        |bench| {
            bench.retable(|all| all.push(entry(type_guid::RESERVED, FREE, 16)));
            poke(&bench.image, (FREE + 3) * MIB + 700, b"PRIVHEAD");
        },
        "back.types",
        "LBA 643073: a reserved partition that holds something",
    ),
    (
        "two EFI system partitions",
        |bench| bench.retable(|all| all.push(entry(type_guid::EFI_SYSTEM, FREE, 8))),
        "back.active",
        "2 EFI system partitions, and it is not clear",
    ),
    (
        "no EFI system partition",
        |bench| bench.retable(|all| all[2].kind = DATA),
        "back.active",
        "there is no EFI system partition",
    ),
    (
        "no room on the EFI system partition",
        |bench| {
            let filler = bench.lab.path("filler");
            fs::write(&filler, vec![7; 90 << 20]).unwrap();
            tool(
                "mcopy",
                &["-i", &bench.esp(), filler.to_str().unwrap(), "::filler"],
            );
        },
        "back.active",
        "8.8 MiB are free on it, and 16.5 MiB are needed",
    ),
    (
        "a damaged backup table",
        |bench| poke(&bench.image, 340 * MIB - 512 + 20, &[7; 9]),
        "back.table",
        "backup copy: ",
    ),
    (
        "hybrid",
        |bench| {
            poke(
                &bench.image,
                462,
                &[0, 0, 2, 0, 7, 0, 0, 0, 0, 8, 0, 0, 0, 8, 0, 0],
            );
        },
        "back.table",
        "hybrid",
    ),
    (
        "an installed Windows that does not bring its BIOS boot manager",
        |bench| {
            edit_volume(&bench.image, WINDOWS, |volume| {
                fs::remove_file(volume.path("Windows/Boot/PCAT/bootmgr")).unwrap();
            });
        },
        "back.boot-files",
        "\\\\Windows\\\\Boot\\\\PCAT\\\\bootmgr is missing",
    ),
    (
        "a boot manager that does not fit into memory",
        |bench| {
            edit_volume(&bench.image, WINDOWS, |volume| {
                fs::write(volume.path("Windows/Boot/PCAT/bootmgr"), vec![9; 491_521]).unwrap();
            });
        },
        "back.boot-files",
        "has 491521 bytes; the boot record has room in memory for 491520",
    ),
    (
        "no BIOS loader",
        |bench| {
            edit_volume(&bench.image, WINDOWS, |volume| {
                fs::remove_file(volume.path("Windows/System32/winload.exe")).unwrap();
            });
        },
        "back.boot-files",
        "winload.exe is missing",
    ),
    (
        "hibernated",
        |bench| {
            edit_volume(&bench.image, WINDOWS, |volume| {
                let mut file = fs::read(volume.path("hiberfil.sys")).unwrap();
                file[..4].copy_from_slice(b"HIBR");
                fs::write(volume.path("hiberfil.sys"), file).unwrap();
            });
        },
        "volume.hibernation",
        "hiberfil.sys",
    ),
];

/// Checked and refused, untouched, with this rule and these words among those that block.
fn assert_refused(lab: &Lab, name: &str, more: &[&str], rule: &str, expected: &str) {
    let image = lab.path("disk.img");
    // Of large sparse disks, the beginning is enough.
    let is_small = fs::metadata(&image).unwrap().len() < 1 << 30;
    let before = is_small.then(|| hash(&image));
    let args = [&["check", "disk.img", "--to", "mbr", "--json"][..], more].concat();
    let run = lab.run(&args);
    assert_eq!(run.code, 1, "{name}: {}", run.stdout);
    let check = run.json();
    let blocks = check["findings"].as_array().unwrap().iter();
    let blocks: Vec<String> = blocks
        .filter(|finding| finding["outcome"] == "block" && finding["rule"] == rule)
        .map(ToString::to_string)
        .collect();
    assert!(
        blocks.iter().any(|block| block.contains(expected)),
        "{name}: {blocks:?}\n{check}"
    );
    let run = lab.convert(
        &image,
        "job",
        &[&["--to", "mbr", "--quiet"][..], more].concat(),
    );
    assert_eq!(run.code, 1, "{name}");
    assert!(!lab.path("job").exists(), "{name}");
    assert_eq!(is_small.then(|| hash(&image)), before, "{name}");
}

#[test]
#[ignore = "needs root and outside programs"]
fn what_does_not_fit_is_refused_in_numbers_and_untouched() {
    let bench = Bench::new(512);
    let original = bench.lab.path("original.img");
    copy_image(&bench.image, &original);
    for (name, change, rule, shown) in CASES {
        copy_image(&original, &bench.image);
        change(&bench);
        assert_refused(&bench.lab, name, &[], rule, shown);
    }
    copy_image(&original, &bench.image);
    let shown = "not a data disk, a PC may start from it";
    assert_refused(
        &bench.lab,
        "said to be a data disk",
        &["--data-disk"],
        "system.windows",
        shown,
    );
    let (lab, rule) = (&bench.lab, "back.table");
    lab.standard("disk.img", 512);
    assert_refused(lab, "an MBR disk", &[], rule, "the disk has an MBR already");
    let bench = Bench::new(4096);
    let shown = "its sectors have 4096 bytes, and a BIOS starts from sectors of 512 bytes only";
    assert_refused(
        &bench.lab,
        "native sectors of 4096 bytes",
        &[],
        "back.active",
        shown,
    );
}

#[test]
fn a_partition_beyond_the_reach_is_refused_and_space_there_is_told() {
    let lab = Lab::new();
    let image = lab.path("disk.img");
    let tib = 1_u64 << 40;
    File::create(&image).unwrap().set_len(3 * tib).unwrap();
    let write = |entries: Vec<GptEntry>| {
        let device = DiskFile::open_write(&image, Some(512)).unwrap();
        let sector_0 = protective_sector(device.geometry(), BiosStart::PassOn);
        device.write_at(0, &sector_0).unwrap();
        let disk_id = Uuid::from_u128(1);
        GptLayout { disk_id, entries }.write(&device).unwrap();
    };
    let reach = (1 << 32) / PER_MIB;
    let mut across = entry(DATA, reach - 1, 1);
    across.extent.end.0 += 1;
    write(vec![entry(DATA, 1, 10), across]);
    let shown = "ends at LBA 4294967296; an MBR reaches to LBA 4294967295";
    assert_refused(
        &lab,
        "one sector across the reach",
        &["--data-disk"],
        "back.fits",
        shown,
    );
    write(vec![entry(DATA, 1, 10), entry(DATA, reach - 1, 1)]);
    let args = ["check", "disk.img", "--to", "mbr", "--data-disk", "--json"];
    let check = lab.run(&args).json();
    assert_eq!(check["answer"], "caution", "{check}");
    let shown = "1048576 MiB lie where no MBR partition can begin";
    assert!(check.to_string().contains(shown), "{check}");
}

#[test]
fn options_about_a_new_partition_are_refused_on_the_way_back() {
    let lab = Lab::new();
    lab.standard("disk.img", 512);
    for option in [["--place", "gap"], ["--esp-size", "300M"]] {
        let run = lab.run(&[&["plan", "disk.img", "--to", "mbr"][..], &option].concat());
        run.refuses(2, "becomes the active partition");
    }
}
