//! Partition type GUIDs, and which MBR type becomes which.

use std::collections::BTreeMap;

use uuid::{Uuid, uuid};

use super::entry::attributes;
use crate::mbr::Kind;

/// The type GUIDs that Schwelle writes or knows by name (UEFI 2.10 table 5.7, and the systems' own
/// documentation).
pub mod type_guid {
    use super::{Uuid, uuid};

    /// EFI system partition.
    pub const EFI_SYSTEM: Uuid = uuid!("c12a7328-f81f-11d2-ba4b-00a0c93ec93b");
    /// Basic data: NTFS and FAT volumes.
    pub const BASIC_DATA: Uuid = uuid!("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7");
    /// Microsoft reserved.
    pub const RESERVED: Uuid = uuid!("e3c9e316-0b5c-4db8-817d-f92df00215ae");
    /// Windows recovery environment.
    pub const RECOVERY: Uuid = uuid!("de94bba4-06d1-4d40-a16a-bfd50179d6ac");
    /// Linux file system.
    pub const LINUX: Uuid = uuid!("0fc63daf-8483-4772-8e79-3d69d8477de4");
    /// Linux swap.
    pub const LINUX_SWAP: Uuid = uuid!("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f");
    /// Linux LVM.
    pub const LINUX_LVM: Uuid = uuid!("e6d6d379-f507-44c2-a23c-238f2a3df928");
    /// What a notebook's firmware keeps for its fast resume.
    pub const FAST_RESUME: Uuid = uuid!("d3bfe2de-3daf-11df-ba40-e3a556d89593");
    /// Linux RAID.
    pub const LINUX_RAID: Uuid = uuid!("a19d880f-05fc-4d3b-a006-743f0f84911e");
}

/// What technicians call a partition type.
pub fn type_name(guid: Uuid) -> &'static str {
    match guid {
        type_guid::EFI_SYSTEM => "EFI system",
        type_guid::BASIC_DATA => "basic data",
        type_guid::RESERVED => "Microsoft reserved",
        type_guid::RECOVERY => "Windows recovery",
        type_guid::LINUX => "Linux",
        type_guid::LINUX_SWAP => "Linux swap",
        type_guid::LINUX_LVM => "Linux LVM",
        type_guid::LINUX_RAID => "Linux RAID",
        type_guid::FAST_RESUME => "fast resume",
        _ => "other",
    }
}

/// Type, attributes and name that a partition gets in the new table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MappedType {
    /// Type GUID.
    pub guid: Uuid,
    /// Attribute bits.
    pub attributes: u64,
    /// Name; `None` for the volume's label.
    pub name: Option<String>,
}

/// Which MBR type becomes which: the common ones, and those of a workshop's policy.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TypeTable {
    own: BTreeMap<u8, MappedType>,
}

impl TypeTable {
    /// Adds a type, or gives one another form; false for types that say how a disk is laid out, which
    /// are never carried over as they are, and for the EFI system partition, of which there is one.
    pub fn add(&mut self, kind: u8, mapped: MappedType) -> bool {
        let is_layout = Kind(kind).is_extended()
            || [0, Kind::DYNAMIC.0, Kind::PROTECTIVE.0, Kind::EFI_SYSTEM.0].contains(&kind);
        let is_esp = mapped.guid == type_guid::EFI_SYSTEM || mapped.guid.is_nil();
        let is_taken = !is_layout && !is_esp;
        if is_taken {
            self.own.insert(kind, mapped);
        }
        is_taken
    }

    /// The types that the workshop has decided.
    pub fn kinds(&self) -> impl Iterator<Item = Kind> {
        self.own.keys().map(|&kind| Kind(kind))
    }

    /// What the workshop has decided for a type.
    pub fn chosen(&self, kind: Kind) -> Option<&MappedType> {
        self.own.get(&kind.0)
    }

    /// The MBR type that the workshop has decided to become this one.
    pub fn chosen_as(&self, guid: Uuid) -> Option<Kind> {
        let mut own = self.own.iter();
        Some(Kind(*own.find(|(_, mapped)| mapped.guid == guid)?.0))
    }

    /// The GPT form of an MBR type; `None` for types that are never carried over or not known.
    pub fn map(&self, kind: Kind) -> Option<MappedType> {
        let chosen = self.chosen(kind).cloned();
        chosen.or_else(|| common(kind))
    }
}

fn common(kind: Kind) -> Option<MappedType> {
    let (guid, attributes) = match kind.0 {
        0x01 | 0x04 | 0x06 | 0x07 | 0x0B | 0x0C | 0x0E => (type_guid::BASIC_DATA, 0),
        0x11 | 0x12 | 0x14 | 0x16 | 0x17 | 0x1B | 0x1C | 0x1E | 0xDE => (
            type_guid::BASIC_DATA,
            attributes::HIDDEN | attributes::NO_DRIVE_LETTER,
        ),
        0x27 => (
            type_guid::RECOVERY,
            attributes::REQUIRED | attributes::NO_DRIVE_LETTER,
        ),
        0x82 => (type_guid::LINUX_SWAP, 0),
        0x83 => (type_guid::LINUX, 0),
        0x84 => (type_guid::FAST_RESUME, attributes::NO_DRIVE_LETTER),
        0x8E => (type_guid::LINUX_LVM, 0),
        0xFD => (type_guid::LINUX_RAID, 0),
        0xEF => (type_guid::EFI_SYSTEM, attributes::NO_DRIVE_LETTER),
        _ => return None,
    };
    let name = None;
    Some(MappedType {
        guid,
        attributes,
        name,
    })
}
