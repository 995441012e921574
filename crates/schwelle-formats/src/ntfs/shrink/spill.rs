//! A runlist that has outgrown its record: its parts go to extension records, and the file's
//! attribute list names them.

use super::editor::{Editor, outside_list, resident_list, with_runs};
use super::list::{self, Item};
use super::plan::{Shrink, ShrinkError, TABLE};
use crate::ntfs::attribute::{Body, kind};
use crate::ntfs::attribute_list::{MAX_LIST_BYTES, record_number};
use crate::ntfs::runlist::{Lcn, Run, Vcn};

/// Room that a new attribute list needs in its record when it lies outside: header and one run.
const OUTSIDE_LIST_BYTES: usize = 0x50;
/// Lists in clusters get room to grow in place.
const LIST_ROOM: u64 = 2;

impl Shrink<'_> {
    /// Puts the runs of an attribute into as many records as they need. Where it stays in its
    /// record, that keeps the first part; a file's base record gives it up, so that there is room
    /// for the attribute list. The MFT's first part has to stay: with it, everything
    /// else is found.
    pub(super) fn spill(&mut self, number: u64, id: u16, runs: &[Run]) -> Result<(), ShrinkError> {
        let (attribute, _) = self.attribute(number, id)?;
        let editor = self.editor(number)?;
        let pattern = editor.part(attribute.place.clone()).to_vec();
        let own = editor.reference(number);
        let base_reference = match editor.base_reference() {
            0 => own,
            base => base,
        };
        let base = record_number(base_reference);
        if attribute.kind == kind::ATTRIBUTE_LIST {
            return Err(self.in_the_way(number, "its attribute list has no room"));
        }
        let mut items = self.list_of(base)?;
        let at = items
            .iter()
            .position(|item| item.names(own, id))
            .ok_or_else(|| self.in_the_way(number, "its attribute list does not name it"))?;
        let entry = items.remove(at);
        let mut parts: Vec<Item> = Vec::new();
        let mut rest = runs.to_vec();
        if number != base || base == TABLE {
            let editor = self.editor(number)?;
            let list = if number == base {
                OUTSIDE_LIST_BYTES
            } else {
                0
            };
            let room = editor
                .free_bytes()
                .saturating_add(attribute.place.len())
                .saturating_sub(list);
            let first = take_runs(&pattern, id, &mut rest, room);
            let replaced = first
                .as_ref()
                .is_some_and(|(bytes, _)| editor.replace(attribute.place.clone(), bytes));
            if !replaced {
                return Err(self.in_the_way(number, "its record has no room for a single run"));
            }
            if let Some((_, vcn)) = first {
                parts.push(entry.naming(vcn.0, own, id));
            }
        } else {
            self.editor(number)?.replace(attribute.place, &[]);
        }
        let reached = rest.first().map_or(Vcn(u64::MAX), |run| run.vcn);
        while !rest.is_empty() {
            let (extension, reference) = self.new_record(base_reference, reached, base == TABLE)?;
            let editor = self.editor(extension)?;
            let id = editor.next_id();
            let room = editor.free_bytes();
            let part = take_runs(&pattern, id, &mut rest, room);
            let Some((_, vcn)) = part.filter(|(bytes, _)| editor.insert(bytes)) else {
                return Err(self.in_the_way(number, "an empty record has no room for a run"));
            };
            parts.push(entry.naming(vcn.0, reference, id));
        }
        items.splice(at..at, parts);
        self.put_list(base, items)
    }

    /// The attribute list of a file, as it is now; a new one names what the base record holds.
    fn list_of(&mut self, base: u64) -> Result<Vec<Item>, ShrinkError> {
        if let Some(items) = self.lists.get(&base) {
            return Ok(items.clone());
        }
        let record = self.read(base)?;
        let bytes = self.volume.attribute_list_bytes(base, &record)?;
        let damaged = self.in_the_way(base, "its attribute list is damaged");
        let items = match bytes {
            Some(bytes) => list::parse(&bytes),
            None => {
                let editor = self.editor(base)?;
                let own = editor.reference(base);
                let attributes = editor.attributes();
                attributes
                    .iter()
                    .map(|attribute| Item::of(editor, attribute, own))
                    .collect()
            }
        };
        items.ok_or(damaged)
    }

    /// Writes the attribute list: into the base record where there is room, else into clusters.
    fn put_list(&mut self, base: u64, items: Vec<Item>) -> Result<(), ShrinkError> {
        let value = list::write(&items);
        debug_assert!(
            items.is_sorted_by_key(Item::kind),
            "the order of the list stays"
        );
        self.lists.insert(base, items);
        if value.len() as u64 > MAX_LIST_BYTES {
            return Err(
                self.in_the_way(base, "its attribute list would be longer than lists may be")
            );
        }
        let editor = self.editor(base)?;
        let known = editor
            .attributes()
            .into_iter()
            .find(|attribute| attribute.kind == kind::ATTRIBUTE_LIST);
        let id = match &known {
            Some(attribute) => attribute.id,
            None => editor.next_id(),
        };
        let is_outside = known
            .as_ref()
            .is_some_and(|attribute| matches!(attribute.body, Body::NonResident { .. }));
        if !is_outside && let Some(list) = resident_list(id, &value) {
            let done = match &known {
                Some(attribute) => editor.replace(attribute.place.clone(), &list),
                None => editor.insert(&list),
            };
            if done {
                return Ok(());
            }
        }
        let cluster = self.cluster_bytes();
        let mut old = Vec::new();
        if is_outside {
            old = self.attribute(base, id)?.1;
        }
        let old_clusters: u64 = old.iter().map(|run| run.clusters).sum();
        let fits = old_clusters.saturating_mul(cluster) >= value.len() as u64;
        let below = old
            .iter()
            .all(|run| run.volume_clusters().end <= self.limit);
        let runs = if fits && below && !old.is_empty() {
            old
        } else {
            self.give_up(&old);
            let clusters = (value.len() as u64)
                .saturating_mul(LIST_ROOM)
                .div_ceil(cluster)
                .max(1);
            let place = self.space.take_whole(clusters);
            let Some(place) = place else {
                return Err(self.in_the_way(base, "there is no room for its attribute list"));
            };
            self.fresh.insert(place.0, clusters);
            vec![Run {
                vcn: Vcn(0),
                clusters,
                lcn: Some(place),
            }]
        };
        let mut from = 0usize;
        for run in &runs {
            let (Some(Lcn(lcn)), rest) = (run.lcn, value.get(from..).unwrap_or_default()) else {
                return Err(self.in_the_way(base, "its attribute list has holes"));
            };
            let len = usize::try_from(run.clusters.saturating_mul(cluster)).unwrap_or(usize::MAX);
            let mut part = rest.get(..len.min(rest.len())).unwrap_or_default().to_vec();
            // What is after the value in its last cluster is not left to chance.
            part.resize(part.len().next_multiple_of(512), 0);
            from = from.saturating_add(len);
            if !part.is_empty() {
                self.content.insert(lcn.saturating_mul(cluster), part);
            }
        }
        let allocated: u64 = runs.iter().map(|run| run.clusters).sum();
        let list = outside_list(
            id,
            &runs,
            value.len() as u64,
            allocated.saturating_mul(cluster),
        );
        let full = self.in_the_way(base, "its record has no room for an attribute list");
        let editor = self.editor(base)?;
        let done = list.is_some_and(|list| match &known {
            Some(attribute) => editor.replace(attribute.place.clone(), &list),
            None => editor.insert(&list),
        });
        if done { Ok(()) } else { Err(full) }
    }

    /// Gives up the clusters of a list that lies elsewhere now.
    fn give_up(&mut self, runs: &[Run]) {
        for run in runs {
            let clusters = run.volume_clusters();
            if let Some(len) = self.fresh.remove(&clusters.start) {
                self.space.undo_take(clusters.start, len);
                let offset = clusters.start.saturating_mul(self.cluster_bytes());
                self.content.remove(&offset);
            } else {
                let limit = self.limit;
                self.space
                    .give_back(clusters.start.min(limit)..clusters.end.min(limit));
            }
        }
    }

    /// Takes a free file record as an extension of `base`: its number, and its reference. One for
    /// the MFT must lie in the part of the table that is known before it.
    fn new_record(
        &mut self,
        base: u64,
        reached: Vcn,
        for_table: bool,
    ) -> Result<(u64, u64), ShrinkError> {
        let base_number = record_number(base);
        let found = self.free_record()?;
        let (number, use_count) = found.ok_or_else(|| {
            self.in_the_way(base_number, "no file record is free for a longer runlist")
        })?;
        let end = number
            .saturating_add(1)
            .saturating_mul(self.volume.shape().record_bytes.into());
        if for_table && end > reached.0.saturating_mul(self.cluster_bytes()) {
            return Err(self.in_the_way(TABLE, "no file record is free where it must be"));
        }
        let pattern = self.editor(base_number)?.clone();
        let fresh = Editor::fresh(&pattern, number, use_count, base);
        let fresh =
            fresh.ok_or_else(|| self.in_the_way(base_number, "its record has no header"))?;
        let reference = fresh.reference(number);
        self.editors.insert(number, fresh);
        self.new_records.push(number);
        Ok((number, reference))
    }
}

/// Takes as many runs off the front as fit into `room` bytes of a record: the attribute, and the
/// first cluster of it. `None` when not even one fits, or none is left.
fn take_runs(pattern: &[u8], id: u16, runs: &mut Vec<Run>, room: usize) -> Option<(Vec<u8>, Vcn)> {
    let fits = |count: usize| {
        let bytes = with_runs(pattern, id, runs.get(..count)?)?;
        (bytes.len() <= room).then_some(bytes)
    };
    // The length grows with the number of runs.
    let (mut fitting, mut too_many) = (0, runs.len().saturating_add(1));
    while too_many - fitting > 1 {
        let middle = fitting.midpoint(too_many);
        if fits(middle).is_some() {
            fitting = middle;
        } else {
            too_many = middle;
        }
    }
    let bytes = fits(fitting).filter(|_| fitting > 0)?;
    let vcn = runs.first()?.vcn;
    runs.drain(..fitting);
    Some((bytes, vcn))
}
