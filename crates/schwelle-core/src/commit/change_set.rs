//! The difference between a draft and its disk, as ordered stages.

use crate::device::{Draft, Extent, Geometry, Lba, ReadDevice};

/// A stage of the commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum StageKind {
    /// Everything that the old disk does not use.
    Prepare,
    /// Sector 0.
    Commit,
    /// What must name the new disk and can only be changed afterwards.
    Settle,
}

impl StageKind {
    /// The stage's name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Prepare => "prepare",
            Self::Commit => "commit",
            Self::Settle => "settle",
        }
    }
}

/// A region of the disk that a stage writes, and what it is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// What is written there.
    pub what: String,
    /// The sectors that change, ascending.
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

/// Everything that will be written. Known in full before the technician says yes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangeSet {
    /// Geometry of the disk.
    pub geometry: Geometry,
    /// Stages, in the order of writing.
    pub stages: Vec<Stage>,
}

impl ChangeSet {
    /// The difference that `draft` makes, sorted into the declared regions, which are in the order
    /// of writing.
    pub fn of(
        draft: &Draft<'_>,
        regions: &[(StageKind, &str, Extent)],
    ) -> Result<Self, Undeclared> {
        let mut left = draft.changed();
        let mut stages: Vec<Stage> = Vec::new();
        for &(kind, what, region) in regions {
            let mut extents = Vec::new();
            let mut rest = Vec::new();
            for extent in left {
                let inside = Extent {
                    first: extent.first.max(region.first),
                    end: extent.end.min(region.end),
                };
                if inside.first >= inside.end {
                    rest.push(extent);
                    continue;
                }
                extents.push(inside);
                let sides = [
                    Extent {
                        end: inside.first,
                        ..extent
                    },
                    Extent {
                        first: inside.end,
                        ..extent
                    },
                ];
                rest.extend(sides.into_iter().filter(|side| side.sectors() > 0));
            }
            left = rest;
            let part = Part {
                what: what.to_owned(),
                extents,
            };
            match stages.last_mut() {
                Some(stage) if stage.kind == kind => stage.parts.push(part),
                _ => stages.push(Stage {
                    kind,
                    parts: vec![part],
                }),
            }
        }
        match left.first() {
            Some(extent) => Err(Undeclared { at: extent.first }),
            None => Ok(Self {
                geometry: draft.geometry(),
                stages,
            }),
        }
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
        let extent = |first, end| Extent {
            first: Lba(first),
            end: Lba(end),
        };
        let late = (StageKind::Commit, "sector 0", extent(0, 1));
        let early = (StageKind::Prepare, "table", extent(1, 10));
        assert_eq!(
            ChangeSet::of(&draft, &[early, late]),
            Err(Undeclared { at: Lba(50) })
        );
        let esp = (StageKind::Prepare, "esp", extent(40, 60));
        let set = ChangeSet::of(&draft, &[esp, early, late]).unwrap();
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
}
