//! What the file system keeps of its own size: the bitmap and the list of bad clusters.

use super::editor::{set_sizes, with_runs};
use super::plan::{BAD_CLUSTERS, BAD_STREAM, BITMAP, Shrink, ShrinkError};
use crate::ntfs::attribute::{Attribute, Body, kind};
use crate::ntfs::runlist::{Run, join};

impl Shrink<'_> {
    /// The runs of the bitmap up to its new length.
    fn within_bitmap(&self, runs: &[Run]) -> Vec<Run> {
        let clusters = self.bitmap_bytes().div_ceil(self.cluster_bytes());
        let short = runs.iter().map(|run| Run {
            clusters: run.clusters.min(clusters.saturating_sub(run.vcn.0)),
            ..*run
        });
        join(short)
    }

    pub(super) fn shorten_bitmap(&mut self) -> Result<(), ShrinkError> {
        let number = BITMAP;
        let (attribute, runs) = self.only_part(number, "")?;
        let short = self.within_bitmap(&runs);
        let kept = short.last().map_or(0, |run| run.end_vcn().0);
        for run in &runs {
            let from = kept.clamp(run.vcn.0, run.end_vcn().0) - run.vcn.0;
            let clusters = run.volume_clusters();
            self.space
                .give_back(clusters.start.saturating_add(from)..clusters.end.min(self.limit));
        }
        let (len_bytes, cluster) = (self.bitmap_bytes(), self.cluster_bytes());
        self.resize(
            number,
            &attribute,
            &short,
            kept.saturating_mul(cluster),
            len_bytes,
        )
    }

    pub(super) fn shorten_bad_clusters(&mut self) -> Result<(), ShrinkError> {
        let number = BAD_CLUSTERS;
        let (attribute, runs) = self.only_part(number, BAD_STREAM)?;
        let limit = self.limit;
        let short = join(runs.iter().map(|run| Run {
            clusters: run.clusters.min(limit.saturating_sub(run.vcn.0)),
            ..*run
        }));
        let bytes = limit.saturating_mul(self.cluster_bytes());
        self.resize(number, &attribute, &short, bytes, bytes)
    }

    fn resize(
        &mut self,
        number: u64,
        attribute: &Attribute,
        runs: &[Run],
        allocated: u64,
        len_bytes: u64,
    ) -> Result<(), ShrinkError> {
        let full = self.in_the_way(number, "its record has no room");
        let editor = self.editor(number)?;
        let pattern = editor.part(attribute.place.clone());
        let Some(mut new) = with_runs(pattern, attribute.id, runs) else {
            return Err(full);
        };
        if set_sizes(&mut new, allocated, len_bytes).is_none() {
            return Err(full);
        }
        if editor.replace(attribute.place.clone(), &new) {
            Ok(())
        } else {
            Err(full)
        }
    }

    /// A data stream of the file system's own that is whole in its base record, as it always is.
    fn only_part(&mut self, number: u64, name: &str) -> Result<(Attribute, Vec<Run>), ShrinkError> {
        let strange = "its clusters are described in a form not known here";
        let strange = self.in_the_way(number, strange);
        let attributes = self.editor(number)?.attributes();
        let in_parts = attributes
            .iter()
            .any(|attribute| attribute.kind == kind::ATTRIBUTE_LIST);
        let found = attributes
            .into_iter()
            .find(|found| found.kind == kind::DATA && found.name == name);
        match found {
            Some(found) if !in_parts && matches!(found.body, Body::NonResident { .. }) => {
                self.attribute(number, found.id)
            }
            _ => Err(strange),
        }
    }
}
