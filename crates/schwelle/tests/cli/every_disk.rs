//! The disks that come to the bench: each with its expected answer, and where it converts, the same
//! proofs. A partition lister that others wrote reads the table; file system checkers pass the
//! volumes; what is not edited is the same byte for byte, what is has the same files; undo gives the
//! old disk back.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_demo::{Asset, DiskBuilder, MbrEntry};
use serde_json::Value;

use crate::foreign::{extract, tool};
use crate::layouts::{Found, listed_at};
use crate::support::{COMPUTER, Lab, SIGNATURE, hash, lba, peek, poke};
use crate::volumes::{Mount, Seen, format, is_consistent, snapshot};

const MIB: u64 = 1 << 20;

/// What lies in a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Inside {
    /// The demo's volumes.
    Boot,
    Windows,
    /// Volumes made by the file systems' own utilities, with files on them.
    Ntfs,
    Fat32,
    Ext,
    /// A mark in the first and the last sector.
    Marked,
    /// As the demo's Windows volume, with a header that says it is encrypted.
    Encrypted,
    /// A boot volume of any size, without a recovery image; with one; with a customer's file.
    OnlyBoot,
    BootAndRecovery,
    BootAndLetters,
    /// An EFI system partition that was used before: FAT32 with another system's loader, FAT16.
    OldEsp,
    OldEsp16,
}

/// A partition: type, first MiB, MiB, content. The first one with [`Inside::Boot`] is active.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Part(
    pub(crate) u8,
    pub(crate) u64,
    pub(crate) u64,
    pub(crate) Inside,
);

/// What is expected of a disk.
pub(crate) enum Answer {
    /// Blocked by this rule, which says this.
    Blocked(&'static str, &'static str),
    /// Converts, with cautions from these rules.
    Converts(&'static [&'static str]),
}

/// A disk of the table.
pub(crate) struct Case {
    pub(crate) name: &'static str,
    pub(crate) sector: u32,
    pub(crate) mib: u64,
    /// Primary partitions, and the logical ones in a container around them.
    pub(crate) parts: &'static [Part],
    pub(crate) logical: &'static [Part],
    /// What else happened to it.
    pub(crate) tweak: fn(&Path),
    pub(crate) args: &'static [&'static str],
    pub(crate) answer: Answer,
}

impl Case {
    const fn new(name: &'static str, mib: u64, parts: &'static [Part], answer: Answer) -> Self {
        Self {
            name,
            sector: 512,
            mib,
            parts,
            logical: &[],
            tweak: |_| (),
            args: &[],
            answer,
        }
    }
}

impl Inside {
    /// BIOS starts from it.
    fn is_boot(self) -> bool {
        use Inside::{Boot, BootAndLetters, BootAndRecovery, OnlyBoot};
        matches!(self, Boot | BootAndLetters | BootAndRecovery | OnlyBoot)
    }
}

const DATA: &[&str] = &["--data-disk"];
const LETTERS: Answer = Answer::Converts(&["system.letters"]);

use Answer::{Blocked, Converts};
use Inside::{
    Boot, BootAndLetters, BootAndRecovery, Encrypted, Ext, Fat32, Marked, Ntfs, OldEsp, OldEsp16,
    OnlyBoot, Windows,
};

const TAKEOVER: &[&str] = &["--place", "takeover"];
/// No room but the boot partition's.
const FULL: &[Part] = &[
    Part(0x83, 1, 50, Marked),
    Part(0x07, 51, 160, Windows),
    Part(0x07, 211, 110, OnlyBoot),
];
const ESP_THERE: &[Part] = &[
    Part(0x07, 1, 50, Boot),
    Part(0x07, 51, 160, Windows),
    Part(0xEF, 212, 110, OldEsp),
];

const DISKS: &[Case] = &[
    Case {
        args: DATA,
        ..Case::new("blank", 64, &[], Converts(&[]))
    },
    Case {
        args: DATA,
        sector: 4096,
        ..Case::new("blank, sectors of 4096 bytes", 64, &[], Converts(&[]))
    },
    Case::new(
        "blank, and nobody says that it is to hold data",
        64,
        &[],
        Blocked("table.mbr", "schwelle check DISK --data-disk"),
    ),
    Case {
        args: DATA,
        tweak: |image| poke(image, 2048 * 512 + 3, b"NTFS    "),
        ..Case::new(
            "a table wiped, a volume behind it",
            64,
            &[],
            Blocked("table.mbr", "LBA 2048: a volume begins there (NTFS)"),
        )
    },
    Case {
        args: DATA,
        tweak: |image| poke(image, 63 * 512, b"something"),
        ..Case::new(
            "a table wiped, something behind it",
            64,
            &[],
            Converts(&["table.mbr"]),
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "one volume of each kind",
            160,
            &[
                Part(0x07, 1, 24, Ntfs),
                Part(0x0C, 30, 48, Fat32),
                Part(0x83, 80, 16, Ext),
            ],
            LETTERS,
        )
    },
    Case {
        args: DATA,
        logical: &[
            Part(0x07, 61, 24, Ntfs),
            Part(0x0B, 86, 48, Fat32),
            Part(0x83, 135, 8, Ext),
            Part(0xA5, 144, 2, Marked),
        ],
        ..Case::new(
            "logical volumes",
            160,
            &[Part(0x83, 1, 16, Ext)],
            Blocked("table.types", "type A5h"),
        )
    },
    Case {
        args: DATA,
        logical: &[
            Part(0x07, 61, 24, Ntfs),
            Part(0x0B, 86, 48, Fat32),
            Part(0x83, 135, 8, Ext),
            Part(0x82, 144, 2, Marked),
        ],
        ..Case::new(
            "logical volumes of known types",
            160,
            &[Part(0x83, 1, 16, Ext)],
            LETTERS,
        )
    },
    Case {
        args: DATA,
        sector: 4096,
        ..Case::new(
            "sectors of 4096 bytes",
            400,
            &[Part(0x07, 1, 24, Ntfs), Part(0x0C, 30, 300, Fat32)],
            LETTERS,
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "NTFS to the last sector",
            64,
            &[Part(0x07, 1, 63, Ntfs)],
            LETTERS,
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "FAT32 to the last sector",
            64,
            &[Part(0x0C, 1, 63, Fat32)],
            Blocked("room.backup-table", "only sound NTFS volumes are trimmed"),
        )
    },
    Case {
        args: &["--data-disk", "--esp-size", "100M"],
        ..Case::new(
            "data, and an EFI system partition asked for",
            200,
            &[Part(0x07, 1, 24, Ntfs)],
            LETTERS,
        )
    },
    Case {
        args: &["--data-disk", "--place", "trim", "--esp-size", "100M"],
        ..Case::new(
            "data, and an EFI system partition from the tail of a volume",
            180,
            &[Part(0x07, 1, 179, Ntfs)],
            LETTERS,
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "an encrypted data volume",
            220,
            &[Part(0x07, 1, 160, Encrypted)],
            Converts(&["volume.encryption", "system.letters"]),
        )
    },
    Case::new(
        "data, and nobody says so",
        64,
        &[Part(0x07, 1, 24, Ntfs)],
        Blocked("system.windows", "no system found"),
    ),
    Case {
        args: DATA,
        ..Case::new(
            "a system, taken for data",
            340,
            &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 160, Windows)],
            Blocked("system.windows", "no data disk, a PC may start from it"),
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "a boot store for a system on another disk",
            340,
            &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 24, Ntfs)],
            Blocked("boot.store", "a PC starts from this disk"),
        )
    },
    Case::new(
        "a system, room behind it",
        340,
        &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 160, Windows)],
        Converts(&[]),
    ),
    Case::new(
        "a system to the last sector",
        211,
        &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 160, Windows)],
        Converts(&[]),
    ),
    Case {
        sector: 4096,
        ..Case::new(
            "a system at sectors of 4096 bytes, with a FAT32 volume",
            840,
            &[
                Part(0x07, 1, 50, Boot),
                Part(0x07, 51, 160, Windows),
                Part(0x0C, 211, 300, Fat32),
            ],
            Converts(&[]),
        )
    },
    Case {
        logical: &[
            Part(0x07, 213, 24, Ntfs),
            Part(0x0B, 238, 48, Fat32),
            Part(0x83, 287, 16, Ext),
        ],
        ..Case::new(
            "a system, and logical volumes up to the end",
            304,
            &[
                Part(0x07, 1, 50, Boot),
                Part(0x07, 51, 160, Windows),
                Part(0x27, 211, 1, Marked),
            ],
            Converts(&[]),
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "an EFI system partition on a data disk",
            323,
            &[Part(0xEF, 1, 110, OldEsp), Part(0x83, 120, 16, Ext)],
            LETTERS,
        )
    },
    Case {
        args: TAKEOVER,
        ..Case::new(
            "the boot partition taken over",
            322,
            FULL,
            Converts(&["room.esp", "boot.recovery"]),
        )
    },
    Case {
        args: TAKEOVER,
        ..Case::new(
            "a boot partition too small to be taken over",
            340,
            &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 160, Windows)],
            Blocked(
                "room.esp",
                "needs 100.0 MiB in whole MiB; the partition has 50.0 MiB",
            ),
        )
    },
    Case {
        args: TAKEOVER,
        ..Case::new(
            "a boot partition with a recovery image",
            322,
            &[
                Part(0x83, 1, 50, Marked),
                Part(0x07, 51, 160, Windows),
                Part(0x07, 211, 110, BootAndRecovery),
            ],
            Blocked(
                "room.esp",
                "Winre.wim of 3.0 MiB, which would be lost: the partition has 110.0 MiB, the EFI system \
                 partition needs 100.0 MiB. --place trim keeps both",
            ),
        )
    },
    Case {
        args: TAKEOVER,
        ..Case::new(
            "a boot partition with a customer's file",
            322,
            &[
                Part(0x83, 1, 50, Marked),
                Part(0x07, 51, 160, Windows),
                Part(0x07, 211, 110, BootAndLetters),
            ],
            Blocked("room.esp", "would be lost: letters to mother.odt"),
        )
    },
    Case {
        args: TAKEOVER,
        ..Case::new(
            "no boot partition of its own",
            340,
            &[Part(0x07, 51, 160, Windows)],
            Blocked("system.active", "no partition is marked active"),
        )
    },
    Case::new(
        "an EFI system partition that is there",
        323,
        ESP_THERE,
        Converts(&[]),
    ),
    Case {
        args: &["--place", "takeover"],
        ..Case::new(
            "the same, and another place asked for",
            323,
            ESP_THERE,
            Converts(&[]),
        )
    },
    Case::new(
        "one that is too small",
        340,
        &[
            Part(0x07, 1, 50, Boot),
            Part(0x07, 51, 160, Windows),
            Part(0xEF, 212, 64, OldEsp),
        ],
        Blocked("room.esp", "it has 64.0 MiB, and needs 100.0 MiB"),
    ),
    Case::new(
        "one of another kind",
        340,
        &[
            Part(0x07, 1, 50, Boot),
            Part(0x07, 51, 160, Windows),
            Part(0xEF, 212, 110, OldEsp16),
        ],
        Blocked("room.esp", "it holds FAT16, and not FAT32"),
    ),
    Case::new(
        "two of them",
        450,
        &[
            Part(0x07, 1, 50, Boot),
            Part(0x07, 51, 160, Windows),
            Part(0xEF, 212, 110, OldEsp),
            Part(0xEF, 330, 110, OldEsp),
        ],
        Blocked("room.esp", "partition 4 is one as well"),
    ),
    Case {
        // Entry 1 of both FATs says that the volume is in use.
        tweak: |image| {
            let volume = 212 * MIB;
            let field = |at: u64, len| peek(image, volume + at, len);
            let reserved = u64::from(u16::from_le_bytes(field(14, 2).try_into().unwrap()));
            let fat = u64::from(u32::from_le_bytes(field(36, 4).try_into().unwrap()));
            for sector in [reserved, reserved + fat] {
                poke(image, volume + sector * 512 + 7, &[0x07]);
            }
        },
        ..Case::new(
            "one that was not closed cleanly",
            323,
            ESP_THERE,
            Blocked("room.esp", "it was not closed cleanly"),
        )
    },
    Case {
        args: DATA,
        tweak: |image| {
            fs::File::options()
                .write(true)
                .open(image)
                .unwrap()
                .set_len(40 * MIB)
                .unwrap();
        },
        ..Case::new(
            "cut short",
            64,
            &[Part(0x07, 1, 48, Ntfs)],
            Blocked("table.inside", "behind the disk"),
        )
    },
];

/// Makes a volume of this kind in a file, once for each length.
fn volume(lab: &Lab, inside: Inside, sector: u32, len_bytes: u64) -> PathBuf {
    let path = lab.path(&format!("{inside:?}-{sector}-{len_bytes}"));
    if path.exists() {
        return path;
    }
    let (file, size) = (path.to_str().unwrap(), sector.to_string());
    let folder = lab.path("files");
    fs::create_dir_all(folder.join("box")).unwrap();
    fs::write(folder.join("box/log book.txt"), vec![0x4C; 70_000]).unwrap();
    fs::write(folder.join("note.txt"), "the lamp was lit at dusk").unwrap();
    let make = |tool_name: &str, args: &[&str]| {
        fs::File::create(&path).unwrap().set_len(len_bytes).unwrap();
        tool(tool_name, args)
    };
    match inside {
        Inside::Ntfs => {
            format(&path, len_bytes, sector, 4096);
            let mount = Mount::new(&path, true);
            fs::write(mount.path("log book.txt"), vec![0x4C; 70_000]).unwrap();
            fs::write(mount.path("note.txt"), "the lamp was lit at dusk").unwrap();
        }
        Inside::Fat32 => {
            make("mkfs.vfat", &["-F", "32", "-S", &size, "-n", "TONNE", file]);
            let files = folder.join("box");
            let args = ["-s", "-i", file, files.to_str().unwrap(), "::box"];
            tool("mcopy", &args);
        }
        Inside::Ext => {
            let args = ["-q", "-F", "-t", "ext4", "-L", "Boje", "-d"];
            make(
                "mke2fs",
                &[&args[..], &[folder.to_str().unwrap(), file]].concat(),
            );
        }
        Inside::OldEsp => {
            make(
                "mkfs.vfat",
                &["-F", "32", "-S", &size, "-n", "OLDESP", file],
            );
            fill_old_esp(lab, &path);
        }
        Inside::OldEsp16 => make("mkfs.vfat", &["-F", "16", "-S", &size, file])
            .code
            .eq(&0)
            .then_some(())
            .unwrap(),
        Inside::OnlyBoot | Inside::BootAndRecovery | Inside::BootAndLetters => {
            format(&path, len_bytes, sector, 4096);
            let standard = lab.image("standard.img", 512, 60, |disk| {
                let extent = schwelle_core::device::Extent::new(lba(0), 50 * 2048).unwrap();
                disk.volume(Asset::Boot, extent).unwrap();
            });
            let (from, mount) = (Mount::new(&standard, false), Mount::new(&path, true));
            fs::copy(from.path("bootmgr"), mount.path("bootmgr")).unwrap();
            fs::create_dir(mount.path("Boot")).unwrap();
            fs::copy(from.path("Boot/BCD"), mount.path("Boot/BCD")).unwrap();
            if inside == Inside::BootAndRecovery {
                fs::create_dir_all(mount.path("Recovery/WindowsRE")).unwrap();
                fs::write(mount.path("Recovery/WindowsRE/Winre.wim"), vec![7; 3 << 20]).unwrap();
            }
            if inside == Inside::BootAndLetters {
                fs::write(mount.path("letters to mother.odt"), "dear mother").unwrap();
            }
        }
        _ => panic!("{inside:?} is not made by a utility"),
    }
    path
}

/// Files of another system on an EFI system partition.
fn fill_old_esp(lab: &Lab, volume: &Path) {
    let folder = lab.path("EFI");
    fs::create_dir_all(folder.join("keeper")).unwrap();
    fs::create_dir_all(folder.join("BOOT")).unwrap();
    fs::write(folder.join("keeper/keeperx64.efi"), vec![0x4B; 50_000]).unwrap();
    fs::write(folder.join("BOOT/BOOTX64.EFI"), vec![0x4B; 50_000]).unwrap();
    let args = [
        "-s",
        "-i",
        volume.to_str().unwrap(),
        folder.to_str().unwrap(),
        "::EFI",
    ];
    tool("mcopy", &args);
}

/// Puts the content of a partition in its place.
fn fill(lab: &Lab, disk: &DiskBuilder<'_>, sector: u32, part: &Part) {
    let Part(_, first_mib, mib, inside) = *part;
    let per_mib = MIB / u64::from(sector);
    let extent =
        schwelle_core::device::Extent::new(lba(first_mib * per_mib), mib * per_mib).unwrap();
    match inside {
        Inside::Boot => disk.volume(Asset::Boot, extent).unwrap(),
        Inside::Windows => disk.volume(Asset::Windows, extent).unwrap(),
        Inside::Encrypted => {
            disk.volume(Asset::Windows, extent).unwrap();
            disk.encrypt(extent).unwrap();
        }
        Inside::Marked => {
            for at in [extent.first.0, extent.last().0] {
                disk.bytes(lba(at), format!("mark {at}").as_bytes())
                    .unwrap();
            }
        }
        made => {
            let content = fs::read(volume(lab, made, sector, mib * MIB)).unwrap();
            disk.bytes(extent.first, &content).unwrap();
            if made.is_boot() {
                let (old, new) = (0x51C3_A7E5_u32.to_le_bytes(), SIGNATURE.to_le_bytes());
                let device = disk.device();
                schwelle_demo::replace_bytes(device, extent, "\\Boot\\BCD", &old, &new).unwrap();
            }
        }
    }
}

/// Builds the disk.
pub(crate) fn build(lab: &Lab, case: &Case) -> PathBuf {
    let per_mib = MIB / u64::from(case.sector);
    let number = |mib: u64| u32::try_from(mib * per_mib).unwrap();
    let image = lab.image("disk.img", case.sector, case.mib, |disk| {
        let standard = case.parts.iter().any(|part| part.3 == Inside::Windows);
        if standard {
            // With its own signature and name in boot store and registry.
            disk.standard(SIGNATURE, COMPUTER).unwrap();
        }
        let in_place = |part: &Part| standard && matches!(part.3, Inside::Boot | Inside::Windows);
        for part in case.parts.iter().chain(case.logical) {
            if !in_place(part) {
                fill(lab, disk, case.sector, part);
            }
        }
        let mut entries: Vec<MbrEntry> = case
            .parts
            .iter()
            .map(|part| MbrEntry {
                active: part.3.is_boot(),
                kind: part.0,
                first: number(part.1),
                sectors: number(part.2),
            })
            .collect();
        // Each logical partition lies one MiB behind its record.
        let record = |part: &Part| number(part.1 - 1);
        let container = case.logical.first().map_or(0, record);
        if let Some(last) = case.logical.last() {
            entries.push(MbrEntry {
                active: false,
                kind: 0x0F,
                first: container,
                sectors: number(last.1 + last.2) - container,
            });
        }
        if !case.parts.is_empty() {
            disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
        }
        for (index, part) in case.logical.iter().enumerate() {
            let mut entries = vec![MbrEntry {
                active: false,
                kind: part.0,
                first: number(1),
                sectors: number(part.2),
            }];
            if let Some(next) = case.logical.get(index + 1) {
                entries.push(MbrEntry {
                    active: false,
                    kind: 0x05,
                    first: record(next) - container,
                    sectors: number(1 + next.2),
                });
            }
            disk.boot_record(lba(record(part).into()), 0, &entries)
                .unwrap();
        }
    });
    (case.tweak)(&image);
    image
}

/// Files of a volume by path, but for those that the job edits.
fn files(lab: &Lab, image: &Path, place: (u64, u64), edited: &[String]) -> BTreeMap<PathBuf, Seen> {
    let copy = lab.path("volume");
    extract(image, place, &copy);
    assert_eq!(is_consistent(&copy), Ok(()));
    let mut files = snapshot(&copy);
    files.retain(|path, _| !edited.iter().any(|edited| Path::new(edited) == path));
    files
}

/// Asks the file system's own checker.
fn check_volume(lab: &Lab, image: &Path, place: (u64, u64), inside: Inside) {
    let copy = lab.path("volume");
    extract(image, place, &copy);
    let path = copy.to_str().unwrap();
    match inside {
        Inside::Fat32 => drop(tool("fsck.vfat", &["-n", path])),
        Inside::Ext => drop(tool("e2fsck", &["-f", "-n", path])),
        Inside::Ntfs => assert_eq!(is_consistent(&copy), Ok(())),
        _ => {}
    }
}

/// Hash of a stretch of an image.
fn hash_of(image: &Path, (offset, len): (u64, u64)) -> blake3::Hash {
    use std::io::{Read, Seek, SeekFrom};
    let mut file = fs::File::open(image).unwrap();
    file.seek(SeekFrom::Start(offset)).unwrap();
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(file.take(len)).unwrap();
    hasher.finalize()
}

fn paths_edited(record: &Value, number: u64) -> Vec<String> {
    let edited = record["plan"]["files_edited"].as_array().unwrap().iter();
    let here = edited.filter(|file| file["partition"] == number);
    here.map(|file| {
        file["path"]
            .as_str()
            .unwrap()
            .trim_start_matches('\\')
            .replace('\\', "/")
    })
    .collect()
}

/// Converts the disk and proves the result; the disk is the old one again afterwards.
pub(crate) fn prove(lab: &Lab, image: &Path, case: &Case) {
    let name = case.name;
    let whole = hash(image);
    let before = lab
        .run(&[&["plan", "disk.img", "--json"][..], case.args].concat())
        .json();
    let sector = u64::from(case.sector);
    let job = lab.path("job");
    fs::remove_dir_all(&job).ok();
    // What each partition holds, by its first sector.
    let parts = before["before"].as_array().unwrap().iter();
    let parts: Vec<&Value> = parts.filter(|part| part["number"].is_u64()).collect();
    let lbas = |part: &Value| {
        (
            part["first_lba"].as_u64().unwrap(),
            part["last_lba"].as_u64().unwrap(),
        )
    };
    let bytes = |(first, last): (u64, u64)| (first * sector, (last + 1 - first) * sector);
    let record = |number: u64| paths_edited(&serde_json::json!({ "plan": before }), number);
    let number = |part: &Value| part["number"].as_u64().unwrap();
    let trimmed = |part: &Value| {
        let mut trims = before["trimmed"].as_array().unwrap().iter();
        trims
            .find(|trim| trim["partition"] == part["number"])
            .map(|trim| trim["last_lba_after"].as_u64().unwrap())
    };
    enum Content {
        Bytes(blake3::Hash),
        Files(BTreeMap<PathBuf, Seen>),
    }
    let look = |part: &Value, place: (u64, u64)| {
        let edited = record(number(part));
        if edited.is_empty() && trimmed(part).is_none() {
            Content::Bytes(hash_of(image, bytes(place)))
        } else {
            Content::Files(files(lab, image, bytes(place), &edited))
        }
    };
    let gone = before["placement"]["kind"] == "takeover";
    let kept: Vec<&Value> = parts
        .into_iter()
        .filter(|part| !(gone && part["number"] == before["placement"]["taken_from"]))
        .filter(|part| !(before["placement"]["kind"] == "existing" && part["role"] == "EFI system"))
        .collect();
    let contents: Vec<Content> = kept.iter().map(|part| look(part, lbas(part))).collect();

    let run = lab.convert(image, "job", &[case.args, &["--quiet"]].concat());
    assert_eq!(run.code, 0, "{name}: {}{}", run.stdout, run.stderr);
    let mut expected: Vec<Found> = Vec::new();
    for (part, content) in kept.iter().zip(contents) {
        let (first, last) = lbas(part);
        let after = (first, trimmed(part).unwrap_or(last));
        expected.push(Found(first, after.1 + 1 - first));
        match (content, look(part, after)) {
            (Content::Bytes(before), Content::Bytes(after)) => assert_eq!(before, after, "{name}"),
            (Content::Files(before), Content::Files(after)) => {
                assert_eq!(before.len(), after.len(), "{name}");
                for (path, seen) in before {
                    assert_eq!(Some(&seen), after.get(&path), "{name}: {}", path.display());
                }
            }
            _ => panic!("{name}: looked at in two ways"),
        }
    }
    for part in case.parts.iter().chain(case.logical) {
        let per_mib = MIB / sector;
        let first = part.1 * per_mib;
        if let Some(Found(_, sectors)) = expected.iter().find(|found| found.0 == first) {
            check_volume(lab, image, (first * sector, sectors * sector), part.3);
        }
    }
    if let Some(esp) = before["placement"].as_object() {
        let (first, last) = (
            esp["first_lba"].as_u64().unwrap(),
            esp["last_lba"].as_u64().unwrap(),
        );
        expected.push(Found(first, last + 1 - first));
        check_volume(lab, image, bytes((first, last)), Inside::Fat32);
    }
    expected.sort();
    let mut found = listed_at(image, case.sector);
    found.sort();
    assert_eq!(found, expected, "{name}");
    let of_data: &[&str] = if case.args.contains(&"--data-disk") {
        DATA
    } else {
        &[]
    };
    let run = lab.run(&[&["rehearse", "disk.img"][..], of_data].concat());
    assert_eq!(run.code, 0, "{name}: {}", run.stdout);

    let undo = lab.run(&["undo", "--job", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{name}: {}", undo.stderr);
    // What was moved leaves copies in free clusters; all else is as it was.
    if before["bytes_moved"] == 0 {
        assert_eq!(hash(image), whole, "{name}");
    }
    let again = lab
        .run(&[&["check", "disk.img", "--json"][..], case.args].concat())
        .json();
    assert_ne!(again["answer"], "blocked", "{name}");
}

/// The answer of the check, and what it says.
pub(crate) fn answers(lab: &Lab, image: &Path, case: &Case) {
    let name = case.name;
    let run = lab.run(&[&["check", "disk.img", "--json"][..], case.args].concat());
    let check = run.json();
    let findings = check["findings"].as_array().unwrap();
    let of = |outcome: &str| -> Vec<&Value> {
        findings
            .iter()
            .filter(|finding| finding["outcome"] == outcome)
            .collect()
    };
    match case.answer {
        Answer::Blocked(rule, told) => {
            assert_eq!(run.code, 1, "{name}");
            let blocks = of("block");
            let texts: Vec<String> = blocks.iter().map(ToString::to_string).collect();
            let found = blocks.iter().position(|block| block["rule"] == rule);
            let found = found.unwrap_or_else(|| panic!("{name}: {texts:?}"));
            assert!(texts[found].contains(told), "{name}: {texts:?}");
            let whole = hash(image);
            fs::remove_dir_all(lab.path("job")).ok();
            let run = lab.convert(image, "job", &[case.args, &["--quiet"]].concat());
            assert_eq!((run.code, hash(image)), (1, whole), "{name}");
            assert!(!lab.path("job").exists(), "{name}");
        }
        Answer::Converts(cautions) => {
            assert_eq!(run.code, 0, "{name}: {:?}", of("block"));
            let found = of("caution");
            let found: Vec<&str> = found
                .iter()
                .map(|finding| finding["rule"].as_str().unwrap())
                .collect();
            assert_eq!(found, cautions, "{name}");
            prove(lab, image, case);
        }
    }
}

#[test]
fn every_disk_gets_its_answer_and_what_converts_is_proven() {
    let lab = Lab::new();
    for case in DISKS {
        let image = build(&lab, case);
        answers(&lab, &image, case);
    }
}

/// Of the table's disk of this name, the conversion as it is recorded.
fn converted(lab: &Lab, name: &str) -> (PathBuf, Value) {
    let case = DISKS.iter().find(|case| case.name == name).unwrap();
    let image = build(lab, case);
    let run = lab.convert(&image, "job", &[case.args, &["--quiet"]].concat());
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    let record = fs::read_to_string(lab.path("job/job.json")).unwrap();
    (image, serde_json::from_str(&record).unwrap())
}

#[test]
fn an_esp_that_is_there_keeps_its_files_and_starts() {
    let lab = Lab::new();
    let (image, record) = converted(&lab, "an EFI system partition that is there");
    let plan = &record["plan"];
    assert_eq!(plan["placement"]["kind"], "existing");
    assert_eq!(
        plan["files_replaced"],
        serde_json::json!(["\\EFI\\BOOT\\BOOTX64.EFI"])
    );
    let esp = format!("{}@@{}", image.display(), 212 * MIB);
    let out = lab.path("keeper.efi");
    tool(
        "mcopy",
        &[
            "-i",
            &esp,
            "::EFI/keeper/keeperx64.efi",
            out.to_str().unwrap(),
        ],
    );
    assert_eq!(fs::read(out).unwrap(), vec![0x4B; 50_000]);
    let run = lab.run(&["check", "disk.img"]);
    assert!(
        run.stdout.contains("the disk has a GPT already"),
        "{}",
        run.stdout
    );
    starts(&lab);
    // Used since: its files stay, the table goes back.
    let note = lab.path("note");
    fs::write(&note, "since").unwrap();
    tool("mcopy", &["-i", &esp, note.to_str().unwrap(), "::EFI/note"]);
    let undo = lab.run(&["undo", "--job", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{}", undo.stderr);
    assert!(
        undo.stdout.contains("has been used since the conversion"),
        "{}",
        undo.stdout
    );
    let back = lab.path("back");
    tool("mcopy", &["-i", &esp, "::EFI/note", back.to_str().unwrap()]);
    tool(
        "mcopy",
        &[
            "-o",
            "-i",
            &esp,
            "::EFI/Microsoft/Boot/BCD",
            back.to_str().unwrap(),
        ],
    );
    assert_eq!(lab.run(&["check", "disk.img"]).code, 0);
}

#[test]
fn a_boot_partition_taken_over_starts_and_comes_back_whole_even_after_use() {
    let lab = Lab::new();
    let case = DISKS
        .iter()
        .find(|case| case.name == "the boot partition taken over")
        .unwrap();
    let whole = hash(&build(&lab, case));
    let (image, record) = converted(&lab, case.name);
    let plan = &record["plan"];
    assert_eq!(plan["placement"]["kind"], "takeover");
    let stages: Vec<&str> = plan["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|stage| stage["stage"].as_str().unwrap())
        .collect();
    assert_eq!(stages, ["prepare", "commit", "takeover", "settle"]);
    starts(&lab);
    // Every sector of the place is used by others, and comes back all the same.
    poke(&image, 211 * MIB + (20 << 20), &vec![0xA5; 80 << 20]);
    let undo = lab.run(&["undo", "--job", "job", "--yes"]);
    assert_eq!(undo.code, 0, "{}{}", undo.stdout, undo.stderr);
    assert!(
        undo.stdout
            .contains("what was put there after the conversion goes"),
        "{}",
        undo.stdout
    );
    assert_eq!(hash(&image), whole);
}

fn starts(lab: &Lab) {
    let run = lab.run(&["rehearse", "disk.img", "--emulate"]);
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
}
