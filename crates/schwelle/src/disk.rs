//! What the commands have in common: opening a disk, looking at it, judging it, drafting.

use std::cell::OnceCell;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use schwelle_core::bitlocker::Unlocked;
use schwelle_core::device::{self, DiskFile, HealthWarning};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Stamp;
use schwelle_core::fat::DosTime;
use schwelle_core::firmware::{Ground, Machine};
use schwelle_core::host::{Bus, HostFacts, User, this_pc};
use schwelle_core::identities::Style;
use schwelle_core::job::{FolderState, FoundJob, jobs_of};
use schwelle_core::mend::{MendError, NotMended};
use schwelle_core::next::Next;
use schwelle_core::pipeline::{self, Judged, Mending, NotDrafted, Outside, Rehearsed};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::{Profile, open_image_or_disk};
use schwelle_core::rules::{JobPlace, Twin};

use crate::error::{CliError, Kind};
use crate::options::{Accepted, DiskOptions, ImageOptions};
use crate::policy::Policy;
use crate::random::Guids;
use crate::text::typed;
use crate::unlock::UnlockOptions;
use crate::which;
use crate::words;
use crate::words::here::here;

/// An opened disk.
pub(crate) struct Disk {
    pub(crate) path: PathBuf,
    /// With its encrypted volumes open, as far as they are.
    pub(crate) device: Unlocked<DiskFile>,
    pub(crate) profile: Profile,
    given: DiskOptions,
    /// The partition of the system that firmware without a boot entry is to start.
    first: Option<usize>,
    /// As it was named, where that is surely this one: by serial number or by-id name.
    surely: Option<PathBuf>,
    /// Other disks with its signature or GUID, looked for once.
    twins: OnceCell<Vec<Twin>>,
    /// Job folders that belong to it, looked for once.
    jobs: OnceCell<Vec<FoundJob>>,
}

impl Disk {
    /// The job folders that belong to this disk: on all mounted file systems, and beside an image.
    fn jobs(&self) -> &[FoundJob] {
        self.jobs.get_or_init(|| {
            if self.is_real() {
                return match this_pc().mounted_folders() {
                    Ok(places) => jobs_of(&self.device, &places, 2),
                    Err(error) => vec![FoundJob {
                        path: PathBuf::from("/"),
                        found: FolderState::NotSearched(error.into()),
                    }],
                };
            }
            let beside = self.path.parent().unwrap_or(Path::new("."));
            jobs_of(&self.device, &[or_current(beside)], 1)
        })
    }

    /// True for a real disk, false for an image.
    pub(crate) fn is_real(&self) -> bool {
        self.device.disk().is_block_device()
    }

    /// What an NVMe drive says of its own health; nothing of others, and where it does not say.
    fn health(&self) -> Vec<HealthWarning> {
        if self.profile.host.bus != Some(Bus::Nvme) {
            return Vec::new();
        }
        let page = this_pc().nvme_health(self.device.disk().file());
        page.map_or_else(|_| Vec::new(), |page| device::nvme_warnings(&page))
    }

    /// Refuses a disk with an unfinished job, or with a job folder that may be one: of those found, or in a folder or
    /// beside it.
    ///
    /// # Errors
    ///
    /// The job folder that is in the way.
    pub(crate) fn refuse_unfinished_job(&self, near: &Path) -> Result<(), CliError> {
        let beside = near.parent().unwrap_or(Path::new("."));
        let near = jobs_of(&self.device, &[near.to_owned(), or_current(beside)], 1);
        for FoundJob { path, found } in near.iter().chain(self.jobs()) {
            match found {
                FolderState::Job(state) if state.is_unfinished() => {
                    return Err(CliError::unfinished(&self.path, path));
                }
                FolderState::Unreadable(fault) => {
                    return Err(CliError::job_unreadable(&self.path, path, fault));
                }
                FolderState::Job(_) | FolderState::Damaged(_) | FolderState::NotSearched(_) => {}
            }
        }
        Ok(())
    }

    /// The same disk, asked about with these options.
    ///
    /// # Errors
    ///
    /// What they say of systems that are not there.
    pub(crate) fn with(mut self, given: &DiskOptions) -> Result<Self, CliError> {
        self.given = given.clone();
        self.first = given.systems.apply(&mut self.profile)?;
        Ok(self)
    }

    /// A command for this disk as it is typed next, with the options that this one was given.
    pub(crate) fn next(&self, command: &str) -> String {
        let name = self.surely.as_deref().unwrap_or(&self.path);
        self.command(command, &typed(name))
    }

    /// The same for after a restart, when paths may have changed.
    pub(crate) fn next_after_restart(&self, command: &str) -> String {
        self.command(command, &self.after_restart())
    }

    /// What it is called after a restart, as it is typed.
    pub(crate) fn after_restart(&self) -> String {
        which::after_restart(&self.path, &self.profile.host)
    }

    /// What can follow, as it is typed.
    pub(crate) fn typed_next(&self, next: &Next) -> String {
        let with_job = |verb: &str, job: &Option<PathBuf>| {
            let job = job.as_deref().map_or("DIR".to_owned(), typed);
            format!("schwelle {verb} --job {job}")
        };
        let about = |to: &Option<Style>, disk_use: &Option<DiskUse>| {
            options(to.unwrap_or_default(), disk_use.unwrap_or_default())
        };
        match next {
            Next::Survey => "schwelle survey".to_owned(),
            Next::Check { to, disk_use } => self.next("check") + &about(to, disk_use),
            Next::CheckOther { device } => {
                format!("schwelle check {}", typed(&this_pc().device_path(device)))
            }
            Next::Rehearse { to, disk_use } => self.next("rehearse") + &about(to, disk_use),
            Next::Mend => self.next("mend"),
            Next::ConvertBySerial { serial } => {
                format!("schwelle convert {} --job DIR", typed(Path::new(serial)))
            }
            Next::Resume { job } => with_job("resume", job),
            Next::Undo { job } => with_job("undo", job),
        }
    }

    fn command(&self, command: &str, name: &str) -> String {
        let options = self.given.typed_for(command);
        format!("schwelle {command} {name}{options}")
    }

    /// Opens read-only and looks at it.
    pub(crate) fn open(path: &Path, image: &ImageOptions) -> Result<Self, CliError> {
        Self::open_for(path, image, false)
    }

    /// Opens exclusively, for writing, and looks at it.
    pub(crate) fn open_for_writing(path: &Path, image: &ImageOptions) -> Result<Self, CliError> {
        Self::open_for(path, image, true)
    }

    fn open_for(path: &Path, image: &ImageOptions, write: bool) -> Result<Self, CliError> {
        let named = which::resolve(path)?;
        let given = DiskOptions {
            image: image.clone(),
            ..DiskOptions::default()
        };
        let look = || {
            let device = open_image_or_disk(&named.path, image.sector_size, write)?;
            Self::look_at(&named.path, device, &image.unlock)
        };
        let disk = twice_where_mounted(look)?.with(&given)?;
        Ok(Self {
            surely: named.surely.then(|| path.to_owned()),
            ..disk
        })
    }

    /// Looks at a disk that has been opened.
    pub(crate) fn look_at(
        path: &Path,
        device: DiskFile,
        unlock: &UnlockOptions,
    ) -> Result<Self, CliError> {
        let facts = this_pc().facts(path, device.is_block_device());
        let host = once_opened(facts, device.has_taken_off());
        Self::look_knowing(path, unlock.open(path, device)?, host)
    }

    fn look_knowing(
        path: &Path,
        device: Unlocked<DiskFile>,
        host: HostFacts,
    ) -> Result<Self, CliError> {
        let profile =
            Profile::read_open(&device, host).map_err(|error| CliError::reading(path, error))?;
        Ok(Self {
            path: path.to_owned(),
            device,
            profile,
            given: DiskOptions::default(),
            first: None,
            surely: None,
            twins: OnceCell::new(),
            jobs: OnceCell::new(),
        })
    }

    /// The PC that the disk belongs to: the one in the machine file, else this one for its own
    /// disks. An image says nothing about the PC that it is worked on.
    pub(crate) fn machine(&self, from_file: Option<&Machine>) -> Machine {
        match from_file {
            Some(machine) => machine.clone(),
            None if self.is_real() => Machine::of(this_pc()),
            None => Machine::unknown(Ground::Image),
        }
    }

    /// Judges the disk.
    pub(crate) fn judge<'k>(&'k self, asked: &Inputs<'k>) -> Judged<'k, 'k> {
        Judged::new(&self.device, &self.profile, self.known(asked))
    }

    /// What is known besides the disk, in the terms of the rules.
    fn known<'a>(&'a self, asked: &Inputs<'a>) -> pipeline::Inputs<'a> {
        let is_real = self.is_real();
        pipeline::Inputs {
            to: asked.to,
            request: asked.request,
            types: &asked.policy.types,
            severities: &asked.policy.severities,
            machine: self.machine(asked.machine),
            job: asked.job.map(|job| {
                let folder = this_pc().folder(job);
                JobPlace {
                    on_disk: is_real
                        && folder
                            .disk
                            .is_some_and(|disk| this_pc().is_same_disk(&disk, &self.path)),
                    in_memory: folder.in_memory,
                    may_be_in_memory: asked.accepted.job_in_memory,
                    read_only: folder.read_only,
                    may_need_repair: folder.may_need_repair,
                }
            }),
            health: self.health(),
            twins: self
                .twins
                .get_or_init(|| which::twins(self.device.disk(), &self.path)),
            jobs: self.jobs(),
            named_surely: self.surely.is_some(),
            job_lost: self.given.job_lost,
            first: self.first,
            backup_confirmed: asked.backup_confirmed,
        }
    }

    /// Drafts the conversion of a disk that is not blocked, and rehearses it.
    pub(crate) fn draft<'d>(&self, judged: &Judged<'d, '_>) -> Result<Rehearsed<'d>, CliError> {
        let mut guids = Guids::default();
        let plan = judged.draft(Outside {
            new_guid: &mut || guids.make(),
            stamp: stamp_now(),
        });
        guids.check()?;
        let plan = plan.map_err(|error| match error {
            NotDrafted::Blocked => CliError::new(
                Kind::Blocked,
                "a rule blocks this disk",
                "Nothing was written.",
                self.next("check"),
            ),
            NotDrafted::Draft(error) => CliError::drafting(&self.path, error),
        })?;
        Ok(Rehearsed::new(plan))
    }

    /// Plans to mend it; `None` when nothing fails.
    pub(crate) fn mend<'a>(
        &'a self,
        asked: &Inputs<'a>,
    ) -> Result<Option<Mending<'a, 'a>>, CliError> {
        let mut guids = Guids::default();
        let outside = Outside {
            new_guid: &mut || guids.make(),
            stamp: stamp_now(),
        };
        let planned = Mending::new(&self.device, &self.profile, self.known(asked), outside);
        guids.check()?;
        planned.map_err(|error| self.not_mended(error))
    }

    /// It cannot be mended here.
    pub(crate) fn not_mended(&self, error: MendError) -> CliError {
        let mut what = format!("{}: {error}", self.path.display());
        let check = self.next("check");
        let next = match &error {
            MendError::NotGpt { .. } => format!("To see whether it can be converted: {check}"),
            MendError::NoRemedy {
                step,
                why: why @ NotMended::UnknownContent { .. },
            } => {
                what += &format!(": {}", words::steps::found(&step.evidence));
                let why = words::mend::not_mended(why);
                let name = self.profile.disk_name().unwrap_or_default();
                let option = format!(
                    "{} --format-esp {}",
                    self.next("mend"),
                    typed(Path::new(&name))
                );
                format!(
                    "It is not mended here, since {why}. Another system's boot loaders may be in it: copy the partition \
                     first. If nothing on it is needed: {option}"
                )
            }
            MendError::NoRemedy { step, why } => {
                what += &format!(": {}", words::steps::found(&step.evidence));
                // Where the step's remedy is to mend the disk, it is no advice: that was just refused.
                let remedy = step.remedy.as_ref();
                let remedy = remedy.filter(|remedy| !remedy.next().contains(&Next::Mend));
                let advice = match remedy {
                    Some(remedy) => {
                        let next = remedy.next().into_iter();
                        let next: Vec<String> = next.map(|next| self.typed_next(&next)).collect();
                        words::steps::remedy(remedy, &next)
                    }
                    None => format!("Each step with what was found: {}", self.next("rehearse")),
                };
                let why = words::mend::not_mended(why);
                format!("It is not mended here, since {why}. {advice}")
            }
            MendError::NoRoom(no_room) => {
                let no_room = words::places::no_room(no_room);
                format!("{no_room} Look at the disk: {check}")
            }
            MendError::NotPassed | MendError::Draft(_) | MendError::Device(_) => {
                let rehearse = self.next("rehearse");
                format!("See how far a start comes: {rehearse}")
            }
        };
        CliError::new(Kind::Blocked, what, "Nothing was written.", next)
    }
}

/// Refuses a disk that is in use, or that is none. The rules say the same of a disk to be
/// converted; this is for the commands that ask no rules.
pub(crate) fn refuse_users(path: &Path, host: &HostFacts) -> Result<(), CliError> {
    let mut reasons: Vec<String> = host.users.iter().map(User::to_string).collect();
    reasons.extend(
        host.partition_of
            .as_ref()
            .map(|disk| format!("this is a partition of {disk}")),
    );
    if host.read_only {
        reasons.push("the system holds this disk read-only".to_owned());
    }
    if reasons.is_empty() {
        return Ok(());
    }
    Err(CliError::new(
        Kind::Unchanged,
        format!("{}: {}", path.display(), reasons.join("; ")),
        "Only a whole disk that nothing else uses is written. Nothing was written.",
        format!("{}; then repeat the command.", here().free_it),
    ))
}

/// Looks into what keeps a partition busy at most so long: systems look at new partitions by themselves.
const BUSY_TRIES: u32 = 10;
const BUSY_WAIT: Duration = Duration::from_millis(200);

/// Refuses a real disk of which a partition is open anywhere: the kernel is asked to read the table again,
/// which it does for a disk at rest only. That covers what no list shows: other namespaces, programs of
/// other users, drivers.
pub(crate) fn refuse_busy(disk: &Disk) -> Result<(), CliError> {
    if !disk.is_real() {
        return Ok(());
    }
    for _ in 0..BUSY_TRIES {
        match this_pc().read_partitions_again(disk.device.disk().file()) {
            Err(error) if error.kind() == std::io::ErrorKind::ResourceBusy => {
                std::thread::sleep(BUSY_WAIT);
            }
            Ok(()) => return Ok(()),
            // "Invalid": a device on which this kernel shows no partitions.
            Err(error) if error.kind() == std::io::ErrorKind::InvalidInput => return Ok(()),
            Err(error) => {
                return Err(CliError::new(
                    Kind::Unchanged,
                    format!(
                        "{}: whether a partition of it is open cannot be told: {error}",
                        disk.path.display()
                    ),
                    "A program that has a partition open can write to it at any time. Nothing was written.",
                    "Repeat the command; try another port or cable.",
                ));
            }
        }
    }
    let users = this_pc().facts(&disk.path, true).users;
    let users = match &users[..] {
        [] => "the system says that a partition of it is open, and does not say by what".to_owned(),
        users => {
            let users: Vec<String> = users.iter().map(User::to_string).collect();
            users.join("; ")
        }
    };
    Err(CliError::new(
        Kind::Blocked,
        format!("{} is in use: {users}", disk.path.display()),
        "What has a partition open can write to it at any time. Nothing was written.",
        format!("{}; then repeat the command.", here().free_it),
    ))
}

/// Refuses a disk that has got another length since it was looked at: an image to which another program adds.
pub(crate) fn refuse_resized(disk: &Disk) -> Result<(), CliError> {
    let what = match disk.device.disk().has_other_length() {
        Ok(false) => return Ok(()),
        Ok(true) => "its length has changed since it was looked at".to_owned(),
        Err(error) => format!("whether its length has changed cannot be told: {error}"),
    };
    Err(CliError::new(
        Kind::Unchanged,
        format!("{}: {what}", disk.path.display()),
        "Another program is writing to it. Nothing was written.",
        "End that program, and repeat the command.",
    ))
}

/// What is known besides the disk.
#[derive(Debug, Clone)]
pub(crate) struct Inputs<'a> {
    /// The table that it is to get.
    pub(crate) to: Style,
    pub(crate) request: EspRequest,
    /// What the workshop has decided.
    pub(crate) policy: &'a Policy,
    pub(crate) job: Option<&'a Path>,
    /// The PC that the disk belongs to, where it is named.
    pub(crate) machine: Option<&'a Machine>,
    pub(crate) backup_confirmed: bool,
    /// What the technician accepts by name.
    pub(crate) accepted: Accepted,
}

impl<'a> Inputs<'a> {
    /// A disk in this PC, where one is named, by this policy; nothing else is known.
    pub(crate) fn of(machine: Option<&'a Machine>, policy: &'a Policy) -> Self {
        Self {
            to: Style::Gpt,
            request: EspRequest::default(),
            policy,
            job: None,
            machine,
            backup_confirmed: false,
            accepted: Accepted::default(),
        }
    }
}

/// What the next command needs besides the disk: its use, and the way back.
pub(crate) fn options_of(judged: &Judged<'_, '_>) -> String {
    options(judged.to(), judged.disk_use())
}

/// The options that say what a disk is for and which table it is about, as they are typed after its name.
pub(crate) fn options(to: Style, disk_use: DiskUse) -> String {
    let mut text = String::new();
    if to == Style::Mbr {
        text += " --to mbr";
    }
    if disk_use == DiskUse::Data {
        text += " --data-disk";
    }
    text
}

/// The current folder has the empty name as the parent of a relative path.
fn or_current(folder: &Path) -> PathBuf {
    if folder.as_os_str().is_empty() {
        PathBuf::from(".")
    } else {
        folder.to_owned()
    }
}

/// The time in the forms that the draft needs (FAT without a time zone: UTC).
pub(crate) fn stamp_now() -> Stamp {
    let now = Timestamp::now();
    let utc = now.to_zoned(jiff::tz::TimeZone::UTC);
    let field = |value: i16, shift: u32| u16::try_from(value).unwrap_or(0) << shift;
    let date =
        field(utc.year() - 1980, 9) | field(utc.month().into(), 5) | field(utc.day().into(), 0);
    let time = field(utc.hour().into(), 11)
        | field(utc.minute().into(), 5)
        | field((utc.second() / 2).into(), 0);
    // 11,644,473,600 seconds lie between 1601 and 1970.
    let windows = u64::try_from(now.as_second() + 11_644_473_600).unwrap_or(0) * 10_000_000;
    Stamp {
        dos: DosTime { date, time },
        windows,
    }
}

/// What the host says of a disk that has been opened: volumes that were taken off for that are mounted no more.
fn once_opened(facts: HostFacts, has_taken_off: bool) -> HostFacts {
    let mounted = if has_taken_off {
        Vec::new()
    } else {
        facts.mounted
    };
    HostFacts { mounted, ..facts }
}

/// Looks at a disk, and once more where volumes of it are mounted: whether both looks agree is noted. Each opens
/// it anew, since what was read is kept.
fn twice_where_mounted(mut look: impl FnMut() -> Result<Disk, CliError>) -> Result<Disk, CliError> {
    let mut disk = look()?;
    if !disk.profile.host.mounted.is_empty() {
        let again = look()?;
        let looks = [&disk.profile, &again.profile].map(|profile| format!("{profile:?}"));
        disk.profile.host.changed_meanwhile = looks[0] != looks[1];
    }
    Ok(disk)
}

#[cfg(test)]
mod tests {
    use schwelle_core::host::Mounted;

    use super::*;

    fn mounted() -> HostFacts {
        HostFacts {
            mounted: vec![Mounted {
                at: r"D:\".to_owned(),
                is_shown: true,
                first_bytes: vec![1 << 20],
            }],
            ..HostFacts::default()
        }
    }

    #[test]
    fn volumes_that_were_taken_off_are_not_mounted() {
        assert_eq!(once_opened(mounted(), false), mounted());
        assert_eq!(once_opened(mounted(), true), HostFacts::default());
    }

    #[test]
    fn a_disk_with_mounted_volumes_is_looked_at_twice() {
        let folder = tempfile::tempdir().unwrap();
        let image = folder.path().join("disk.img");
        for (facts, is_written, looks, changed) in [
            (mounted(), false, 2, false),
            (mounted(), true, 2, true),
            (HostFacts::default(), true, 1, false),
        ] {
            let mut sectors = vec![0_u8; 4 << 20];
            // A partition of type 07 from LBA 2048 on, of 2048 sectors.
            let entry = [0, 0, 0, 0, 7, 0, 0, 0, 0, 8, 0, 0, 0, 8, 0, 0];
            sectors[446..462].copy_from_slice(&entry);
            sectors[510..512].copy_from_slice(&[0x55, 0xAA]);
            std::fs::write(&image, &sectors).unwrap();
            let mut count = 0;
            let disk = twice_where_mounted(|| {
                count += 1;
                let device = open_image_or_disk(&image, None, false)?;
                let device = Unlocked::new(device, Vec::new());
                let disk = Disk::look_knowing(&image, device, facts.clone());
                if is_written {
                    // Its signature, as a system may give it a new one.
                    sectors[440] += 1;
                    std::fs::write(&image, &sectors).unwrap();
                }
                disk
            });
            let found = disk.map_or(None, |disk| Some(disk.profile.host.changed_meanwhile));
            assert_eq!((count, found), (looks, Some(changed)), "{facts:?}");
        }
    }
}
