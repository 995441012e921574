//! The rules' ids and families.

use std::fmt;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

macro_rules! rule_ids {
    ($($family:ident $family_name:literal { $($rule:ident $name:literal,)+ })+) => {
        /// What a rule is about.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        #[expect(missing_docs, reason = "the names say it")]
        pub enum Family {
            $($family,)+
        }

        impl Family {
            /// The part of a rule's id before the dot.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$family => $family_name,)+
                }
            }
        }

        /// A rule. Its id, "family.name", is promised to scripts and policies.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(JsonSchema))]
        #[expect(missing_docs, reason = "the words for it say what each asks")]
        pub enum RuleId {
            $($(
                #[serde(rename = $name)]
                $rule,
            )+)+
        }

        impl RuleId {
            /// All of them, in the order in which they are listed.
            pub const ALL: &[Self] = &[$($(Self::$rule,)+)+];

            /// The id.
            pub fn name(self) -> &'static str {
                match self {
                    $($(Self::$rule => $name,)+)+
                }
            }

            /// What it is about.
            pub fn family(self) -> Family {
                match self {
                    $($(Self::$rule => Family::$family,)+)+
                }
            }
        }
    };
}

rule_ids! {
    Medium "medium" {
        MediumWholeDisk "medium.whole-disk",
        MediumWritable "medium.writable",
        MediumSectorSize "medium.sector-size",
        MediumReadable "medium.readable",
        MediumHealth "medium.health",
        MediumInUse "medium.in-use",
        MediumRaid "medium.raid",
        MediumJobElsewhere "medium.job-elsewhere",
        MediumJobLasting "medium.job-lasting",
        MediumJobWritable "medium.job-writable",
        MediumStoppedJob "medium.stopped-job",
        MediumCopy "medium.copy",
        MediumPower "medium.power",
    }
    Table "table" {
        TableMbr "table.mbr",
        TableInside "table.inside",
        TableOverlap "table.overlap",
        TableChain "table.chain",
        TableFlags "table.flags",
        TableDynamic "table.dynamic",
        TableTypes "table.types",
        TableCount "table.count",
        TableAlignment "table.alignment",
    }
    Room "room" {
        RoomPrimaryTable "room.primary-table",
        RoomBackupTable "room.backup-table",
        RoomSmallest "room.smallest",
        RoomEsp "room.esp",
    }
    Volume "volume" {
        VolumeEncryption "volume.encryption",
        VolumeReadable "volume.readable",
        VolumeHibernation "volume.hibernation",
        VolumeClean "volume.clean",
        VolumeConsistent "volume.consistent",
        VolumeShadowCopies "volume.shadow-copies",
        VolumeMatchesType "volume.matches-type",
    }
    System "system" {
        SystemActive "system.active",
        SystemWindows "system.windows",
        System64Bit "system.64bit",
        SystemBootFiles "system.boot-files",
        SystemRegistry "system.registry",
        SystemLetters "system.letters",
        SystemSeveral "system.several",
        SystemStarts "system.starts",
    }
    Boot "boot" {
        BootStart "boot.start",
        BcdStore "boot.store",
        BootDefault "boot.default",
        BootEntries "boot.entries",
        BootRecovery "boot.recovery",
        BootOtherLoader "boot.other-loader",
    }
    Firmware "firmware" {
        FirmwareUefi "firmware.uefi",
        FirmwareBits "firmware.bits",
        FirmwareCsm "firmware.csm",
        FirmwareSecureBoot "firmware.secure-boot",
    }
    Back "back" {
        BackTable "back.table",
        BackFits "back.fits",
        BackTypes "back.types",
        BackActive "back.active",
        BackBootFiles "back.boot-files",
        BackFirmware "back.firmware",
    }
    Backup "backup" {
        BackupMade "backup.made",
    }
}

impl RuleId {
    /// The part of the id after the dot.
    pub fn name_in_family(self) -> &'static str {
        let family = self.family().name().len();
        self.name().get(family + 1..).unwrap_or_default()
    }
}

impl fmt::Display for RuleId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}
