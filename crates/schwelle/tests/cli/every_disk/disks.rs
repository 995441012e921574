//! The table of disks.

use std::fs;
use std::path::Path;

use crate::support::{peek, poke};
use schwelle_testkit::tool;

const MIB: u64 = 1 << 20;

/// What lies in a partition.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Inside {
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
pub(super) struct Part(
    pub(super) u8,
    pub(super) u64,
    pub(super) u64,
    pub(super) Inside,
);

/// What is expected of a disk.
pub(super) enum Answer {
    /// Blocked by this rule, which says this.
    Blocked(&'static str, &'static str),
    /// Converts, with cautions from these rules.
    Converts(&'static [&'static str]),
}

/// A disk of the table.
pub(super) struct Case {
    pub(super) name: &'static str,
    pub(super) sector: u32,
    pub(super) mib: u64,
    /// Primary partitions, and the logical ones in an extended partition around them.
    pub(super) parts: &'static [Part],
    pub(super) logical: &'static [Part],
    /// What else happened to it.
    pub(super) tweak: fn(&Path),
    pub(super) args: &'static [&'static str],
    pub(super) answer: Answer,
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
    pub(super) fn is_boot(self) -> bool {
        use Inside::{Boot, BootAndLetters, BootAndRecovery, OnlyBoot};
        matches!(self, Boot | BootAndLetters | BootAndRecovery | OnlyBoot)
    }
}

pub(super) const DATA: &[&str] = &["--data-disk"];
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

pub(super) const DISKS: &[Case] = &[
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
        Blocked("table.mbr", "schwelle check disk.img --data-disk"),
    ),
    Case {
        args: DATA,
        tweak: |image| poke(image, 2048 * 512 + 3, b"NTFS    "),
        ..Case::new(
            "a table wiped, a volume after it",
            64,
            &[],
            Blocked("table.mbr", "LBA 2048: a volume begins there (NTFS)"),
        )
    },
    Case {
        args: DATA,
        tweak: |image| poke(image, 63 * 512, b"something"),
        ..Case::new(
            "a table wiped, something after it",
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
            Blocked("room.backup-table", "only sound NTFS volumes are shrunk"),
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
        args: &["--data-disk", "--place", "shrink", "--esp-size", "100M"],
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
            Blocked("system.windows", "not a data disk, a PC may start from it"),
        )
    },
    Case {
        args: DATA,
        ..Case::new(
            "a BCD store for a system on another disk",
            340,
            &[Part(0x07, 1, 50, Boot), Part(0x07, 51, 24, Ntfs)],
            Blocked("boot.store", "a PC starts from this disk"),
        )
    },
    Case::new(
        "a system, room after it",
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
            Converts(&["room.esp", "boot.start", "boot.recovery"]),
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
                 partition needs 100.0 MiB. --place shrink keeps both",
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
        tweak: |image| {
            let filler = image.with_extension("filler");
            fs::File::create(&filler)
                .unwrap()
                .set_len(95 * MIB)
                .unwrap();
            let volume = format!("{}@@{}", image.display(), 212 * MIB);
            tool(
                "mcopy",
                &["-i", &volume, filler.to_str().unwrap(), "::filler"],
            );
        },
        ..Case::new(
            "one that is nearly full",
            323,
            ESP_THERE,
            Blocked("room.esp", "MiB are free on it, and 16."),
        )
    },
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
            Blocked("table.inside", "beyond the disk"),
        )
    },
];
