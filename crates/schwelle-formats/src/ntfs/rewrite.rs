//! Plans for giving a file other content of the same length, where it lies.

use super::NtfsError;
use super::attribute::{Body, kind};
use super::fixup;
use super::shrink::Patch;
use super::stream::Content;
use super::volume::NtfsVolume;
use crate::bytes::ReadBytes;

/// As much is compared, and patched, at a time: a sector of any disk.
const PIECE_BYTES: usize = 4096;

impl NtfsVolume<'_> {
    /// What must be written on the volume so that the file with this record number holds `new`,
    /// which is as long as its content. Clusters, sizes and times stay as they are. Only pieces
    /// that differ are named.
    pub fn plan_rewrite(&self, number: u64, new: &[u8]) -> Result<Vec<Patch>, NtfsError> {
        let file = self.open_file(number)?;
        let unsupported = |what| NtfsError::Unsupported {
            record: number,
            what,
        };
        if file.len_bytes() != new.len() as u64 {
            return Err(unsupported("the new content has another length"));
        }
        match &file.content {
            Content::Resident(_) => self.plan_resident(number, new),
            Content::Clusters {
                runs,
                initialized_len,
            } => {
                let old = file.read_all(file.len_bytes())?;
                let mut patches = Vec::new();
                let places = (0u64..).step_by(PIECE_BYTES);
                for (at, (old, new)) in
                    places.zip(old.chunks(PIECE_BYTES).zip(new.chunks(PIECE_BYTES)))
                {
                    if old == new {
                        continue;
                    }
                    if at.saturating_add(new.len() as u64) > *initialized_len {
                        return Err(unsupported("the place to be edited was never written"));
                    }
                    // A piece may lie in several runs: clusters can be smaller.
                    let cluster = self.shape().cluster_bytes as usize;
                    let parts = (at..).step_by(cluster.min(PIECE_BYTES));
                    for (at, bytes) in parts.zip(new.chunks(cluster.min(PIECE_BYTES))) {
                        let place = runs.iter().find_map(|run| {
                            let first = self.shape().byte_in_file(run.vcn)?;
                            let end = self.shape().byte_in_file(run.end_vcn())?;
                            let start = self.shape().byte_of(run.lcn?)?;
                            (first..end)
                                .contains(&at)
                                .then(|| start.checked_add(at.checked_sub(first)?))?
                        });
                        let offset = place.ok_or_else(|| {
                            unsupported("the place to be edited is a hole in the file")
                        })?;
                        patches.push(Patch {
                            offset,
                            bytes: bytes.to_vec(),
                        });
                    }
                }
                Ok(patches)
            }
            Content::Compressed { .. } | Content::Overlay(_) => Err(unsupported(
                "the file is compressed and cannot be edited in place",
            )),
        }
    }

    /// The content lies in the file's own record.
    fn plan_resident(&self, number: u64, new: &[u8]) -> Result<Vec<Patch>, NtfsError> {
        let mut record = self.record(number)?;
        let own = |attribute: &&super::attribute::Attribute| {
            attribute.kind == kind::DATA && attribute.name.is_empty()
        };
        let place = match record.attributes.iter().find(own).map(|a| &a.body) {
            Some(Body::Resident(place)) => place.clone(),
            _ => return Err(self.fault(number, "its content lies in another record")),
        };
        let bytes = record.bytes.to_mut();
        let Some(content) = bytes.get_mut(place).filter(|old| old.len() == new.len()) else {
            return Err(self.fault(number, "has content of another length"));
        };
        if content == new {
            return Ok(Vec::new());
        }
        content.copy_from_slice(new);
        fixup::protect(bytes);
        let outside = || self.fault(number, "outside the MFT");
        // A record larger than a cluster may lie in pieces.
        let piece = self.shape().record_bytes.min(self.shape().cluster_bytes) as usize;
        let first = number.checked_mul(self.shape().record_bytes.into());
        let first = first.ok_or_else(outside)?;
        (first..)
            .step_by(piece)
            .zip(bytes.chunks(piece))
            .map(|(at, bytes)| {
                Ok(Patch {
                    offset: self.table_offset(at).ok_or_else(outside)?,
                    bytes: bytes.to_vec(),
                })
            })
            .collect()
    }
}
