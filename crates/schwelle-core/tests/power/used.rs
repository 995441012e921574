//! Power is cut while a job is taken back on a disk that has been used since: files on the used volume get the old
//! table's names on the way, and at any moment the way can be begun again.

use std::fs;
use std::path::Path;

use schwelle_core::device::{BlockDevice, Extent, Lba, Memory, ReadDevice, Tracked, Window};
use schwelle_core::draft::RestoredNames;
use schwelle_core::host::HostFacts;
use schwelle_core::job::{
    FolderProof, JobFolder, JobState, RecoverError, Recovery, RecoveryFailed, Unproven,
};
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_demo::{SMALL_JOBS, STAMP, edit_record, plan_of};
use schwelle_disk::commit;
use schwelle_testkit::{Dice, Failure, Image, Medium};
use tempfile::TempDir;

/// Where the standard Windows volume lies.
fn windows() -> Extent {
    Extent::new(Lba(51 * 2048), 160 * 2048).unwrap()
}

/// The time that edited hives carry: later than the conversion, as a clock has it.
const LATER: u64 = STAMP.windows + 10_000_000;

/// A disk converted and used, whose job lies in `folder`.
fn used(old: &Memory, folder: &Path) -> Memory {
    let mut job = JobFolder::create(folder, (SMALL_JOBS[0].facts)(), "{}").unwrap();
    let plan = plan_of(old, EspRequest::default()).unwrap();
    job.save(old, plan.drafts(), &plan.changes, plan.relied_on.clone())
        .unwrap();
    plan.bind(&job).unwrap();
    let medium = Medium::new(old, Image::default());
    commit::apply(plan.drafts(), &plan.changes, &medium, &mut job, &mut ()).unwrap();
    job.set_state(JobState::Done).unwrap();
    let used = Memory::new(512, old.geometry().sectors);
    for lba in (0..used.geometry().sectors).step_by(2048) {
        let len = (used.geometry().sectors - lba).min(2048) * 512;
        let bytes = medium
            .read_vec(lba * 512, usize::try_from(len).unwrap())
            .unwrap();
        if bytes.iter().any(|&byte| byte != 0) {
            used.write_at(lba * 512, &bytes).unwrap();
        }
    }
    // What opens a file leaves the time in its record.
    let window = Window::new(&used, windows()).unwrap();
    let record = {
        let volume = NtfsVolume::open(&window).unwrap();
        volume
            .find("\\Windows\\explorer.exe")
            .unwrap()
            .map(|file| file.record)
    };
    edit_record(&window, record.unwrap_or(5), |record| {
        let content = usize::from(record[0x14]) + 0x18;
        record[content + 24] ^= 0x5A;
    })
    .unwrap();
    used.with_physical(old.geometry().physical_sector)
}

/// Takes the job back as the program does; how many files are named back. Edits that were cut off are counted.
fn take_back(
    folder: &Path,
    medium: &Medium<'_>,
    cut_edits: &mut u32,
) -> Result<usize, Box<RecoveryFailed>> {
    let before = |error: RecoverError| Box::new(RecoveryFailed::from(error));
    let job = JobFolder::open(folder).map_err(|error| before(error.into()))?;
    let tracked = Tracked::new(medium);
    let recovery = Recovery::open(job, &tracked).map_err(before)?;
    *cut_edits += u32::from(recovery.proof() == FolderProof::Unproven(Unproven::CutEdits));
    let mut planned = recovery.plan_undo().map_err(before)?;
    let named = RestoredNames::plan(&mut planned, LATER).map_err(before)?;
    if let Some(named) = &named {
        assert_eq!(named.left, []);
    }
    crate::vouched_undo(planned).write(&mut ())?;
    Ok(named.map_or(0, |named| named.files.len()))
}

/// The files of the folder that change on the way back.
fn record(folder: &Path) -> Vec<(std::path::PathBuf, Vec<u8>)> {
    let files = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().path());
    let changes = |path: &std::path::PathBuf| {
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        name.starts_with("state-") || name.starts_with("names-")
    };
    let files = files.filter(changes);
    files
        .map(|path| (path.clone(), fs::read(path).unwrap()))
        .collect()
}

fn restore(folder: &Path, files: &[(std::path::PathBuf, Vec<u8>)]) {
    for (path, _) in record(folder) {
        fs::remove_file(path).unwrap();
    }
    for (path, content) in files {
        fs::write(path, content).unwrap();
    }
}

#[test]
fn a_used_disk_is_taken_back_through_any_cut_with_its_names() {
    let in_memory = Path::new("/dev/shm");
    for physical in [512, 4096] {
        let old = (SMALL_JOBS[0].disk)().with_physical(physical);
        let place = match in_memory.is_dir() {
            true => TempDir::new_in(in_memory),
            false => TempDir::new(),
        };
        let place = place.unwrap();
        let folder = place.path().join("job");
        let base = used(&old, &folder);
        let mut cut_edits = 0;
        let begin = record(&folder);
        let medium = Medium::new(&base, Image::default());
        assert_eq!(
            take_back(&folder, &medium, &mut cut_edits).unwrap(),
            2,
            "SYSTEM and ReAgent.xml"
        );
        let (operations, flushes) = (medium.operations(), medium.flushes());
        let expected = medium.into_image();
        let finished = Medium::new(&base, expected.clone());
        let profile = Profile::read(&finished, HostFacts::default()).unwrap();
        let letters = profile.systems[0].letters.clone().unwrap().unwrap();
        assert!(
            letters
                .converted
                .iter()
                .any(|name| name.name.contains("C:")),
            "{letters:?}"
        );

        let (mut dice, mut cases) = (Dice::new(0x5EED), 0);
        for cut in 0..operations {
            restore(&folder, &begin);
            let medium = Medium::new(&base, Image::default()).fail(Failure::Power, cut);
            take_back(&folder, &medium, &mut cut_edits).unwrap_err();
            let reached = record(&folder);
            let mut survivors = medium.survivors(flushes.contains(&cut));
            survivors.push(medium.survivors_at_random(&mut dice));
            if physical > 512 {
                let torn = [true, false].map(|is_readable| medium.torn(is_readable, &mut dice));
                survivors.extend(torn.into_iter().flatten());
            }
            for (index, image) in survivors.into_iter().enumerate() {
                let case = format!("{physical}, cut at {cut}, survivor {index}");
                restore(&folder, &reached);
                let mut image = image;
                if dice.once_in(3) {
                    // Power goes again on the second way.
                    let again =
                        Medium::new(&base, image.clone()).fail(Failure::Power, dice.index(30));
                    image = match take_back(&folder, &again, &mut cut_edits) {
                        Err(_) => again.survivors_at_random(&mut dice),
                        Ok(_) => {
                            restore(&folder, &reached);
                            image
                        }
                    };
                }
                let medium = Medium::new(&base, image);
                let done = take_back(&folder, &medium, &mut cut_edits);
                done.unwrap_or_else(|error| panic!("{case}: {error}"));
                assert!(medium.into_image() == expected, "{case}: another disk");
                cases += 1;
            }
        }
        println!("{physical}: {cases} cases at {operations} operations");
        assert!(cases > 50 && cut_edits > 0, "{cases}, {cut_edits}");
    }
}
