//! The marker: a small file on the new EFI system partition that says when and from what the disk
//! was converted, and which job folder can take it back. `confirm` needs it to tell what happened
//! before the conversion and what since, and `resume` and `undo` to tell the job folder from one that
//! has been edited or belongs to another job; nothing that starts the disk reads it.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Its place on the EFI system partition.
pub(crate) const MARKER: &str = "\\EFI\\Schwelle\\identities.json";
/// Longer than any marker.
pub(crate) const MAX_MARKER_BYTES: u64 = 64 << 10;
const FORM: u32 = 1;
/// Stands where the hash of the journal comes, which is known once all of it has been saved.
const NOT_KNOWN_YET: &str = "0000000000000000000000000000000000000000000000000000000000000000";

/// What the marker says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// Version of this form: 1.
    pub form: u32,
    /// BLAKE3 hash of the journal in the folder of the last job, in hex. Markers of older programs have none. Both
    /// hashes are within the first 512 bytes, and so in one sector.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub journal: Option<String>,
    /// The same of the conversion that made the marker, once another job has followed; zeros until then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub conversion: Option<String>,
    /// GUID of the disk.
    pub disk: Uuid,
    /// GUID of the EFI system partition.
    pub esp: Uuid,
    /// When the disk was converted: Windows time, 100 ns since 1601. The new BCD store and the
    /// registries that were edited carry it too.
    pub converted: u64,
    /// The systems on the disk.
    pub systems: Vec<SystemMarker>,
}

/// What a system's registry said before.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SystemMarker {
    /// GUID of its partition.
    pub partition: Uuid,
    /// The partition that its firmware last started from, as an ARC name.
    pub firmware_boot_device: Option<String>,
}

impl Marker {
    /// A marker of this form.
    pub fn new(disk: Uuid, esp: Uuid, converted: u64, systems: Vec<SystemMarker>) -> Self {
        Self {
            form: FORM,
            journal: Some(NOT_KNOWN_YET.to_owned()),
            conversion: Some(NOT_KNOWN_YET.to_owned()),
            disk,
            esp,
            converted,
            systems,
        }
    }

    /// Its bytes.
    pub fn write(&self) -> Vec<u8> {
        serde_json::to_vec_pretty(self).unwrap_or_default()
    }

    /// The hashes of the journals that the disk proves: of the last job, and of the conversion.
    pub(crate) fn hashes(self) -> impl Iterator<Item = String> {
        let hashes = self.journal.into_iter().chain(self.conversion);
        hashes.filter(|hash| hash != NOT_KNOWN_YET)
    }

    /// Makes room in the bytes of a marker for the hash of a journal: the last job's goes to the conversion's place, if
    /// nothing is there yet. Returns where the new one comes, and whether a job's was there; `None` if the bytes are no
    /// marker with such a place.
    pub(crate) fn make_room(bytes: &mut [u8]) -> Option<(usize, bool)> {
        let marker = Self::parse(bytes)?;
        let journal = marker
            .journal
            .filter(|hash| hash.len() == NOT_KNOWN_YET.len())?;
        let at = place_of(bytes, &journal)?;
        let behind = at.checked_add(journal.len())?;
        let is_taken = journal != NOT_KNOWN_YET;
        if is_taken
            && marker.conversion.as_deref() == Some(NOT_KNOWN_YET)
            && let Some(rest) = bytes.get_mut(behind..)
            && let Some(first) = place_of(rest, NOT_KNOWN_YET)
            && let Some(place) = rest.get_mut(first..first.checked_add(journal.len())?)
        {
            place.copy_from_slice(journal.as_bytes());
        }
        bytes
            .get_mut(at..behind)?
            .copy_from_slice(NOT_KNOWN_YET.as_bytes());
        Some((at, is_taken))
    }

    /// Reads one; `None` for anything else.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let marker: Self = serde_json::from_slice(bytes).ok()?;
        (marker.form == FORM).then_some(marker)
    }
}

fn place_of(bytes: &[u8], wanted: &str) -> Option<usize> {
    let wanted = wanted.as_bytes();
    bytes.windows(wanted.len()).position(|text| text == wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_hash_of_the_conversion_stays_when_other_jobs_follow() {
        let mut bytes = Marker::new(Uuid::nil(), Uuid::nil(), 5, Vec::new()).write();
        let len = bytes.len();
        let hash = |digit: char| digit.to_string().repeat(64);
        let mut seen = Vec::new();
        for digit in ['a', 'b', 'c'] {
            let (at, _) = Marker::make_room(&mut bytes).unwrap();
            assert!(at + 64 <= 512 && place_of(&bytes, "\"disk\"").unwrap() < 512);
            bytes[at..at + 64].copy_from_slice(hash(digit).as_bytes());
            seen.push(Marker::parse(&bytes).unwrap().hashes().collect::<Vec<_>>());
        }
        let [a, b, c] = ['a', 'b', 'c'].map(hash);
        assert_eq!(seen, [vec![a.clone()], vec![b, a.clone()], vec![c, a]]);
        assert_eq!(bytes.len(), len);
        assert_eq!(Marker::make_room(&mut b"no marker".to_vec()), None);
    }
}
