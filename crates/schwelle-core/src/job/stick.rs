//! Power is cut at every operation on a job folder that lies on a FAT stick.
//!
//! The stick is simulated as Linux' vfat behaves: a new name is on the medium with length 0, or not at
//! all, until its file is synced; a name whose folder was not synced may be lost; bytes that were not
//! synced may be there or not, block by block. What a real stick and a real kernel leave is looked at in
//! the virtual PC (`tools/pc-test.sh`).

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex};

use schwelle_testkit::Dice;

use super::storage::{Storage, StoredFile};
use super::{EditedVolume, JobFacts, JobFolder, JobKind, JobState, ReliedOn};
use crate::commit::{ChangeSet, Drafts, Ledger, Purpose, Region, StageKind};
use crate::device::{BlockDevice, Draft, Extent, Lba, Memory};
use crate::disk_use::DiskUse;
use crate::identities::Style;

/// Bytes that reach the medium together: fewer than a sector has, since cheap flash tears sectors.
const BLOCK: usize = 64;

/// A file: as the system shows it, and as the medium has it.
#[derive(Debug, Clone, Default)]
struct Node {
    now: Vec<u8>,
    /// Content that is on the medium for certain.
    synced: Vec<u8>,
    /// The length is on the medium.
    is_synced: bool,
    /// The name is on the medium for certain.
    is_named: bool,
    /// The name was on the medium before, with this content: it was emptied since.
    is_emptied: bool,
}

#[derive(Debug, Clone, Default)]
struct Files {
    nodes: BTreeMap<String, Node>,
    /// Operations left before the power goes.
    left: Option<usize>,
    done: usize,
}

impl Files {
    fn step(&mut self) -> io::Result<()> {
        if let Some(left) = &mut self.left {
            *left = left
                .checked_sub(1)
                .ok_or_else(|| io::Error::other("no power"))?;
        }
        self.done += 1;
        Ok(())
    }

    /// What is on the medium after a cut: of all that was not synced, what `keeps` says.
    fn survivor(&self, keeps: &mut dyn FnMut() -> bool) -> Self {
        let mut nodes = BTreeMap::new();
        for (name, node) in &self.nodes {
            if !node.is_named && !keeps() {
                continue;
            }
            // The length: the synced one, or the newest, or that of an emptied file.
            let mut len = match (node.is_synced, keeps()) {
                (true, false) => node.synced.len(),
                (false, false) => 0,
                (_, true) => node.now.len(),
            };
            if node.is_emptied && keeps() {
                len = 0;
            }
            let mut bytes = vec![0xA5; len];
            for at in (0..len).step_by(BLOCK) {
                let end = (at + BLOCK).min(len);
                let from = if keeps() { &node.now } else { &node.synced };
                if let Some(found) = from.get(at..end.min(from.len())) {
                    bytes[at..at + found.len()].copy_from_slice(found);
                }
            }
            let node = Node {
                now: bytes.clone(),
                synced: bytes,
                is_synced: true,
                is_named: true,
                is_emptied: false,
            };
            nodes.insert(name.clone(), node);
        }
        Self {
            nodes,
            ..Self::default()
        }
    }
}

#[derive(Debug, Clone, Default)]
struct Stick(Arc<Mutex<Files>>);

#[derive(Debug)]
struct OnStick {
    files: Arc<Mutex<Files>>,
    name: String,
}

impl OnStick {
    fn with<T>(&self, work: impl FnOnce(&mut Node) -> T) -> T {
        work(
            self.files
                .lock()
                .unwrap()
                .nodes
                .get_mut(&self.name)
                .unwrap(),
        )
    }
}

impl Stick {
    fn file(&self, name: &str) -> Box<dyn StoredFile> {
        Box::new(OnStick {
            files: self.0.clone(),
            name: name.to_owned(),
        })
    }
}

impl Storage for Stick {
    fn open(&self, name: &str, _: bool) -> io::Result<Box<dyn StoredFile>> {
        match self.0.lock().unwrap().nodes.contains_key(name) {
            true => Ok(self.file(name)),
            false => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>> {
        let mut files = self.0.lock().unwrap();
        files.step()?;
        let node = files.nodes.entry(name.to_owned()).or_default();
        node.is_emptied |= !node.now.is_empty();
        node.now.clear();
        Ok(self.file(name))
    }

    fn sync_names(&self) -> io::Result<()> {
        let mut files = self.0.lock().unwrap();
        files.step()?;
        let nodes = files.nodes.values_mut();
        nodes.for_each(|node| node.is_named = true);
        Ok(())
    }

    fn sync_all(&self) -> io::Result<()> {
        let names: Vec<String> = self.0.lock().unwrap().nodes.keys().cloned().collect();
        for name in names {
            self.file(&name).sync()?;
        }
        self.sync_names()
    }
}

impl StoredFile for OnStick {
    fn len_bytes(&self) -> io::Result<u64> {
        Ok(self.with(|node| node.now.len() as u64))
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let at = usize::try_from(offset).unwrap();
        self.with(|node| {
            let found = node.now.get(at..at + buffer.len());
            let found = found.ok_or(io::ErrorKind::UnexpectedEof)?;
            buffer.copy_from_slice(found);
            Ok(())
        })
    }

    fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        self.files.lock().unwrap().step()?;
        let at = usize::try_from(offset).unwrap();
        self.with(|node| {
            let len = node.now.len().max(at + bytes.len());
            node.now.resize(len, 0);
            node.now[at..at + bytes.len()].copy_from_slice(bytes);
        });
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        self.files.lock().unwrap().step()?;
        self.with(|node| {
            node.synced = node.now.clone();
            (node.is_synced, node.is_emptied) = (true, false);
        });
        Ok(())
    }
}

/// The states that a job on the stick comes through, up to an operation that fails. Gives the last one
/// that was reported as kept, and whether the job had gone on to keep another one.
fn job_on(stick: &Stick) -> Option<(JobState, Option<StageKind>)> {
    let disk = Memory::new(512, 4000);
    let draft = Draft::new(&disk);
    draft.write_at(0, &[1; 512]).unwrap();
    draft.write_at(512 * 100, &[2; 512 * 40]).unwrap();
    draft.move_sectors(crate::device::Move {
        from: Lba(3000),
        to: Lba(2000),
        sectors: 8,
    });
    let part = |stage, first, end| {
        let (first, end) = (Lba(first), Lba(end));
        Region::new(stage, Purpose::Esp, Extent::between(first, end))
    };
    let regions = [
        part(StageKind::Prepare, 100, 140),
        part(StageKind::Commit, 0, 1),
    ];
    let changes = ChangeSet::of(&draft, Purpose::MovedClusters, &regions).unwrap();
    let mut reached = None;
    let mut run = || -> Result<(), ()> {
        let storage: Arc<dyn Storage> = Arc::new(stick.clone());
        let facts = JobFacts {
            kind: JobKind::Convert,
            to: Style::Gpt,
            disk_use: DiskUse::System,
            disk: "disk".into(),
            serial: None,
            computer: None,
        };
        let mut job =
            JobFolder::create_in(storage, Path::new("stick"), facts, "{}").map_err(drop)?;
        reached = Some((JobState::Saving, None));
        // What moves lies on a volume, and stays on it.
        let volume = EditedVolume {
            first_lba: 1500,
            sectors_before: 2000,
            sectors_after: 1000,
            named_at: 0,
            before: String::new(),
            after: String::new(),
            sealed: Vec::new(),
        };
        let relied_on = ReliedOn {
            volumes: vec![volume],
            ..ReliedOn::default()
        };
        let saved = job.save(&disk, Drafts::one(&draft), &changes, relied_on);
        saved.map_err(drop)?;
        reached = Some((JobState::Writing, None));
        for stage in [StageKind::Move, StageKind::Prepare, StageKind::Commit] {
            let moved = match stage {
                StageKind::Move => vec![blake3::hash(b"moved")],
                _ => Vec::new(),
            };
            job.stage_done(stage, &moved).map_err(drop)?;
            reached = Some((JobState::Writing, Some(stage)));
        }
        for state in [JobState::Done, JobState::Undoing, JobState::Undone] {
            job.set_state(state).map_err(drop)?;
            reached = Some((state, Some(StageKind::Commit)));
            job.log("so far").map_err(drop)?;
            job.keep_outcome("{\"answer\": \"made up\"}")
                .map_err(drop)?;
        }
        Ok(())
    };
    run().ok();
    reached
}

/// What a folder says after a cut.
fn found_on(files: Files) -> Option<(JobState, Option<StageKind>)> {
    let storage: Arc<dyn Storage> = Arc::new(Stick(Arc::new(Mutex::new(files))));
    let job = JobFolder::open_in(storage, Path::new("stick")).ok()?;
    // All that a job needs is whole: every byte on both sides of every extent.
    for entry in job
        .journal()
        .into_iter()
        .flat_map(|journal| &journal.extents)
    {
        for side in [super::Side::Old, super::Side::New] {
            job.bytes(entry, side).unwrap();
        }
    }
    let moved = job.state().moved.is_some();
    assert_eq!(
        moved,
        job.state().stage.is_some(),
        "the hashes of what was moved"
    );
    Some((job.state().state, job.state().stage))
}

#[test]
fn a_job_folder_survives_a_power_cut_at_every_operation_on_a_fat_stick() {
    let whole = Stick::default();
    assert_eq!(
        job_on(&whole),
        Some((JobState::Undone, Some(StageKind::Commit)))
    );
    let operations = whole.0.lock().unwrap().done;
    let all: Vec<_> = (0..=operations)
        .map(|cut| {
            let stick = Stick::default();
            stick.0.lock().unwrap().left = Some(cut);
            (job_on(&stick), stick)
        })
        .collect();
    let mut dice = Dice::new(0x5EED);
    let mut cases = 0;
    for (cut, (reached, stick)) in all.iter().enumerate() {
        // The state that the job was about to keep may be found already.
        let next = all[cut..].iter().find(|(later, _)| later != reached);
        let next = next.and_then(|(later, _)| *later);
        let files = stick.0.lock().unwrap().clone();
        for choice in 0..64 {
            let mut keeps = || match choice {
                0 => false,
                1 => true,
                _ => dice.once_in(2),
            };
            let found = found_on(files.survivor(&mut keeps));
            assert!(
                found == *reached || found == next && found.is_some(),
                "cut at {cut}, choice {choice}: {found:?}, kept was {reached:?}, next {next:?}"
            );
            cases += 1;
        }
    }
    assert!(cases > 64 * 30, "{cases} cases");
}
