//! The difference between a draft and its disk, as ordered stages.

#[cfg(feature = "schema")]
use schemars::JsonSchema;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Purpose;
use crate::device::{Draft, Extent, Geometry, Lba, Move, ReadDevice};

const SECTOR_0: Extent = Extent::between(Lba(0), Lba(1));

/// A stage of the commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StageKind {
    /// The hash of the job's journal, in a marker that is on the disk already: from here on the disk proves this job's
    /// folder, and no other.
    Claim,
    /// Clusters of shrunk volumes, copied to clusters that are free.
    Move,
    /// The file systems of shrunk volumes.
    Shrink,
    /// Files put into an EFI system partition that is there already.
    Fill,
    /// Everything else that the old disk does not use.
    Prepare,
    /// Sector 0.
    Commit,
    /// The primary table, where sectors that boot code uses lie in its place: the old disk starts through them until
    /// sector 0 is replaced, and from then on the backup table is there.
    Table,
    /// The place of the System Reserved partition, which the old disk starts from.
    Takeover,
    /// The old table, which nothing names any more.
    Clear,
    /// Files that name the disk, which can only be changed afterwards.
    Edit,
}

impl StageKind {
    /// The stage's name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Claim => "claim",
            Self::Move => "move",
            Self::Shrink => "shrink",
            Self::Fill => "fill",
            Self::Prepare => "prepare",
            Self::Commit => "commit",
            Self::Table => "table",
            Self::Takeover => "takeover",
            Self::Clear => "clear",
            Self::Edit => "edit",
        }
    }
}

/// A region of the disk that a stage may write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Region {
    /// Which stage.
    pub stage: StageKind,
    /// What for.
    pub what: Purpose,
    /// Where.
    pub extent: Extent,
    /// Written, and so saved first, from end to end, whether or not a sector differs.
    is_whole: bool,
}

impl Region {
    /// A region of which the sectors are written that differ.
    pub fn new(stage: StageKind, what: Purpose, extent: Extent) -> Self {
        Self {
            stage,
            what,
            extent,
            is_whole: false,
        }
    }

    /// A region that is written from end to end: the whole old content goes into the job folder.
    pub fn whole(stage: StageKind, what: Purpose, extent: Extent) -> Self {
        Self {
            is_whole: true,
            ..Self::new(stage, what, extent)
        }
    }
}

/// What a stage writes for one purpose.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// What is written there.
    pub what: Purpose,
    /// The sectors that change, ascending within a region.
    pub extents: Vec<Extent>,
}

/// One stage: its parts are written in order, then flushed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stage {
    /// Which stage.
    pub kind: StageKind,
    /// What it writes.
    pub parts: Vec<Part>,
}

/// A draft changes a sector that no region declares.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the draft changes {at}, which no part of the plan declares")]
pub struct Undeclared {
    /// The sector.
    pub at: Lba,
}

/// What no conversion may write, whatever it is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Disorder {
    /// A stage that comes too late.
    #[error("the stage {} would be written after the stage {}", .stage.name(), .after.name())]
    Order {
        /// The stage.
        stage: StageKind,
        /// The one before it.
        after: StageKind,
    },
    /// Sector 0 in another stage than its own.
    #[error("the stage {} would write sector 0", .stage.name())]
    Sector0 {
        /// The stage.
        stage: StageKind,
    },
    /// The stage that changes the table's style writes more than sector 0.
    #[error("the stage commit would write {at} beside sector 0")]
    NotAlone {
        /// The other sector.
        at: Lba,
    },
    /// A sector that two stages write, or one of them twice.
    #[error("{at} would be written twice")]
    Twice {
        /// The sector.
        at: Lba,
    },
    /// Nothing, or more than the disk has.
    #[error("LBA {} to {} are nothing that can be written", .extent.first.0, .extent.end.0)]
    NoExtent {
        /// The extent.
        extent: Extent,
    },
}

/// Everything that will be written. Known in full before the technician says yes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangeSet {
    /// Geometry of the disk.
    pub geometry: Geometry,
    /// What the stage `move` copies, by source. Its destinations are the extents of that stage.
    pub moves: Vec<Move>,
    /// Stages, in the order of writing.
    pub stages: Vec<Stage>,
}

impl ChangeSet {
    /// The difference that `draft` makes, sorted into the declared regions, which are in the order
    /// of writing. Where regions overlap, the first one declared has the sector. What the draft
    /// moves is a stage of its own, `move`, described by `moving`, before all but `claim`.
    pub fn of(draft: &Draft<'_>, moving: Purpose, regions: &[Region]) -> Result<Self, Undeclared> {
        let parts = sorted(draft, regions)?;
        let moves = draft.moves();
        let mut set = Self {
            geometry: draft.geometry(),
            stages: Vec::new(),
            moves,
        };
        let moved: Vec<Extent> = set.moves.iter().map(Move::destination).collect();
        let mut parts: Vec<_> = regions.iter().zip(parts).collect();
        let others =
            parts.split_off(parts.partition_point(|(region, _)| region.stage < StageKind::Move));
        for (region, extents) in parts {
            set.add(region.stage, &region.what, extents);
        }
        if !moved.is_empty() {
            set.add(StageKind::Move, &moving, moved);
        }
        for (region, extents) in others {
            set.add(region.stage, &region.what, extents);
        }
        Ok(set)
    }

    /// Adds what `finished`, a draft over the first one, changes after all of it.
    pub fn and_then(
        mut self,
        finished: &Draft<'_>,
        regions: &[Region],
    ) -> Result<Self, Undeclared> {
        for (region, extents) in regions.iter().zip(sorted(finished, regions)?) {
            if !extents.is_empty() {
                self.add(region.stage, &region.what, extents);
            }
        }
        Ok(self)
    }

    /// The same, when it keeps what all else relies on: the stages in their order, sector 0 in the stage `commit`
    /// and nowhere else, no sector twice but by `edit`, which edits what is there by then. Where the table changes
    /// its style, sector 0 is alone in its stage.
    ///
    /// # Errors
    ///
    /// The first thing that is not so. Asked of a draft before anything is saved, never of the way back: what was
    /// begun must be finished or taken back.
    pub fn checked(self, changes_style: bool) -> Result<Self, Disorder> {
        for pair in self.stages.windows(2) {
            if let [before, stage] = pair
                && stage.kind == before.kind
            {
                let (stage, after) = (stage.kind, before.kind);
                return Err(Disorder::Order { stage, after });
            }
        }
        let stages = self.stages.iter();
        let writes: Vec<(StageKind, Extent)> = stages
            .flat_map(|stage| stage.extents().map(|extent| (stage.kind, extent)))
            .collect();
        in_order(self.geometry.sectors, &writes)?;
        let of_commit = writes.into_iter();
        let mut of_commit = of_commit.filter(|(kind, _)| *kind == StageKind::Commit);
        match of_commit.find(|(_, extent)| changes_style && *extent != SECTOR_0) {
            Some((_, extent)) => Err(Disorder::NotAlone {
                at: extent.first.max(SECTOR_0.end),
            }),
            None => Ok(self),
        }
    }

    /// Adds extents to the last stage and part, or begins new ones.
    fn add(&mut self, kind: StageKind, what: &Purpose, extents: Vec<Extent>) {
        if self.stages.last().is_none_or(|stage| stage.kind != kind) {
            self.stages.push(Stage {
                kind,
                parts: Vec::new(),
            });
        }
        let Some(stage) = self.stages.last_mut() else {
            return;
        };
        if stage.parts.last().is_none_or(|part| part.what != *what) {
            let (what, extents) = (what.clone(), Vec::new());
            stage.parts.push(Part { what, extents });
        }
        let Some(part) = stage.parts.last_mut() else {
            return;
        };
        for extent in extents {
            match part.extents.last_mut() {
                // Moves stay apart, one extent each: each has a hash of its own.
                Some(last) if last.end == extent.first && kind != StageKind::Move => {
                    last.end = extent.end;
                }
                _ => part.extents.push(extent),
            }
        }
    }

    /// Bytes that are moved.
    pub fn moved_bytes(&self) -> u64 {
        let sectors: u64 = self.moves.iter().map(|moved| moved.sectors).sum();
        sectors.saturating_mul(self.geometry.logical_sector.into())
    }

    /// True when this sector will be written.
    pub fn writes(&self, at: Lba) -> bool {
        self.extents()
            .any(|extent| (extent.first..extent.end).contains(&at))
    }

    /// All sectors that will be written.
    pub fn extents(&self) -> impl Iterator<Item = Extent> + '_ {
        self.stages.iter().flat_map(Stage::extents)
    }

    /// Bytes that will be written.
    pub fn bytes(&self) -> u64 {
        self.extents()
            .map(|extent| self.geometry.bytes_in(&extent))
            .sum()
    }
}

/// Sees to it that what stages write, in this order, is on a disk of so many sectors: the stages in their order,
/// sector 0 in the stage `commit` and nowhere else, no sector twice but by `edit`.
///
/// # Errors
///
/// The first thing that is not so.
pub fn in_order(sectors: u64, writes: &[(StageKind, Extent)]) -> Result<(), Disorder> {
    let mut after: Option<StageKind> = None;
    for &(stage, extent) in writes {
        if let Some(after) = after.filter(|after| stage < *after) {
            return Err(Disorder::Order { stage, after });
        }
        after = Some(stage);
        if extent.first >= extent.end || extent.end.0 > sectors {
            return Err(Disorder::NoExtent { extent });
        }
        if stage != StageKind::Commit && extent.overlaps(&SECTOR_0) {
            return Err(Disorder::Sector0 { stage });
        }
    }
    for is_edit in [false, true] {
        let written = writes.iter();
        let written = written.filter(|(stage, _)| (*stage == StageKind::Edit) == is_edit);
        let mut extents: Vec<Extent> = written.map(|(_, extent)| *extent).collect();
        extents.sort_unstable();
        for pair in extents.windows(2) {
            if let [before, next] = pair
                && next.first < before.end
            {
                return Err(Disorder::Twice { at: next.first });
            }
        }
    }
    Ok(())
}

impl Stage {
    /// The sectors that this stage writes, in the order of writing.
    pub fn extents(&self) -> impl Iterator<Item = Extent> + '_ {
        self.parts
            .iter()
            .flat_map(|part| part.extents.iter().copied())
    }

    /// Bytes that this stage writes.
    pub fn bytes(&self, geometry: Geometry) -> u64 {
        self.extents()
            .map(|extent| geometry.bytes_in(&extent))
            .sum()
    }
}

/// What a draft changes in each region.
fn sorted(draft: &Draft<'_>, regions: &[Region]) -> Result<Vec<Vec<Extent>>, Undeclared> {
    let owners = owners(regions);
    let mut parts: Vec<Vec<Extent>> = vec![Vec::new(); regions.len()];
    for extent in draft.changed() {
        let mut at = extent.first;
        while at < extent.end {
            let owner = owners.range(..=at.0).next_back();
            let (end, index) = owner
                .map(|(_, owner)| *owner)
                .filter(|(end, _)| *end > at)
                .ok_or(Undeclared { at })?;
            let end = end.min(extent.end);
            let region = regions.get(index).filter(|region| !region.is_whole);
            if let Some((part, _)) = parts.get_mut(index).zip(region) {
                part.push(Extent::between(at, end));
            }
            at = end;
        }
    }
    for (&first, &(end, index)) in &owners {
        let region = regions.get(index).filter(|region| region.is_whole);
        if let Some((part, _)) = parts.get_mut(index).zip(region) {
            let first = Lba(first);
            part.push(Extent::between(first, end));
        }
    }
    Ok(parts)
}

/// Which region each sector belongs to: by first sector, (end, index of the region).
fn owners(regions: &[Region]) -> BTreeMap<u64, (Lba, usize)> {
    let mut owners: BTreeMap<u64, (Lba, usize)> = BTreeMap::new();
    for (index, region) in regions.iter().enumerate() {
        // What an earlier region has taken stays its own; the rest may be in several pieces.
        let mut at = region.extent.first;
        while at < region.extent.end {
            let before = owners.range(..=at.0).next_back();
            if let Some((_, (end, _))) = before
                && *end > at
            {
                at = *end;
                continue;
            }
            let next = owners.range(at.0..).next().map(|(&first, _)| Lba(first));
            let end = next.map_or(region.extent.end, |next| next.min(region.extent.end));
            owners.insert(at.0, (end, index));
            at = end;
        }
    }
    owners
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::{BlockDevice, Memory};

    #[test]
    fn a_change_outside_the_regions_is_noticed_and_the_rest_is_sorted() {
        let disk = Memory::new(512, 100);
        let draft = Draft::new(&disk);
        draft.write_at(0, &[1; 3 * 512]).unwrap();
        draft.write_at(50 * 512, &[1; 512]).unwrap();
        let extent = |first, end| Extent::between(Lba(first), Lba(end));
        let late = Region::new(StageKind::Commit, Purpose::Sector0, extent(0, 1));
        let early = Region::new(StageKind::Prepare, Purpose::PrimaryTable, extent(1, 10));
        assert_eq!(
            ChangeSet::of(
                &draft,
                Purpose::MovedClusters,
                &[early.clone(), late.clone()]
            ),
            Err(Undeclared { at: Lba(50) })
        );
        let esp = Region::new(StageKind::Prepare, Purpose::Esp, extent(40, 60));
        let set = ChangeSet::of(&draft, Purpose::MovedClusters, &[esp, early, late]).unwrap();
        let order: Vec<_> = set
            .stages
            .iter()
            .map(|stage| (stage.kind, stage.extents().collect::<Vec<_>>()))
            .collect();
        assert_eq!(
            order,
            [
                (StageKind::Prepare, vec![extent(50, 51), extent(1, 3)]),
                (StageKind::Commit, vec![extent(0, 1)])
            ]
        );
        assert_eq!(set.bytes(), 4 * 512);
    }

    /// A stage and its extents: first sectors and ends.
    type Written = (StageKind, &'static [(u64, u64)]);

    /// A change set by hand: a draft could not make these.
    fn set(stages: &[Written]) -> ChangeSet {
        let disk = Memory::new(512, 100);
        let mut set = ChangeSet {
            geometry: disk.geometry(),
            moves: Vec::new(),
            stages: Vec::new(),
        };
        for (kind, extents) in stages {
            let extents = extents
                .iter()
                .map(|&(first, end)| Extent::between(Lba(first), Lba(end)));
            let (what, extents) = (Purpose::Unnamed, extents.collect());
            let parts = vec![Part { what, extents }];
            set.stages.push(Stage { kind: *kind, parts });
        }
        set
    }

    #[test]
    fn what_no_conversion_may_write_is_an_error_before_it_is_saved() {
        use StageKind::{Commit, Edit, Move, Prepare, Shrink};
        let sound: [Written; 4] = [
            (Move, &[(60, 70)]),
            (Prepare, &[(1, 34), (80, 100)]),
            (Commit, &[(0, 1)]),
            // What has moved is edited where it is.
            (Edit, &[(61, 62)]),
        ];
        assert!(set(&sound).checked(true).is_ok());
        let extent = |first, end| Extent::between(Lba(first), Lba(end));
        let cases: [(&[Written], Disorder); 8] = [
            (
                &[(Commit, &[(0, 1)]), (Prepare, &[(1, 34)])],
                Disorder::Order {
                    stage: Prepare,
                    after: Commit,
                },
            ),
            (
                &[(Shrink, &[(50, 51)]), (Shrink, &[(52, 53)])],
                Disorder::Order {
                    stage: Shrink,
                    after: Shrink,
                },
            ),
            (
                &[(Prepare, &[(0, 34)])],
                Disorder::Sector0 { stage: Prepare },
            ),
            (&[(Edit, &[(0, 1)])], Disorder::Sector0 { stage: Edit }),
            (&[(Commit, &[(0, 34)])], Disorder::NotAlone { at: Lba(1) }),
            (
                &[(Shrink, &[(50, 60)]), (Prepare, &[(40, 51)])],
                Disorder::Twice { at: Lba(50) },
            ),
            (
                &[(Edit, &[(50, 60), (59, 61)])],
                Disorder::Twice { at: Lba(59) },
            ),
            (
                &[(Prepare, &[(99, 101)])],
                Disorder::NoExtent {
                    extent: extent(99, 101),
                },
            ),
        ];
        for (stages, disorder) in cases {
            assert_eq!(set(stages).checked(true), Err(disorder));
        }
        let empty = set(&[(Prepare, &[(5, 5)])]).checked(true);
        let extent = extent(5, 5);
        assert_eq!(empty, Err(Disorder::NoExtent { extent }));
        // A disk that is GPT before and after: sector 0 may stand beside a table.
        assert!(set(&[(Commit, &[(1, 34), (0, 1)])]).checked(false).is_ok());
    }
}
