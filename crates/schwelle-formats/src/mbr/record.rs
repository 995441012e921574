//! A boot record: sector 0 of a disk, or the first sector of a logical partition (UEFI 2.10 §5.2.1, table
//! 5.1).

use std::mem::offset_of;

use zerocopy::little_endian::U32;
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout, Unaligned};

use super::boot_code::BiosStart;
use super::entry::{Entry, Kind, RawEntry};
use crate::grub::BootImage;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
pub(super) struct RawRecord {
    pub(super) boot_code: [u8; 440],
    pub(super) disk_signature: U32,
    pub(super) reserved: [u8; 2],
    pub(super) entries: [RawEntry; 4],
    pub(super) boot_signature: [u8; 2],
}

const _: () = assert!(size_of::<RawRecord>() == 512);
const _: () = assert!(offset_of!(RawRecord, disk_signature) == 440);
const _: () = assert!(offset_of!(RawRecord, entries) == 446);

/// A boot record that ends in 55 AA and is not the boot sector of a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BootRecord {
    /// Disk signature; only meaningful in sector 0.
    pub disk_signature: u32,
    /// The boot code area holds anything but zeros.
    pub has_boot_code: bool,
    /// The boot code is Windows' own, which goes straight to the active partition. Known by the
    /// name "TCPA", under which it asks for a TPM (Windows Vista and later, in every language;
    /// code without it is taken for another's).
    pub has_windows_code: bool,
    /// The boot code is GRUB's, which loads more from sectors that it names.
    pub has_grub_code: bool,
    /// Which of our own programs the boot code is.
    pub own_code: Option<BiosStart>,
    /// The four entries, unused ones as `None`.
    pub entries: [Option<Entry>; 4],
}

impl BootRecord {
    /// Parses the first 512 bytes of `sector`. `None` when the signature 55 AA is missing.
    pub fn parse(sector: &[u8]) -> Option<Self> {
        let (raw, _) = RawRecord::ref_from_prefix(sector).ok()?;
        if raw.boot_signature != [0x55, 0xAA] {
            return None;
        }
        Some(Self {
            disk_signature: raw.disk_signature.get(),
            has_boot_code: raw.boot_code.iter().any(|&byte| byte != 0),
            has_grub_code: BootImage::of(&raw.boot_code).is_some(),
            own_code: BiosStart::of(&raw.boot_code),
            has_windows_code: raw.boot_code.windows(4).any(|part| part == b"TCPA"),
            entries: raw.entries.each_ref().map(Entry::parse),
        })
    }
}

impl BootRecord {
    /// One of the entries protects a GPT.
    pub fn is_protective(&self) -> bool {
        let mut entries = self.entries.iter().flatten();
        entries.any(|entry| entry.kind == Kind::PROTECTIVE)
    }

    /// The boot code goes straight to the active partition and uses nothing else on the disk.
    pub fn goes_to_active(&self) -> bool {
        self.has_windows_code || self.own_code == Some(BiosStart::ActivePartition)
    }
}

/// True for the first sectors of a volume with Windows' own boot code, which loads the file BOOTMGR. Known by that
/// file's name in the code: as UTF-16 on NTFS, as a short name on FAT (Windows Vista and later, in every language).
pub fn is_windows_boot_record(sectors: &[u8]) -> bool {
    const ON_FAT: &[u8] = b"BOOTMGR    ";
    const ON_NTFS: &[u8] = b"B\0O\0O\0T\0M\0G\0R\0";
    /// The manufacturer's name in a volume of ours, whose code looks for the same file.
    const OURS: &[u8] = b"SCHWELLE";
    let has = |name: &[u8]| sectors.windows(name.len()).any(|bytes| bytes == name);
    let is_ours = sectors.get(3..).is_some_and(|rest| rest.starts_with(OURS));
    !is_ours && (has(ON_FAT) || has(ON_NTFS))
}

/// Gives the partition that begins at `first_lba` fewer sectors in `sector`, a sector 0. Nothing
/// else changes; an entry that is not there is left so.
pub fn shrink_entry(sector: &mut [u8], first_lba: u64, sectors: u64) {
    let Ok((raw, _)) = RawRecord::mut_from_prefix(sector) else {
        return;
    };
    for entry in &mut raw.entries {
        let named = Entry::parse(entry)
            .is_some_and(|found| !found.kind.is_extended() && u64::from(found.first) == first_lba);
        if let (true, Ok(sectors)) = (named, u32::try_from(sectors)) {
            entry.sectors = U32::new(sectors);
        }
    }
}

/// True when `sector` is the boot sector of a file system (or an encrypted volume): it ends in 55
/// AA like a boot record, but its "entries" are code. Known by the jump at its start and the
/// manufacturer's name after it.
pub fn looks_like_volume(sector: &[u8]) -> bool {
    let jump = matches!(
        sector.first_chunk::<3>(),
        Some([0xEB, _, 0x90] | [0xE9, _, _])
    );
    let Some(manufacturer) = crate::bytes::array_at::<8>(sector, 3) else {
        return false;
    };
    let fat = [0x36, 0x52].iter().any(|&at| {
        sector
            .get(at..)
            .is_some_and(|rest| rest.starts_with(b"FAT"))
    });
    let known = [b"NTFS    ", b"-FVE-FS-", b"EXFAT   ", b"MSWIN4.1"].contains(&&manufacturer);
    jump && (fat || known)
}
