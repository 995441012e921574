//! Job folders that were edited, with all hashes made anew: of every kind of job, at several moments of it.
//!
//! An input picks a job, a moment and one of `resume` and `undo`; then come edits: which file, which field, which value.
//! Whatever they are, a folder that the disk proves writes only what its job declared, and one that a technician
//! vouches for never writes into a partition that is no part of the job.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock};

use schwelle_core::commit::StageKind;
use schwelle_core::device::{BlockDevice, Extent, Lba, Memory, ReadDevice, Tracked};
use schwelle_core::gpt::type_guid;
use schwelle_core::host::HostFacts;
use schwelle_core::job::{
    FolderProof, JobFolder, JobState, Journal, Recovery, Side, Storage, StoredFile,
};
use schwelle_core::profile::{Origin, Profile};
use schwelle_demo::{SMALL_JOBS, SmallJob};
use schwelle_testkit::{Failure, Image, Medium};
use serde_json::{Value, json};

/// Edits of an input that are made, at most.
const MAX_EDITS: usize = 4;
/// What fields may say that decide how a job goes on.
const WORDS: [&str; 9] = [
    "mend", "convert", "mbr", "gpt", "data", "system", "claim", "prepare", "commit",
];
const SLOTS: [&str; 2] = ["state-a.json", "state-b.json"];

/// The files of a folder, in memory.
#[derive(Debug, Clone, Default)]
struct Files(Arc<Mutex<BTreeMap<String, Arc<Vec<u8>>>>>);

impl Files {
    /// A folder of its own with the same files.
    fn copied(&self) -> Self {
        Self(Arc::new(Mutex::new(self.0.lock().unwrap().clone())))
    }

    fn get(&self, name: &str) -> Option<Arc<Vec<u8>>> {
        self.0.lock().unwrap().get(name).cloned()
    }

    fn put(&self, name: &str, bytes: Vec<u8>) {
        let mut files = self.0.lock().unwrap();
        files.insert(name.to_owned(), Arc::new(bytes));
    }

    fn json(&self, name: &str) -> Option<Value> {
        serde_json::from_slice(&self.get(name)?).ok()
    }

    /// The state that holds.
    fn state(&self) -> Value {
        let states = SLOTS.iter().filter_map(|name| self.json(name));
        let newest = states.max_by_key(|state| state["number"].as_u64());
        newest.unwrap_or_default()
    }

    /// Puts a state there, with its own hash, as the one that holds.
    fn put_state(&self, state: &Value) {
        // Its hash is over one line of JSON in this order.
        let line = |check: &str| {
            format!(
                r#"{{"number":{},"state":{},"journal":{},"stage":{},"moved":{},"check":"{check}"}}"#,
                state["number"], state["state"], state["journal"], state["stage"], state["moved"]
            )
        };
        let check = blake3::hash(line("").as_bytes()).to_hex().to_string();
        self.put(SLOTS[0], line(&check).into_bytes());
        self.put(SLOTS[1], Vec::new());
    }

    /// Puts a journal, or the list of hashes, there, and its hash into the state.
    fn put_hashed(&self, name: &str, key: &str, content: &Value) {
        let text = serde_json::to_vec(content).unwrap();
        let mut state = self.state();
        state[key] = json!(blake3::hash(&text).to_hex().as_str());
        self.put(name, text);
        self.put_state(&state);
    }
}

#[derive(Debug)]
struct OneFile {
    files: Files,
    name: String,
}

impl Storage for Files {
    fn open(&self, name: &str, _write: bool) -> io::Result<Box<dyn StoredFile>> {
        match self.get(name) {
            Some(_) => Ok(Box::new(OneFile {
                files: self.clone(),
                name: name.to_owned(),
            })),
            None => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn create(&self, name: &str) -> io::Result<Box<dyn StoredFile>> {
        self.put(name, Vec::new());
        self.open(name, true)
    }

    fn sync_names(&self) -> io::Result<()> {
        Ok(())
    }

    fn sync_all(&self) -> io::Result<()> {
        Ok(())
    }
}

impl StoredFile for OneFile {
    fn len_bytes(&self) -> io::Result<u64> {
        Ok(self.files.get(&self.name).unwrap().len() as u64)
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let file = self.files.get(&self.name).unwrap();
        let first = usize::try_from(offset).unwrap_or(usize::MAX);
        let piece = first.checked_add(buffer.len());
        let piece = piece.and_then(|end| file.get(first..end));
        buffer.copy_from_slice(piece.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }

    fn write_at(&self, offset: u64, bytes: &[u8]) -> io::Result<()> {
        let mut file = self.files.get(&self.name).unwrap().to_vec();
        let first = usize::try_from(offset).unwrap();
        file.resize(file.len().max(first + bytes.len()), 0);
        file[first..first + bytes.len()].copy_from_slice(bytes);
        self.files.put(&self.name, file);
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        Ok(())
    }
}

/// A moment of a job: what the disk holds, and the folder.
struct Moment {
    disk: Image,
    files: Files,
    /// Partitions of the disk, those first that are no part of the job.
    partitions: Vec<Extent>,
    /// How many these are.
    foreign: usize,
}

/// A job, and what of it is edited.
struct Job {
    old: Memory,
    /// All that it declared: what it writes, where something moves to and from, ascending.
    declared: Vec<Extent>,
    moments: Vec<Moment>,
}

/// One of the jobs, made when it is first asked for.
fn kept(which: usize) -> &'static Job {
    static JOBS: [OnceLock<Job>; SMALL_JOBS.len()] = [const { OnceLock::new() }; SMALL_JOBS.len()];
    let which = which % SMALL_JOBS.len();
    JOBS[which].get_or_init(|| Job::of(&SMALL_JOBS[which]))
}

fn opened(files: &Files) -> Option<JobFolder> {
    JobFolder::open_in(Arc::new(files.clone()), Path::new("job")).ok()
}

/// Finishes a job or takes it back, as far as it goes; whether the disk proved the folder. `None` where that refused.
fn go(job: JobFolder, medium: &Medium<'_>, undoes: bool) -> Option<bool> {
    let tracked = Tracked::new(medium);
    let recovery = Recovery::open(job, &tracked).ok()?;
    let is_proven = recovery.proof() == FolderProof::Proven;
    // The technician says yes to a folder that the disk does not prove.
    let name = recovery.job().name();
    // What stopped it does not matter: what it has written does.
    if undoes {
        if let Ok(planned) = recovery.plan_undo() {
            let _stopped = planned.trusted(Some(&name)).unwrap().write(&mut ());
        }
    } else if let Ok(planned) = recovery.plan_resume() {
        let _stopped = planned.trusted(Some(&name)).unwrap().write(&mut ());
    }
    Some(is_proven)
}

impl Job {
    fn of(small: &SmallJob) -> Self {
        let old = (small.disk)();
        let files = Files::default();
        {
            let plan = (small.draft)(&old);
            let storage = Arc::new(files.clone());
            let mut job =
                JobFolder::create_in(storage, Path::new("job"), (small.facts)(), "{}").unwrap();
            let relied_on = plan.relied_on.clone();
            job.save(&old, plan.drafts(), &plan.changes, relied_on)
                .unwrap();
        }
        let journal = opened(&files).unwrap().journal().unwrap().clone();
        let mut job = Self {
            declared: declared(&journal),
            old,
            moments: Vec::new(),
        };
        let start = job.claimed(&opened(&files).unwrap());
        let start = job.moment(&start, &files, &journal);
        let (whole, operations) = job.went(&start, None, false, &journal);
        for part in [1, 2, 3] {
            let (moment, _) = job.went(&start, Some(operations * part / 4), false, &journal);
            job.moments.push(moment);
        }
        let (_, operations) = job.went(&whole, None, true, &journal);
        for part in [1, 2, 3] {
            let (moment, _) = job.went(&whole, Some(operations * part / 4), true, &journal);
            job.moments.push(moment);
        }
        job.moments.extend([start, whole]);
        job
    }

    /// The disk once the job has claimed its marker, where there is one: before that it proves another folder.
    fn claimed(&self, folder: &JobFolder) -> Image {
        let medium = Medium::new(&self.old, Image::default());
        let extents = folder.journal().unwrap().extents.iter();
        for entry in extents.filter(|entry| entry.stage == StageKind::Claim) {
            let bytes = folder.bytes(entry, Side::New).unwrap();
            medium.write_at(entry.first_lba * 512, &bytes).unwrap();
        }
        medium.into_image()
    }

    /// The moment to which one way leads from another, all of it or cut; with it, how many operations it took.
    fn went(
        &self,
        from: &Moment,
        cut: Option<usize>,
        undoes: bool,
        journal: &Journal,
    ) -> (Moment, usize) {
        let files = from.files.copied();
        let medium = Medium::new(&self.old, from.disk.clone());
        let medium = match cut {
            Some(at) => medium.fail(Failure::Power, at),
            None => medium,
        };
        go(opened(&files).unwrap(), &medium, undoes).unwrap();
        let operations = medium.operations();
        let disk = medium.survivors(false).remove(0);
        (self.moment(&disk, &files, journal), operations)
    }

    fn moment(&self, disk: &Image, files: &Files, journal: &Journal) -> Moment {
        let medium = Medium::new(&self.old, disk.clone());
        let profile = Profile::read(&medium, HostFacts::default()).unwrap();
        let starts = |origin: &Origin| match origin {
            Origin::Mbr { active, .. } => *active,
            Origin::Gpt(entry) => {
                matches!(entry.kind, type_guid::EFI_SYSTEM | type_guid::RESERVED)
            }
            Origin::Bare => true,
        };
        let is_ours = |extent: &Extent| {
            let mut volumes = journal.volumes.iter();
            volumes.any(|volume| volume.first_lba == extent.first.0)
        };
        let (foreign, others): (Vec<_>, Vec<_>) = profile
            .partitions
            .iter()
            .partition(|part| !starts(&part.origin) && !is_ours(&part.extent));
        let all = foreign.iter().chain(&others);
        Moment {
            disk: disk.clone(),
            files: files.copied(),
            partitions: all.map(|part| part.extent).collect(),
            foreign: foreign.len(),
        }
    }
}

fn declared(journal: &Journal) -> Vec<Extent> {
    let moves = journal.moves.iter();
    let moves =
        moves.flat_map(|moved| [moved.from_lba, moved.to_lba].map(|at| (at, moved.sectors)));
    let extents = journal.extents.iter();
    let extents = extents.map(|entry| (entry.first_lba, entry.sectors));
    let mut all: Vec<Extent> = extents
        .chain(moves)
        .map(|(at, sectors)| Extent::new(Lba(at), sectors).unwrap())
        .collect();
    all.sort_unstable();
    all
}

/// What an input says, piece by piece.
struct Said<'a>(&'a [u8]);

impl Said<'_> {
    fn number(&mut self) -> u64 {
        let (piece, rest) = self.0.split_at(self.0.len().min(2));
        self.0 = rest;
        piece
            .iter()
            .fold(0, |value, &byte| value << 8 | u64::from(byte))
    }

    fn below(&mut self, limit: usize) -> usize {
        usize::try_from(self.number()).unwrap() % limit.max(1)
    }

    fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Runs an input.
pub(crate) fn run(data: &[u8]) {
    let mut said = Said(data);
    let which = said.below(SMALL_JOBS.len());
    let job = kept(which);
    let moment = &job.moments[said.below(job.moments.len())];
    let undoes = said.below(2) == 1;
    let files = moment.files.copied();
    for _ in 0..=said.below(MAX_EDITS) {
        if !said.is_empty() {
            edit(&files, &mut said, job, moment);
        }
    }
    let Some(folder) = opened(&files) else {
        return;
    };
    let medium = Medium::new(&job.old, moment.disk.clone());
    let proven = go(folder, &medium, undoes);
    let name = SMALL_JOBS[which].name;
    for at in medium.into_image().differs_from(&moment.disk) {
        let is_declared = holds(&job.declared, at);
        let is_foreign = || holds(&moment.partitions[..moment.foreign], at);
        // Nothing where the folder was refused, and what was declared where the disk proves it.
        let is_right = match proven {
            None => false,
            Some(true) => is_declared,
            Some(false) => is_declared || !is_foreign(),
        };
        assert!(is_right, "{name}: {at} is written, proven: {proven:?}");
    }
}

fn holds(extents: &[Extent], at: Lba) -> bool {
    extents
        .iter()
        .any(|extent| (extent.first..extent.end).contains(&at))
}

/// Inputs: each job, each moment, each way, with nothing edited.
pub(crate) fn seeds() -> Vec<Vec<u8>> {
    let input = |job: u8, moment: u8, way: u8| vec![0, job, 0, moment, 0, way];
    (0..u8::try_from(SMALL_JOBS.len()).unwrap())
        .flat_map(|job| (0..8).map(move |moment| input(job, moment, moment % 2)))
        .collect()
}

/// Makes one edit.
fn edit(files: &Files, said: &mut Said<'_>, job: &Job, moment: &Moment) {
    let Some(mut journal) = files.json("journal.json") else {
        return;
    };
    match said.below(12) {
        0 => edit_state(files, said),
        1 => {
            if let Some(mut moved) = files.json("moved.json") {
                change(&mut moved, said, job);
                files.put_hashed("moved.json", "moved", &moved);
            }
        }
        2 => {
            let other = &kept(said.below(SMALL_JOBS.len())).moments[0].files;
            let names = ["journal.json", "saved.bin", "new.bin", "moved.json"];
            let name = names[said.below(names.len())];
            let Some(file) = other.get(name) else {
                return;
            };
            match name {
                "journal.json" => {
                    let other = serde_json::from_slice(&file).unwrap();
                    files.put_hashed(name, "journal", &other);
                }
                _ => files.put(name, file.to_vec()),
            }
        }
        3 | 4 => {
            forge(&mut journal, files, said, job, moment);
            files.put_hashed("journal.json", "journal", &journal);
        }
        5 => {
            spoil(&mut journal, files, said);
            files.put_hashed("journal.json", "journal", &journal);
        }
        _ => {
            change(&mut journal, said, job);
            files.put_hashed("journal.json", "journal", &journal);
        }
    }
}

/// Another state, or stage, or no hashes of what has moved.
fn edit_state(files: &Files, said: &mut Said<'_>) {
    let mut state = files.state();
    match said.below(4) {
        0 => state["moved"] = Value::Null,
        1 => state["number"] = json!(u64::MAX),
        _ => {
            use JobState::{Done, Saving, Undoing, Undone, Writing};
            let all = [Saving, Writing, Done, Undoing, Undone];
            state["state"] = json!(all[said.below(all.len())]);
        }
    }
    files.put_state(&state);
}

/// Goes down to some field, and gives it some other value.
fn change(value: &mut Value, said: &mut Said<'_>, job: &Job) {
    let mut at = value;
    loop {
        let len = match &*at {
            Value::Array(all) if !all.is_empty() => all.len(),
            Value::Object(fields) if !fields.is_empty() => fields.len(),
            _ => break,
        };
        // Now and then the whole list, or an entry of it.
        if said.below(16) == 0 {
            break;
        }
        let index = said.below(len);
        at = match at {
            Value::Array(all) => &mut all[index],
            Value::Object(fields) => fields.values_mut().nth(index).unwrap(),
            _ => unreachable!("looked at above"),
        };
    }
    let operand = said.number();
    match at {
        Value::Number(number) => {
            let number = number.as_u64().unwrap_or(0);
            let sectors = job.old.geometry().sectors;
            let place = job.declared[said.below(job.declared.len())];
            let values = [
                0,
                1,
                number.wrapping_add(1),
                number.wrapping_sub(1),
                number.wrapping_add(operand),
                number.wrapping_sub(operand),
                operand,
                operand.wrapping_mul(2048) % sectors,
                u64::MAX,
                1 << 63,
                sectors,
                place.first.0,
                place.end.0,
            ];
            *at = json!(values[said.below(values.len())]);
        }
        Value::String(text) => match said.below(3) {
            0 => text.clear(),
            1 => *text = "0".repeat(64),
            _ => *text = WORDS[said.below(WORDS.len())].to_owned(),
        },
        Value::Array(all) if !all.is_empty() => {
            let (one, other) = (said.below(all.len()), said.below(all.len()));
            match said.below(4) {
                0 => all.swap(one, other),
                1 => drop(all.remove(one)),
                2 => all.insert(other, all[one].clone()),
                _ => all.clear(),
            }
        }
        _ => *at = Value::Null,
    }
}

/// Keeps other bytes for an extent, and their hash.
fn spoil(journal: &mut Value, files: &Files, said: &mut Said<'_>) {
    let (side, name) = [("old", "saved.bin"), ("new", "new.bin")][said.below(2)];
    let Some(all) = journal["extents"]
        .as_array_mut()
        .filter(|all| !all.is_empty())
    else {
        return;
    };
    let index = said.below(all.len());
    let sectors = all[index]["sectors"].as_u64().unwrap_or(0).min(2048);
    let bytes = vec![0xE5; usize::try_from(sectors * 512).unwrap()];
    all[index][side] = stored(files, name, &bytes);
}

/// Adds bytes to a file of the folder: how a journal refers to them.
fn stored(files: &Files, name: &str, bytes: &[u8]) -> Value {
    let mut file = files.get(name).unwrap().to_vec();
    let offset = file.len();
    file.extend(bytes);
    files.put(name, file);
    json!({ "offset": offset, "blake3": blake3::hash(bytes).to_hex().as_str() })
}

/// The strongest that there is: an extent anywhere, of which the journal knows what the disk holds there, so that it
/// looks like one that is still to be written, or to be taken back.
fn forge(journal: &mut Value, files: &Files, said: &mut Said<'_>, job: &Job, moment: &Moment) {
    let medium = Medium::new(&job.old, moment.disk.clone());
    let geometry = medium.geometry();
    let partitions = &moment.partitions;
    let within = match partitions.get(said.below(partitions.len() + 1)) {
        Some(partition) => *partition,
        None => geometry.whole(),
    };
    let at = within.first.0 + (said.number() * 97) % within.sectors();
    let there = medium.read_sector(Lba(at)).unwrap();
    let other = vec![0xEE; there.len()];
    let (old, new) = match said.below(2) {
        0 => (&there, &other),
        _ => (&other, &there),
    };
    use StageKind::{Claim, Clear, Edit, Fill, Prepare, Shrink, Table, Takeover};
    let stages = [Claim, Shrink, Fill, Prepare, Table, Takeover, Clear, Edit];
    let stage = stages[said.below(stages.len())];
    let entry = json!({
        "stage": stage,
        "what": { "kind": "esp" },
        "first_lba": at,
        "sectors": 1,
        "old": stored(files, "saved.bin", old),
        "new": stored(files, "new.bin", new),
    });
    let volume = json!({
        "first_lba": within.first.0,
        "sectors_before": within.sectors(),
        "sectors_after": within.sectors(),
        "named_at": 0,
        "before": "",
        "after": "",
    });
    if said.below(2) == 0
        && let Some(volumes) = journal["volumes"].as_array_mut()
    {
        volumes.push(volume);
    }
    if let Some(all) = journal["extents"].as_array_mut() {
        // Where its stage is, so that the order is right.
        let is_later = |entry: &Value| {
            serde_json::from_value(entry["stage"].clone()).is_ok_and(|its: StageKind| its > stage)
        };
        let place = all.iter().position(is_later).unwrap_or(all.len());
        all.insert(place, entry);
    }
}
