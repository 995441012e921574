//! `ReAgent.xml`: where the recovery environment lies, and whether it is switched on.
//!
//! Each location is an element with a path and a disk: on an MBR disk `id` is the disk's signature
//! in decimal and `guid` is zero, on a GPT disk it is the other way round; `offset` is the byte
//! offset of the partition in both.

use std::ops::Range;

use quick_xml::events::{BytesStart, Event};
use quick_xml::{Reader, XmlVersion};
use uuid::Uuid;

use crate::bytes::{utf16_bytes, utf16_lossy};
use crate::cause::Cause;
use crate::identities::{Identities, Style};
use crate::ntfs::{NtfsError, NtfsVolume};

/// The file, on the volume of its Windows.
pub const RECOVERY_CONFIG: &str = "\\Windows\\System32\\Recovery\\ReAgent.xml";
/// Such a file is some kilobytes long.
const MAX_BYTES: u64 = 1 << 20;
/// Elements of the file, at most; real files have some twenty.
const MAX_ELEMENTS: usize = 1000;
const UTF16_MARK: [u8; 2] = [0xFF, 0xFE];
/// The byte order mark, as a character.
const BYTE_ORDER_MARK: char = '\u{FEFF}';

/// Why the configuration cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the recovery configuration, at byte {at}: {fault}")]
pub struct RecoveryConfigError {
    /// Byte of the text.
    pub at: u64,
    /// What is wrong.
    pub fault: RecoveryConfigFault,
}

/// What is wrong with the configuration.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RecoveryConfigFault {
    /// It is no text in UTF-8 or UTF-16.
    #[error("not text")]
    NotText,
    /// It is no XML.
    #[error("{0}")]
    Xml(Cause),
    /// It has more elements than any such file.
    #[error("it has more elements than any such file")]
    TooLong,
    /// An offset is no number.
    #[error("an offset is no number")]
    Offset,
    /// A disk's signature is no number.
    #[error("a disk's signature is no number")]
    Signature,
}

impl RecoveryConfigFault {
    fn xml(error: impl std::error::Error) -> Self {
        Self::Xml(error.into())
    }
}

/// Why the configuration cannot be edited.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RecoveryEditError {
    /// An element is not written as it should be.
    #[error("its element {element} has another form")]
    OtherForm {
        /// Which.
        element: String,
    },
    /// The file would have to become longer.
    #[error("it has no {needed} blanks to spare for the disk's new name")]
    NoRoom {
        /// Characters that are missing.
        needed: usize,
    },
}

/// The disk that a location names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RecoveryDisk {
    /// None.
    None,
    /// An MBR disk, by its signature.
    Mbr(u32),
    /// A GPT disk, by its GUID.
    Gpt(Uuid),
}

/// A location that the configuration names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecoveryLocation {
    /// Name of the element.
    pub element: String,
    /// Path on the partition; empty where nothing is set.
    pub path: String,
    /// The disk.
    pub disk: RecoveryDisk,
    /// Byte offset of the partition.
    pub offset: u64,
    /// The element's name and attributes, in the text.
    tag: Range<usize>,
}

/// The configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecoveryConfig {
    /// Whether the environment is switched on; `None` when the file does not say.
    pub enabled: Option<bool>,
    /// The BCD store's entry for it.
    pub entry: Option<Uuid>,
    /// All locations.
    pub locations: Vec<RecoveryLocation>,
    text: String,
    is_utf16: bool,
    has_mark: bool,
}

/// The configuration's file on a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecoveryFile {
    /// Number of its file record.
    pub record: u64,
    /// What it says; else why it cannot be read.
    pub config: Result<RecoveryConfig, Cause>,
    /// It can be edited where it lies.
    pub is_editable: bool,
}

impl RecoveryFile {
    /// Looks for the file that an installed Windows goes by; `None` where there is none.
    pub fn find(volume: &NtfsVolume<'_>) -> Result<Option<Self>, NtfsError> {
        Self::find_at(volume, RECOVERY_CONFIG)
    }

    /// Looks for such a file at another place: a copy may lie beside the recovery image.
    pub fn find_at(volume: &NtfsVolume<'_>, path: &str) -> Result<Option<Self>, NtfsError> {
        let entry = volume.find(path)?;
        let Some(entry) = entry.filter(|entry| !entry.is_directory) else {
            return Ok(None);
        };
        let record = entry.record;
        let content = volume
            .open_file(record)
            .and_then(|file| file.read_all(MAX_BYTES));
        Ok(Some(match content {
            Ok(content) => {
                // Any other content shows whether its place can be written.
                let other: Vec<u8> = content.iter().map(|byte| byte ^ 1).collect();
                Self {
                    record,
                    config: RecoveryConfig::parse(&content).map_err(Cause::from),
                    is_editable: volume.plan_rewrite(record, &other).is_ok(),
                }
            }
            Err(error) => Self {
                record,
                config: Err(error.into()),
                is_editable: false,
            },
        }))
    }
}

impl RecoveryConfig {
    /// Reads the file's content.
    pub fn parse(bytes: &[u8]) -> Result<Self, RecoveryConfigError> {
        let fault = |at: u64, fault: RecoveryConfigFault| RecoveryConfigError { at, fault };
        let is_utf16 = bytes.starts_with(&UTF16_MARK);
        let text = if is_utf16 {
            utf16_lossy(bytes)
        } else {
            let text = std::str::from_utf8(bytes);
            text.map_err(|error| fault(error.valid_up_to() as u64, RecoveryConfigFault::NotText))?
                .to_owned()
        };
        let mut config = Self {
            enabled: None,
            entry: None,
            locations: Vec::new(),
            text: String::new(),
            is_utf16,
            has_mark: false,
        };
        // Places are counted from after the byte order mark.
        let bare = text.strip_prefix(BYTE_ORDER_MARK).unwrap_or(&text);
        config.has_mark = bare.len() < text.len();
        let mut reader = Reader::from_str(bare);
        for _ in 0..MAX_ELEMENTS {
            let event = reader.read_event();
            let end = reader.buffer_position();
            let event = event
                .map_err(|error| fault(reader.error_position(), RecoveryConfigFault::xml(error)))?;
            // After the tag's content stands ">" or "/>".
            let (tag, behind) = match &event {
                Event::Start(tag) => (tag, 1),
                Event::Empty(tag) => (tag, 2),
                Event::Eof => {
                    drop(event);
                    config.text = bare.to_owned();
                    return Ok(config);
                }
                _ => continue,
            };
            let end = usize::try_from(end)
                .unwrap_or(usize::MAX)
                .saturating_sub(behind);
            let place = end.saturating_sub(tag.len())..end;
            config
                .take(tag, place)
                .map_err(|what| fault(end as u64, what))?;
        }
        Err(fault(0, RecoveryConfigFault::TooLong))
    }

    fn take(
        &mut self,
        tag: &BytesStart<'_>,
        place: Range<usize>,
    ) -> Result<(), RecoveryConfigFault> {
        let attribute = |name: &str| -> Result<Option<String>, RecoveryConfigFault> {
            let found = tag
                .try_get_attribute(name)
                .map_err(RecoveryConfigFault::xml)?;
            let value = found.map(|found| {
                found
                    .normalized_value(XmlVersion::Implicit1_0)
                    .map(|value| value.into_owned())
            });
            value.transpose().map_err(RecoveryConfigFault::xml)
        };
        let element = tag.name().as_ref().to_owned();
        let guid = |text: &str| Uuid::try_parse(text.trim_matches(['{', '}'])).ok();
        match &element[..] {
            "InstallState" => {
                self.enabled = attribute("state")?.map(|state| state.trim() == "1");
            }
            "WinreBCD" => {
                self.entry = attribute("id")?.as_deref().and_then(guid);
                self.entry = self.entry.filter(|entry| !entry.is_nil());
            }
            _ => {
                let parts = (
                    attribute("path")?,
                    attribute("id")?,
                    attribute("offset")?,
                    attribute("guid")?,
                );
                // An old form has no GUID.
                let (Some(path), Some(id), Some(offset), disk) = parts else {
                    return Ok(());
                };
                let number = |text: &str| text.trim().parse::<u64>().ok();
                let offset = number(&offset).ok_or(RecoveryConfigFault::Offset)?;
                let id = number(&id).and_then(|id| u32::try_from(id).ok());
                let id = id.ok_or(RecoveryConfigFault::Signature)?;
                let disk = disk.as_deref().and_then(guid);
                let disk = match disk.filter(|guid| !guid.is_nil()) {
                    Some(disk) => RecoveryDisk::Gpt(disk),
                    None if id != 0 => RecoveryDisk::Mbr(id),
                    None => RecoveryDisk::None,
                };
                self.locations.push(RecoveryLocation {
                    element,
                    path,
                    disk,
                    offset,
                    tag: place,
                });
            }
        }
        Ok(())
    }

    /// Where the environment lies that is in use.
    pub fn location(&self) -> Option<&RecoveryLocation> {
        let mut set = self.locations.iter();
        set.find(|location| location.element == "WinreLocation" && !location.path.is_empty())
    }

    /// The file with every location on this disk in its new form, as long as before: what the form saves
    /// is filled with blanks inside the element, what it needs comes from blanks there and between
    /// elements. `None` when nothing names this disk. The error says what cannot be edited so.
    pub fn converted(&self, identities: &Identities) -> Option<Result<Vec<u8>, RecoveryEditError>> {
        let mut text = self.text.clone();
        let mut found = false;
        // From the last one on, so that the places of the others stay.
        for location in self.locations.iter().rev() {
            let Some(disk) = location.converted(identities) else {
                continue;
            };
            found = true;
            let tag = text.get(location.tag.clone());
            let Some(new) = tag.and_then(|tag| with_disk(tag, disk)) else {
                let element = location.element.clone();
                return Some(Err(RecoveryEditError::OtherForm { element }));
            };
            text.replace_range(location.tag.clone(), &new);
        }
        let too_long = text.len().saturating_sub(self.text.len());
        if found && !take_blanks(&mut text, too_long) {
            return Some(Err(RecoveryEditError::NoRoom { needed: too_long }));
        }
        found.then(|| {
            if self.has_mark {
                text.insert(0, BYTE_ORDER_MARK);
            }
            Ok(if self.is_utf16 {
                utf16_bytes(&text)
            } else {
                text.into_bytes()
            })
        })
    }
}

impl RecoveryLocation {
    /// The disk's new name, where this is on a partition that is carried over.
    fn converted(&self, identities: &Identities) -> Option<RecoveryDisk> {
        identities.partition(identities.signature, self.offset)?;
        match (identities.to, self.disk) {
            (Style::Gpt, RecoveryDisk::Mbr(signature)) if signature == identities.signature => {
                Some(RecoveryDisk::Gpt(identities.disk))
            }
            (Style::Mbr, RecoveryDisk::Gpt(disk)) if disk == identities.disk => {
                Some(RecoveryDisk::Mbr(identities.signature))
            }
            _ => None,
        }
    }
}

/// Takes so many blanks out of what stands between elements, from the end on; false where there are not
/// enough. Line breaks stay.
fn take_blanks(text: &mut String, mut count: usize) -> bool {
    let mut end = text.len();
    while count > 0 {
        let Some(start) = text.get(..end).and_then(|text| text.rfind('>')) else {
            return false;
        };
        let between = start.saturating_add(1)..end;
        if let Some(blanks) = text.get(between.clone()).and_then(|text| {
            let (blanks, _) = text.split_once('<')?;
            blanks
                .chars()
                .all(char::is_whitespace)
                .then(|| blanks.to_owned())
        }) {
            let mut kept = String::new();
            for letter in blanks.chars() {
                match letter {
                    ' ' | '\t' if count > 0 => count -= 1,
                    other => kept.push(other),
                }
            }
            let place = between.start..between.start.saturating_add(blanks.len());
            text.replace_range(place, &kept);
        }
        end = start;
    }
    true
}

/// An element's name and attributes with another disk. It is no shorter than before: blanks fill it. Blanks
/// at its end are used where it needs more.
fn with_disk(tag: &str, disk: RecoveryDisk) -> Option<String> {
    let (id, guid) = match disk {
        RecoveryDisk::None => (0, Uuid::nil()),
        RecoveryDisk::Mbr(signature) => (signature, Uuid::nil()),
        RecoveryDisk::Gpt(disk) => (0, disk),
    };
    let value = |name: &str| {
        let start = tag.find(&format!(" {name}=\""))? + name.len() + 3;
        let len = tag.get(start..)?.find('"')?;
        Some(start..start + len)
    };
    let mut changes = [
        (value("id")?, id.to_string()),
        (value("guid")?, format!("{{{guid}}}")),
    ];
    changes.sort_by_key(|(place, _)| std::cmp::Reverse(place.start));
    let mut new = tag.to_owned();
    for (place, text) in changes {
        new.replace_range(place, &text);
    }
    while new.len() > tag.len() && new.ends_with(' ') {
        new.pop();
    }
    let blanks = tag.len().saturating_sub(new.len());
    new.extend(std::iter::repeat_n(' ', blanks));
    Some(new)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CONFIG: &str = "<?xml version='1.0' encoding='utf-8'?>\r\n\r\n<WindowsRE version=\"2.0\">\r\n  \
        <WinreBCD id=\"{3d8f5a10-61c2-4b7e-9a44-0c5e9b1f7703}\"/>\r\n  \
        <WinreLocation path=\"\\Recovery\\WindowsRE\" id=\"1371776997\" offset=\"1048576\" guid=\"{00000000-0000-0000-0000-000000000000}\"/>\r\n  \
        <ImageLocation path=\"\" id=\"0\" offset=\"0\" guid=\"{00000000-0000-0000-0000-000000000000}\"/>\r\n  \
        <PBRImageLocation path=\"\\old\" id=\"77\" offset=\"1048576\" guid=\"{00000000-0000-0000-0000-000000000000}\" index=\"0\"/>\r\n  \
        <InstallState state=\"1\"/>\r\n</WindowsRE>\r\n";

    fn identities() -> Identities {
        Identities {
            to: Style::Gpt,
            signature: 0x51C3_A7E5,
            disk: Uuid::from_u128(0xD15C),
            esp: Uuid::from_u128(2),
            partitions: vec![(1 << 20, Uuid::from_u128(7))],
        }
    }

    #[test]
    fn the_location_on_this_disk_crosses_in_the_same_length() {
        let wide = [&UTF16_MARK[..], &utf16_bytes(CONFIG)].concat();
        let marked = format!("{BYTE_ORDER_MARK}{CONFIG}");
        for bytes in [CONFIG.as_bytes(), marked.as_bytes(), &wide] {
            let config = RecoveryConfig::parse(bytes).unwrap();
            assert_eq!(config.enabled, Some(true));
            assert_eq!(
                config.location().unwrap().disk,
                RecoveryDisk::Mbr(0x51C3_A7E5)
            );
            let converted = config.converted(&identities()).unwrap().unwrap();
            assert_eq!(converted.len(), bytes.len());
            let after = RecoveryConfig::parse(&converted).unwrap();
            let disks: Vec<_> = after.locations.iter().map(|place| place.disk).collect();
            let gpt = RecoveryDisk::Gpt(Uuid::from_u128(0xD15C));
            assert_eq!(disks, [gpt, RecoveryDisk::None, RecoveryDisk::Mbr(77)]);
            assert_eq!(after.location().unwrap().offset, 1 << 20);
            assert!(after.converted(&identities()).is_none());
            // And back: the blanks are there from the way there.
            let back = Identities {
                to: Style::Mbr,
                ..identities()
            };
            assert_eq!(after.converted(&back), Some(Ok(bytes.to_vec())));
        }
    }

    #[test]
    fn a_longer_name_takes_the_blanks_between_the_elements() {
        let disk = Uuid::from_u128(0xD15C);
        let gpt = CONFIG.replace("1371776997", "0").replacen(
            &format!("{{{}}}", Uuid::nil()),
            &format!("{{{disk}}}"),
            1,
        );
        let back = Identities {
            to: Style::Mbr,
            ..identities()
        };
        let config = RecoveryConfig::parse(gpt.as_bytes()).unwrap();
        let converted = config.converted(&back).unwrap().unwrap();
        assert_eq!(converted.len(), gpt.len());
        let after = RecoveryConfig::parse(&converted).unwrap();
        let disks: Vec<_> = after.locations.iter().map(|place| place.disk).collect();
        let mbr = RecoveryDisk::Mbr;
        assert_eq!(disks, [mbr(0x51C3_A7E5), RecoveryDisk::None, mbr(77)]);
        assert_eq!((after.enabled, after.entry), (config.enabled, config.entry));
        let dense = gpt.replace("  ", "").replace(" />", "/>");
        let config = RecoveryConfig::parse(dense.as_bytes()).unwrap();
        let error = config.converted(&back).unwrap().unwrap_err();
        assert_eq!(error, RecoveryEditError::NoRoom { needed: 9 });
    }

    #[test]
    fn what_is_no_configuration_is_an_error() {
        let no_number = CONFIG.replace("1371776997", "x");
        let unclosed = &CONFIG[..200];
        for text in [&no_number[..], unclosed, "<a b=\"c", "<!-- "] {
            assert!(RecoveryConfig::parse(text.as_bytes()).is_err(), "{text}");
        }
        assert!(RecoveryConfig::parse(&[0xC3, 0x28, 0x80]).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn damage_does_not_panic(hits in prop::collection::vec((0usize..700, any::<u8>()), 0..6), end in 0usize..700) {
            let mut bytes = CONFIG.as_bytes().to_vec();
            bytes.truncate(end);
            let len = bytes.len().max(1);
            hits.into_iter().for_each(|(at, byte)| if let Some(place) = bytes.get_mut(at % len) { *place = byte });
            if let Ok(config) = RecoveryConfig::parse(&bytes)
                && let Some(Ok(converted)) = config.converted(&identities())
            {
                prop_assert_eq!(converted.len(), bytes.len());
            }
        }
    }
}
