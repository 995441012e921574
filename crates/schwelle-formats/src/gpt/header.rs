//! The table header (UEFI 2.10 §5.3.2, table 5.5).

use std::mem::offset_of;

use uuid::Uuid;
use zerocopy::little_endian::{U32, U64};
use zerocopy::{FromBytes, FromZeros, Immutable, IntoBytes, KnownLayout, Unaligned};

use crate::device::{DeviceError, Extent, Geometry, Lba};

const SIGNATURE: [u8; 8] = *b"EFI PART";
const REVISION_1_0: u32 = 0x0001_0000;
/// Bytes of entries read at most: a table 64 times the usual size. Bounds the allocation.
const MAX_ENTRIES_BYTES: u64 = 1 << 20;

#[derive(Debug, Clone, Copy, FromBytes, IntoBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawGptHeader {
    signature: [u8; 8],
    revision: U32,
    header_bytes: U32,
    header_crc: U32,
    reserved: U32,
    my_lba: U64,
    alternate_lba: U64,
    first_usable: U64,
    last_usable: U64,
    disk_id: [u8; 16],
    entries_lba: U64,
    entry_count: U32,
    entry_bytes: U32,
    entries_crc: U32,
}

const HEADER_BYTES: usize = 92;
const CRC_AT: usize = offset_of!(RawGptHeader, header_crc);
const _: () = assert!(size_of::<RawGptHeader>() == HEADER_BYTES && CRC_AT == 16);

/// Why a copy of the table is not usable.
#[derive(Debug, thiserror::Error)]
pub enum GptError {
    /// There is no header at all.
    #[error("{at}: no GPT header (the signature \"EFI PART\" is missing)")]
    NoSignature {
        /// Where it should be.
        at: Lba,
    },
    /// A header field with a value that cannot be.
    #[error("{at}: the GPT header's {field} is {actual}, expected {expected}")]
    Field {
        /// The header's sector.
        at: Lba,
        /// The field.
        field: &'static str,
        /// What it holds.
        actual: u64,
        /// What it should hold.
        expected: String,
    },
    /// A checksum that does not match.
    #[error("{at}: the checksum of the GPT {what} is {actual:08X}h, computed {computed:08X}h")]
    Checksum {
        /// The sector of the header or the first sector of the entries.
        at: Lba,
        /// "header" or "entries".
        what: &'static str,
        /// Stored.
        actual: u32,
        /// Computed.
        computed: u32,
    },
    /// The device failed.
    #[error(transparent)]
    Device(#[from] DeviceError),
}

/// A checked header: its own checksum holds, and its numbers fit the disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GptHeader {
    /// Where this header lies.
    pub my_lba: Lba,
    /// Where the other one should lie.
    pub alternate_lba: Lba,
    /// Sectors that partitions may use.
    pub usable: Extent,
    /// GUID of the disk.
    pub disk_id: Uuid,
    /// First sector of the entries.
    pub entries_lba: Lba,
    /// Entries in the table.
    pub entry_count: u32,
    /// Bytes in an entry.
    pub entry_bytes: u32,
    /// Checksum of the entries.
    pub entries_crc: u32,
}

impl GptHeader {
    /// Parses the header in `sector`, read from `at`. Nothing from it is used before its checksum
    /// holds.
    pub(super) fn parse(sector: &[u8], at: Lba, geometry: Geometry) -> Result<Self, GptError> {
        let Some((raw, _)) = RawGptHeader::ref_from_prefix(sector)
            .ok()
            .filter(|(raw, _)| raw.signature == SIGNATURE)
        else {
            return Err(GptError::NoSignature { at });
        };
        let field = |field, actual: u64, good: bool, expected: &dyn Fn() -> String| {
            if good {
                Ok(())
            } else {
                Err(GptError::Field {
                    at,
                    field,
                    actual,
                    expected: expected(),
                })
            }
        };
        let header_bytes = raw.header_bytes.get();
        let covered = usize::try_from(header_bytes)
            .ok()
            .and_then(|len| sector.get(..len));
        let Some(covered) = covered.filter(|covered| covered.len() >= HEADER_BYTES) else {
            let expected = format!("{HEADER_BYTES} to {}", sector.len());
            return Err(GptError::Field {
                at,
                field: "size",
                actual: header_bytes.into(),
                expected,
            });
        };
        let mut zeroed = covered.to_vec();
        zeroed
            .iter_mut()
            .skip(CRC_AT)
            .take(4)
            .for_each(|byte| *byte = 0);
        let computed = crc32fast::hash(&zeroed);
        let actual = raw.header_crc.get();
        if computed != actual {
            return Err(GptError::Checksum {
                at,
                what: "header",
                actual,
                computed,
            });
        }
        let revision = raw.revision.get();
        field(
            "revision",
            revision.into(),
            revision == REVISION_1_0,
            &|| format!("{REVISION_1_0}"),
        )?;
        field(
            "own LBA",
            raw.my_lba.get(),
            raw.my_lba.get() == at.0,
            &|| format!("{}", at.0),
        )?;
        let usable = Extent::between(
            Lba(raw.first_usable.get()),
            Lba(raw.last_usable.get().saturating_add(1)),
        );
        let fits = usable.first < usable.end && geometry.whole().contains(&usable);
        field("last usable LBA", usable.last().0, fits, &|| {
            format!("at most {}", geometry.whole().last().0)
        })?;
        let entry_bytes = raw.entry_bytes.get();
        let good = entry_bytes >= 128 && entry_bytes.is_power_of_two();
        field("entry size", entry_bytes.into(), good, &|| {
            "128, 256, 512, …".into()
        })?;
        let bytes = u64::from(raw.entry_count.get()).saturating_mul(entry_bytes.into());
        field(
            "entry count",
            raw.entry_count.get().into(),
            bytes <= MAX_ENTRIES_BYTES,
            &|| format!("at most {MAX_ENTRIES_BYTES} bytes of entries"),
        )?;
        let header = Self {
            my_lba: at,
            alternate_lba: Lba(raw.alternate_lba.get()),
            usable,
            disk_id: Uuid::from_bytes_le(raw.disk_id),
            entries_lba: Lba(raw.entries_lba.get()),
            entry_count: raw.entry_count.get(),
            entry_bytes,
            entries_crc: raw.entries_crc.get(),
        };
        let entries = Extent::new(
            header.entries_lba,
            header
                .entries_len_bytes()
                .div_ceil(geometry.logical_sector.into()),
        );
        let fits = entries.is_some_and(|e| {
            e.first.0 >= 1 && geometry.whole().contains(&e) && !e.overlaps(&usable)
        });
        field("entries LBA", header.entries_lba.0, fits, &|| {
            "outside the usable sectors, on the disk".into()
        })?;
        Ok(header)
    }

    /// Bytes of the entries; bounded by the check in `parse`.
    pub(super) fn entries_len_bytes(&self) -> u64 {
        u64::from(self.entry_count).saturating_mul(self.entry_bytes.into())
    }

    /// The header as one sector of `logical_sector` bytes, its checksum made.
    pub(super) fn write(&self, logical_sector: u32) -> Vec<u8> {
        let mut raw = RawGptHeader::new_zeroed();
        raw.signature = SIGNATURE;
        raw.revision = U32::new(REVISION_1_0);
        raw.header_bytes = U32::new(92);
        raw.my_lba = U64::new(self.my_lba.0);
        raw.alternate_lba = U64::new(self.alternate_lba.0);
        raw.first_usable = U64::new(self.usable.first.0);
        raw.last_usable = U64::new(self.usable.last().0);
        raw.disk_id = self.disk_id.to_bytes_le();
        raw.entries_lba = U64::new(self.entries_lba.0);
        raw.entry_count = U32::new(self.entry_count);
        raw.entry_bytes = U32::new(self.entry_bytes);
        raw.entries_crc = U32::new(self.entries_crc);
        raw.header_crc = U32::new(crc32fast::hash(raw.as_bytes()));
        let mut sector = raw.as_bytes().to_vec();
        sector.resize(logical_sector as usize, 0);
        sector
    }
}
