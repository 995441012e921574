//! What SMBIOS says of a PC: manufacturer, model, firmware, whether UEFI is supported.
//!
//! Source: DMTF DSP0134 §5.2 (entry points), §7.1 (BIOS information; characteristics extension byte 2, bit 3: UEFI is
//! supported) and §7.2 (system information). The table is taken apart by the crate `smbioslib`; Linux
//! shows it as `/sys/firmware/dmi/tables/DMI`.

use crate::bytes::{u32_at, u64_at};
use smbioslib::{SMBiosData, SMBiosInformation, SMBiosString, SMBiosSystemInformation};

/// A longer text is a lie or a mistake.
const MAX_TEXT: usize = 64;

/// What manufacturers leave in the table where they have nothing to say.
const FILLERS: [&str; 8] = [
    "to be filled",
    "default string",
    "not specified",
    "not applicable",
    "system manufacturer",
    "system product name",
    "unknown",
    "none",
];

/// What a table tells; `None` where it does not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Smbios {
    pub(super) manufacturer: Option<String>,
    pub(super) model: Option<String>,
    pub(super) firmware: Option<String>,
    pub(super) date: Option<String>,
    /// A clear bit says nothing: firmware older than the bit, and some newer, leave it clear.
    pub(super) says_uefi: bool,
}

impl Smbios {
    /// What a table says; one that is not sensible says nothing.
    pub(super) fn parse(mut bytes: Vec<u8>) -> Self {
        // A dump may have the entry point in front, which says where in the dump the table begins.
        let table_at = if bytes.starts_with(b"_SM3_") {
            u64_at(&bytes, 0x10)
        } else if bytes.starts_with(b"_SM_") {
            u32_at(&bytes, 0x18).map(u64::from)
        } else {
            Some(0)
        };
        let table_at = table_at.and_then(|at| usize::try_from(at).ok());
        match table_at.filter(|at| *at < bytes.len()) {
            Some(at) => drop(bytes.drain(..at)),
            None => return Self::default(),
        }
        let data = SMBiosData::from_vec_and_version(bytes, None);
        let bios = data.first::<SMBiosInformation<'_>>();
        let system = data.first::<SMBiosSystemInformation<'_>>();
        let says_uefi = bios
            .as_ref()
            .and_then(SMBiosInformation::characteristics_extension1)
            .is_some_and(|extension| extension.uefi_specification_is_supported());
        let (vendor, version, date) = bios.map_or((None, None, None), |bios| {
            (
                text_of(bios.vendor()),
                text_of(bios.version()),
                text_of(bios.release_date()),
            )
        });
        let (manufacturer, model) = system.map_or((None, None), |system| {
            (
                text_of(system.manufacturer()),
                text_of(system.product_name()),
            )
        });
        let firmware = match (vendor, version) {
            (Some(vendor), Some(version)) => Some(format!("{vendor} {version}")),
            (vendor, version) => vendor.or(version),
        };
        Self {
            manufacturer,
            model,
            firmware,
            date,
            says_uefi,
        }
    }
}

/// A text that says something.
fn text_of(text: SMBiosString) -> Option<String> {
    let text = text.to_utf8_lossy()?;
    let text: String = text.trim().chars().take(MAX_TEXT).collect();
    let lower = text.to_lowercase();
    let is_filler = FILLERS.iter().any(|filler| lower.starts_with(filler));
    (!text.is_empty() && !is_filler).then_some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A table with a structure of type 0, `len` bytes long, its second extension byte as given; one of
    /// type 1; and the structure that ends a table.
    fn table(len: u8, extension: u8, texts: &str) -> Vec<u8> {
        let mut bios = vec![0; usize::from(len)];
        bios[1] = len;
        for (at, value) in [(4, 1), (5, 2), (8, 3), (0x13, extension)] {
            if let Some(byte) = bios.get_mut(at) {
                *byte = value;
            }
        }
        let mut system = [0; 0x1B];
        system[..6].copy_from_slice(&[1, 0x1B, 0, 1, 1, 2]);
        let texts = texts.replace('|', "\0") + "\0\0";
        let bios_texts = b"Northpier\x000.9\x0001/31/2014\0\0";
        [
            &bios[..],
            bios_texts,
            &system,
            texts.as_bytes(),
            &[127, 4, 1, 0, 0, 0],
        ]
        .concat()
    }

    fn entry_point(name: &[u8], field: usize, table_at: u8) -> [u8; 0x20] {
        let mut bytes = [0; 0x20];
        bytes[..name.len()].copy_from_slice(name);
        bytes[field] = table_at;
        bytes
    }

    #[test]
    fn a_table_tells_what_it_knows_and_nothing_else() {
        let full = table(0x18, 0x08, "Skerry Works|Tide Gauge 4");
        let some = |text: &str| Some(text.to_owned());
        let all = Smbios {
            manufacturer: some("Skerry Works"),
            model: some("Tide Gauge 4"),
            firmware: some("Northpier 0.9"),
            date: some("01/31/2014"),
            says_uefi: true,
        };
        let without = |edit: fn(&mut Smbios)| {
            let mut smbios = all.clone();
            edit(&mut smbios);
            smbios
        };
        let silent = |smbios: &mut Smbios| (smbios.manufacturer, smbios.model) = (None, None);
        let cases = [
            (full.clone(), all.clone()),
            // All other bits set; older than the byte.
            (
                table(0x18, 0xF7, "Skerry Works|Tide Gauge 4"),
                without(|s| s.says_uefi = false),
            ),
            (
                table(0x12, 0, "Skerry Works|Tide Gauge 4"),
                without(|s| s.says_uefi = false),
            ),
            // What means nothing, and text numbers that lead nowhere.
            (
                table(0x18, 8, "To be filled by O.E.M.|Default string"),
                without(silent),
            ),
            (table(0x18, 8, ""), without(silent)),
            // Cut off in the first structure, and in the second.
            (full[..9].to_vec(), Smbios::default()),
            (full[..60].to_vec(), without(silent)),
            // With either entry point in front, and with one that lies about where the table is.
            (
                [&entry_point(b"_SM_", 0x18, 0x20)[..], &full].concat(),
                all.clone(),
            ),
            (
                [&entry_point(b"_SM3_", 0x10, 0x20)[..], &full].concat(),
                all.clone(),
            ),
            (
                [&entry_point(b"_SM3_", 0x10, 0xFE)[..], &full].concat(),
                Smbios::default(),
            ),
            (b"_SM_".to_vec(), Smbios::default()),
            (Vec::new(), Smbios::default()),
            (vec![0; 5000], Smbios::default()),
            (vec![0xFF; 5000], Smbios::default()),
        ];
        for (bytes, expected) in cases {
            assert_eq!(Smbios::parse(bytes.clone()), expected, "{bytes:02X?}");
        }
    }

    #[test]
    fn no_cut_and_no_wrong_byte_stops_the_reader() {
        let full = table(0x18, 0x08, "Skerry Works|Tide Gauge 4");
        for at in 0..full.len() {
            Smbios::parse(full[..at].to_vec());
            for byte in [0, 1, 4, 0x7F, 0xFF] {
                let mut wrong = full.clone();
                wrong[at] = byte;
                Smbios::parse(wrong);
            }
        }
    }
}
