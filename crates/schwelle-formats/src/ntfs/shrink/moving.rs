//! Where clusters go: new places for what lies beyond the new end, and the runlists that follow.

use super::editor::with_runs;
use super::plan::{Affected, MIRROR, Shrink, ShrinkError, TABLE};
use crate::ntfs::attribute::{COMPRESSED, kind};
use crate::ntfs::runlist::{Lcn, Run, Vcn, join};

/// Clusters of a compression unit.
const COMPRESSION_UNIT: u64 = 16;

impl Shrink<'_> {
    pub(super) fn move_attribute(&mut self, found: Affected) -> Result<(), ShrinkError> {
        let (attribute, runs) = self.attribute(found.record, found.id)?;
        let whole = found.record == MIRROR;
        if runs.iter().all(|run| self.behind(run) == 0) {
            return Ok(());
        }
        let grain = if found.record == TABLE && found.kind == kind::DATA {
            let shape = self.volume.shape();
            u64::from(shape.record_bytes / shape.cluster_bytes.min(shape.record_bytes))
        } else if attribute.flags & COMPRESSED != 0 {
            COMPRESSION_UNIT
        } else {
            1
        };
        // The boot code and the first steps of a mount follow simple runlists only.
        let in_one = whole || found.kind == kind::ATTRIBUTE_LIST;
        let new = self.relocate(&runs, grain, (whole, in_one));
        let new = new.ok_or_else(|| {
            self.in_the_way(
                found.record,
                "there is no free stretch for it before the new end",
            )
        })?;
        self.plan.pieces += 1;
        self.put_runs(found.record, found.id, &new)
    }

    /// Finds new places for all clusters beyond the new end. `whole`: for all clusters of a file
    /// that has any there. `in_one`: in one stretch or not at all.
    fn relocate(
        &mut self,
        runs: &[Run],
        grain: u64,
        (whole, in_one): (bool, bool),
    ) -> Option<Vec<Run>> {
        let limit = self.limit;
        // Each run in two: what stays, and what goes.
        let mut parts: Vec<(Run, bool)> = Vec::new();
        for run in runs {
            let Some(Lcn(first)) = run.lcn else {
                parts.push((*run, false));
                continue;
            };
            let mut stays = limit.saturating_sub(first).min(run.clusters);
            if whole {
                stays = 0;
            } else if stays < run.clusters {
                // A grain is not torn where that can be helped.
                let over = run.vcn.0.saturating_add(stays) % grain;
                stays = stays.saturating_sub(over);
            }
            let cut = |from: u64, clusters: u64| Run {
                vcn: Vcn(run.vcn.0.saturating_add(from)),
                clusters,
                lcn: Some(Lcn(first.saturating_add(from))),
            };
            parts.push((cut(0, stays), false));
            parts.push((cut(stays, run.clusters - stays), true));
        }
        parts.retain(|(run, _)| run.clusters > 0);
        let mut new: Vec<Run> = Vec::new();
        let mut rest = &parts[..];
        while let Some(((run, goes), tail)) = rest.split_first() {
            if !goes {
                new.push(*run);
                rest = tail;
                continue;
            }
            // Parts that go and follow one another in the file go into one stretch.
            let len = rest.iter().take_while(|(_, goes)| *goes).count();
            let (going, tail) = rest.split_at_checked(len)?;
            rest = tail;
            for (run, _) in going {
                let old = run.volume_clusters();
                self.space
                    .give_back(old.start.min(limit)..old.end.min(limit));
            }
            let clusters = going.iter().map(|(run, _)| run.clusters).sum();
            let places = if in_one {
                vec![(self.space.take_whole(clusters)?, clusters)]
            } else {
                let pieces = self.space.take(clusters, grain);
                // A compression unit in pieces is read right as well; a file record is not by all.
                let mut torn = || {
                    self.space
                        .take(clusters, 1)
                        .filter(|_| grain == COMPRESSION_UNIT)
                };
                match pieces {
                    Some(pieces) => pieces,
                    None => torn()?,
                }
            };
            self.assign(going, &places, &mut new);
        }
        Some(join(new))
    }

    /// Puts runs into places of the same total length, and notes what moves.
    fn assign(&mut self, going: &[(Run, bool)], places: &[(Lcn, u64)], new: &mut Vec<Run>) {
        let mut places = places.iter().copied();
        let mut place = places.next();
        for (run, _) in going {
            let mut done = 0;
            while done < run.clusters {
                let Some((Lcn(to), room)) = place else { return };
                let take = room.min(run.clusters - done);
                let from = run.volume_clusters().start.saturating_add(done);
                new.push(Run {
                    vcn: Vcn(run.vcn.0.saturating_add(done)),
                    clusters: take,
                    lcn: Some(Lcn(to)),
                });
                self.moved.insert(from, (take, to));
                done += take;
                place = if take == room {
                    places.next()
                } else {
                    Some((Lcn(to.saturating_add(take)), room - take))
                };
            }
        }
    }

    /// Gives an attribute its new runs, in its record where there is room.
    pub(super) fn put_runs(
        &mut self,
        number: u64,
        id: u16,
        runs: &[Run],
    ) -> Result<(), ShrinkError> {
        let (attribute, _) = self.attribute(number, id)?;
        let editor = self.editor(number)?;
        let new = with_runs(editor.part(attribute.place.clone()), id, runs);
        if let Some(new) = new
            && editor.replace(attribute.place, &new)
        {
            return Ok(());
        }
        self.spill(number, id, runs)
    }
}
