//! What `convert` and `mend` have in common once there is a draft: the questions, the job folder, the
//! writing, the last rehearsal.

use std::path::Path;

use schwelle_core::device::{DiskFile, ReadDevice};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::draft::Plan;
use schwelle_core::firmware::Machine;
use schwelle_core::host::this_pc;
use schwelle_core::identities::Style;
use schwelle_core::job::{
    JobEnd, JobError, JobFacts, JobFolder, JobKind, ReservedFolder, bytes_needed,
};
use schwelle_core::pipeline::{self, NotWritten, Ready};
use schwelle_core::rehearse::{Answer, Rehearsal};
use schwelle_core::starts::SystemStart;

use crate::disk::{Disk, Inputs, refuse_busy, refuse_resized};
use crate::document;
use crate::error::{CliError, Kind};
use crate::options::Accepted;
use crate::policy::Policy;
use crate::progress::Progress;
use crate::screen::Screen;
use crate::text;
use crate::views;
use crate::views::job::{DiskDoc, Outcome, PcFactDoc};
use crate::views::json::Rehearsed;
use crate::views::plan::SHEETS;
use crate::views::sheet::Sheet;
use crate::words;

/// A job on a disk.
pub(super) struct Job<'a> {
    disk: &'a Disk,
    /// Its new folder.
    folder: &'a Path,
    /// The questions are answered with yes.
    yes: bool,
    /// What is asked beside the two questions of every job.
    policy: &'a Policy,
    /// The PC that the disk belongs to.
    machine: Machine,
    does: JobKind,
    disk_use: DiskUse,
    accepted: Accepted,
}

impl<'a> Job<'a> {
    /// A job under these inputs.
    pub(super) fn new(
        does: JobKind,
        disk: &'a Disk,
        folder: &'a Path,
        yes: bool,
        inputs: &Inputs<'a>,
    ) -> Self {
        Self {
            disk,
            folder,
            yes,
            policy: inputs.policy,
            machine: disk.machine(inputs.machine),
            does,
            disk_use: inputs.request.disk_use,
            accepted: inputs.accepted.clone(),
        }
    }

    /// A disk with an unfinished job needs that job and no other; and a folder with a job in it takes
    /// no second one.
    pub(super) fn refuse_unfinished(&self) -> Result<(), CliError> {
        self.disk.refuse_unfinished_job(self.folder)?;
        let entries = self.folder.read_dir();
        if entries.is_ok_and(|mut entries| entries.next().is_some()) {
            return Err(crate::error::path_taken(self.folder.to_owned()));
        }
        Ok(())
    }

    /// Refuses, before anything is asked or written, a disk of which something is in use, and a folder whose
    /// file system has too little room.
    pub(super) fn refuse_unready(&self, plan: &Plan<'_>) -> Result<(), CliError> {
        refuse_busy(self.disk)?;
        let facts = this_pc().folder(self.folder);
        let needed = bytes_needed(&plan.changes, facts.block_bytes);
        match facts.free_bytes {
            Some(free) if free < needed => Err(CliError::new(
                Kind::Unchanged,
                format!(
                    "{}: the job folder needs up to {}, and its file system has {} free",
                    self.folder.display(),
                    text::bytes(needed),
                    text::bytes(free)
                ),
                "Nothing is written without a complete record of what is overwritten; the disk is \
                 unchanged.",
                "Free some space there, or name a folder on another medium: --job DIR",
            )),
            _ => Ok(()),
        }
    }

    /// Asks what neither --yes nor a policy answers: the technician does, or an option of its own.
    fn ask_by_name(
        &self,
        screen: &Screen,
        question: &str,
        (what, why, option): (String, &'static str, &str),
    ) -> Result<(), CliError> {
        if !self.yes && screen.confirms(question) {
            return Ok(());
        }
        let next = format!("If that is right, repeat the command with {option}");
        Err(CliError::new(Kind::Usage, what, why, next))
    }

    /// Asks about partitions of a data disk in which nothing is recognised.
    fn confirm_unrecognised(&self, screen: &Screen) -> Result<(), CliError> {
        if self.accepted.keep_unrecognised || self.disk_use != DiskUse::Data {
            return Ok(());
        }
        let partitions = self.disk.profile.partitions.iter();
        for partition in partitions.filter(|partition| partition.is_unrecognised()) {
            let title = text::safe(&partition.title());
            let refused = (
                format!("nothing is recognised in {title}, and keeping it was not accepted"),
                "It may be damaged, or shown with another sector size than it was written with. The disk is \
                 unchanged.",
                "--keep-unrecognised",
            );
            let question =
                format!("Nothing is recognised in {title}. Keep it without inspecting it?");
            self.ask_by_name(screen, &question, refused)?;
        }
        Ok(())
    }

    /// Asks about volumes that lose their restore points.
    fn confirm_restore_points(&self, plan: &Plan<'_>, screen: &Screen) -> Result<(), CliError> {
        if self.accepted.lose_restore_points {
            return Ok(());
        }
        for partition in plan.placement.loses_shadow_copies(&self.disk.profile) {
            let title = text::safe(&partition.title());
            let refused = (
                format!("the restore points of {title} would be lost, and that was not accepted"),
                "The volume is shrunk, and moved data overwrites clusters that they still need. The disk is \
                 unchanged.",
                "--lose-restore-points",
            );
            let question =
                format!("The restore points (shadow copies) of {title} will be lost. Continue?");
            self.ask_by_name(screen, &question, refused)?;
        }
        Ok(())
    }

    /// Asks whether the recovery password of an encrypted Windows is at hand, where Windows will ask for it.
    fn confirm_recovery_password(&self, screen: &Screen) -> Result<(), CliError> {
        if self.accepted.recovery_key_at_hand || self.disk_use == DiskUse::Data {
            return Ok(());
        }
        let systems = self.disk.profile.opened_systems();
        for (partition, encryption) in systems.filter(|(_, found)| found.is_protected()) {
            let title = text::safe(&partition.title());
            let ids: Vec<String> = encryption
                .recovery_ids
                .iter()
                .map(|id| id.to_string().to_uppercase())
                .collect();
            let key = match &ids[..] {
                [] => "of which the volume has none".to_owned(),
                ids => format!("with the key ID {}", ids.join(" or ")),
            };
            let refused = (
                format!("that the recovery password of {title} is at hand was not confirmed"),
                "At its next start Windows asks for it once, since the PC starts in another way. The disk is \
                 unchanged.",
                "--recovery-key-at-hand",
            );
            let question = format!(
                "At its next start Windows on {title} asks for its recovery password, {key}. Is it at hand?"
            );
            self.ask_by_name(screen, &question, refused)?;
        }
        Ok(())
    }

    /// Asks about each system that starts today and will not afterwards: it is given up by its name.
    fn confirm_dropped(&self, starts: &[SystemStart], screen: &Screen) -> Result<(), CliError> {
        let lost = || starts.iter().filter(|system| system.is_lost());
        let mut named = self.accepted.drop.iter();
        let unknown = named.find(|name| !lost().any(|system| system.is_called(name)));
        if let Some(name) = unknown {
            let names: Vec<String> = lost()
                .map(|system| format!("\"{}\"", system.name))
                .collect();
            let names = match names.is_empty() {
                true => "none does".to_owned(),
                false => names.join(", "),
            };
            return Err(CliError::new(
                Kind::Usage,
                format!("--drop \"{name}\": no system of this name stops starting"),
                "A system is given up by exactly its name. The disk is unchanged.",
                format!("These stop starting: {names}"),
            ));
        }
        for system in lost() {
            if self.accepted.drop.iter().any(|name| system.is_called(name)) {
                continue;
            }
            let name = text::safe(&system.name);
            let question = format!(
                "{name} starts today and will not start from the converted disk. To give it up, type its name:"
            );
            let typed = (!self.yes).then(|| screen.ask(&question)).flatten();
            if !typed.is_some_and(|typed| system.is_called(&typed)) {
                return Err(CliError::new(
                    Kind::Usage,
                    format!("{name} would start no more, and was not given up"),
                    "It starts today, and has no UEFI boot loader on the converted disk. The disk is unchanged.",
                    format!("If you can do without it, repeat the command with --drop \"{name}\""),
                ));
            }
        }
        Ok(())
    }

    /// Asks whether a real disk may be written from this system.
    fn confirm_writing_here(&self, screen: &Screen) -> Result<(), CliError> {
        let is_real = self.disk.is_real();
        let Some(caution) = self.accepted.here.caution(is_real) else {
            return Ok(());
        };
        let question = format!("{caution} Write this disk from here?");
        if !self.yes && screen.confirms(&question) {
            return Ok(());
        }
        self.accepted.here.refuse(&self.disk.path, is_real)
    }

    /// Refuses a disk of another name than the one that was given in advance.
    fn refuse_other_name(&self) -> Result<(), CliError> {
        let Some(given) = &self.accepted.disk_name else {
            return Ok(());
        };
        let name = self.disk.profile.disk_name().unwrap_or_default();
        if given.eq_ignore_ascii_case(&name) {
            return Ok(());
        }
        Err(CliError::new(
            Kind::Usage,
            format!(
                "{}: this disk is called {name}, and not {given}",
                self.disk.path.display()
            ),
            "Another disk was meant. Nothing was written.",
            "See which disks there are: schwelle survey",
        ))
    }

    /// Holds the job folder, then asks what only the technician can answer. The folder is held before, so that a stick
    /// that is taken out meanwhile is noticed.
    ///
    /// # Errors
    ///
    /// The folder cannot be made, or a question was not answered with yes: the folder is given back.
    pub(super) fn confirm(
        &self,
        plan: &Plan<'_>,
        starts: &[SystemStart],
        screen: &Screen,
    ) -> Result<ReservedFolder, CliError> {
        let folder = ReservedFolder::new(self.folder).map_err(|error| CliError::job(&error))?;
        match self.ask(plan, starts, screen) {
            Ok(()) => Ok(folder),
            Err(error) => {
                folder.give_back();
                Err(error)
            }
        }
    }

    /// The questions that only the technician can answer.
    fn ask(
        &self,
        plan: &Plan<'_>,
        starts: &[SystemStart],
        screen: &Screen,
    ) -> Result<(), CliError> {
        self.refuse_other_name()?;
        self.confirm_unrecognised(screen)?;
        self.confirm_dropped(starts, screen)?;
        self.confirm_restore_points(plan, screen)?;
        self.confirm_recovery_password(screen)?;
        self.confirm_writing_here(screen)?;
        if self.yes {
            return Ok(());
        }
        screen.show("\n");
        let not_confirmed = |what: &str| {
            CliError::new(
                Kind::Usage,
                what,
                "The disk is unchanged.",
                "When everything is ready, repeat the command; --yes answers for scripts.",
            )
        };
        if !screen.confirms("Is there a backup of the customer's data that can be restored?") {
            return Err(not_confirmed("no backup was confirmed"));
        }
        for question in &self.policy.confirmations.questions {
            if !screen.confirms(&text::safe(question)) {
                let what = format!("not answered with yes: {question}");
                return Err(not_confirmed(&what));
            }
        }
        if self.accepted.disk_name.is_some() {
            return Ok(());
        }
        let name = self.disk.profile.disk_name().unwrap_or_default();
        let question = format!(
            "To {} this disk, type its disk name ({}):",
            verb(self.does),
            text::safe(&name)
        );
        match screen.ask(&question) {
            Some(typed) if typed.eq_ignore_ascii_case(&name) => Ok(()),
            _ => Err(not_confirmed("the name typed is not this disk's name")),
        }
    }

    /// What `job.json` says: the plan, and how the questions were answered.
    pub(super) fn record(&self, plan: views::json::Plan) -> String {
        let record = views::job::JobRecord {
            made_by: concat!("schwelle ", env!("CARGO_PKG_VERSION")).to_owned(),
            started: jiff::Timestamp::now().to_string(),
            disk: self.disk.path.display().to_string(),
            serial: self.disk.profile.host.serial.clone(),
            lasting_name: self.disk.after_restart(),
            answered_by: if self.yes { "--yes" } else { "the technician" }.to_owned(),
            questions: self.policy.confirmations.questions.clone(),
            shop: self.policy.shop.clone(),
            disk_facts: DiskDoc::of(self.disk),
            pc: PcFactDoc::of(&self.machine),
            plan,
        };
        document::pretty(&record)
    }

    /// Saves, writes, reads back, rehearses the real disk.
    pub(super) fn write(
        &self,
        ready: Ready<'_, '_>,
        (folder, record): (ReservedFolder, &str),
        screen: &Screen,
    ) -> Result<Written, CliError> {
        let disk = self.disk;
        let plan = ready.plan();
        let untouched = |error| CliError::job(&error);
        // Time has passed over the questions.
        refuse_busy(disk)?;
        refuse_resized(disk)?;
        let facts = JobFacts {
            kind: self.does,
            to: plan.table.style(),
            disk_use: plan.placement.disk_use,
            disk: disk.path.clone(),
            serial: disk.profile.host.serial.clone(),
            computer: disk.profile.computer_name(),
        };
        let job = folder.begin(facts, record).map_err(untouched)?;
        let busy = screen.busy("Saving what is overwritten");
        let saved = ready.save(&disk.device, job).map_err(untouched)?;
        drop(busy);
        let mut progress = Progress::new(screen, &disk.path, self.folder);
        progress.catch_stops();
        let written = saved.write(&mut progress);
        drop(progress);
        let pipeline::Written {
            mut job,
            not_recorded,
        } = written.map_err(|failure| {
            let NotWritten { error, mut job } = failure;
            // What the screen says matters now; it goes to the log as well, if possible.
            let _logged = job.log(&format!("{} {error}", jiff::Timestamp::now()));
            CliError::commit(&disk.path, self.folder, &error)
        })?;
        let mut warnings = Vec::new();
        warnings.extend(not_recorded.map(|error| unrecorded("resume", self.folder, &error)));
        let busy = screen.busy("Rehearsing the disk");
        warnings.extend(read_table_again(disk.device.disk()));
        let rehearsal = plan.rehearse_on(&disk.device);
        drop(busy);
        warnings.extend(io_warnings(disk, &mut job));
        say_outcome(&mut job, &rehearsal);
        Ending {
            disk,
            machine: &self.machine,
            policy: self.policy,
        }
        .keep(
            &mut job,
            self.does.done(),
            Some(&rehearsal),
            None,
            &warnings,
        );
        warnings.extend(self.keep_sheet(&job, &rehearsal));
        Ok(Written {
            rehearsal,
            warnings,
            job,
        })
    }

    /// Puts the switch sheet into the folder, to read on another screen, if the disk is to start in UEFI mode. It can
    /// be made again at any time, so a failure is a warning.
    fn keep_sheet(&self, job: &JobFolder, rehearsal: &Rehearsal) -> Option<String> {
        if self.does != JobKind::Convert || !rehearsal.starts() || rehearsal.style != Style::Gpt {
            return None;
        }
        let sheet = Sheet::of_disk(self.disk, &self.machine, rehearsal, self.policy);
        let texts = [views::sheet::html(&sheet), views::sheet::markdown(&sheet)];
        let mut kept = SHEETS.iter().zip(&texts);
        let kept = kept.try_for_each(|(name, text)| job.keep_document(name, text));
        let error = kept.err()?;
        Some(format!(
            "The switch sheet is not in the job folder: {error}"
        ))
    }
}

/// The job is complete, and its folder does not say so.
pub(super) fn unrecorded(command: &str, job: &Path, error: &JobError) -> String {
    format!(
        "The disk is complete, but the job folder could not be updated: {error}. Once it can be written, this records \
         it: schwelle {command} --job {}",
        text::typed(job)
    )
}

/// A line that is missing in the log.
pub(super) fn not_logged(logged: Result<(), JobError>) -> Option<String> {
    let error = logged.err()?;
    Some(format!("The job's log is incomplete: {error}"))
}

/// Transfers that had to be repeated and a state file that failed: early signs of a failing medium. They go to the log,
/// too.
pub(super) fn io_warnings(disk: &Disk, job: &mut JobFolder) -> Vec<String> {
    let mut warnings: Vec<String> = words::retried(&disk.device.retried()).into_iter().collect();
    if let Some((name, error)) = job.lost_state_file() {
        warnings.push(format!(
            "{name} in the job folder failed: {error}. The job went on with the other state file; copy the folder to \
             another medium."
        ));
    }
    let now = jiff::Timestamp::now();
    for warning in warnings.clone() {
        warnings.extend(not_logged(job.log(&format!("{now} {warning}"))));
    }
    warnings
}

/// What is done to the disk.
fn verb(does: JobKind) -> &'static str {
    match does {
        JobKind::Convert => "convert",
        JobKind::Mend => "mend",
    }
}

/// What a job has come to.
pub(super) struct Written {
    /// The rehearsal of the finished disk.
    pub(super) rehearsal: Rehearsal,
    /// Its folder.
    pub(super) job: JobFolder,
    /// What the technician must know although the disk is done: for the end, on stderr.
    pub(super) warnings: Vec<String>,
}

/// The last lines of a job that is done: on stderr what must be known, else that the folder is
/// on its medium.
pub(super) fn last_words(job: &JobFolder, warnings: &[String], screen: &Screen) {
    for warning in warnings {
        screen.warn(warning);
    }
    warn_if_readable(job.path(), screen);
    match job.sync() {
        Ok(()) => screen.show("The job folder is on its medium.\n"),
        Err(error) => screen.warn(&format!(
            "The job folder may not be on its medium yet: {error}. Unmount it before it is unplugged."
        )),
    }
}

/// Says so where other users of this system can look into a job folder: on a file system that keeps no permissions, or
/// where somebody has given them.
pub(super) fn warn_if_readable(folder: &Path, screen: &Screen) {
    if this_pc().others_can_read(folder) {
        screen.warn(&format!(
            "Other users of this system can read the job folder, which holds parts of the customer's disk. To keep them out: \
             chmod -R go= {}. Where the file system keeps no permissions (FAT, exFAT, NTFS): unmount it.",
            text::typed(folder)
        ));
    }
}

/// What the outcome of a job needs.
pub(super) struct Ending<'a> {
    pub(super) disk: &'a Disk,
    pub(super) machine: &'a Machine,
    pub(super) policy: &'a Policy,
}

impl Ending<'_> {
    /// Keeps in the job folder how it ended, for the report. The disk is done: if that cannot be saved, the
    /// log says so, if it can be written.
    pub(super) fn keep(
        &self,
        job: &mut JobFolder,
        answer: JobEnd,
        rehearsal: Option<&Rehearsal>,
        exact: Option<bool>,
        warnings: &[String],
    ) {
        let starts = |rehearsal: &&Rehearsal| {
            rehearsal.style == Style::Gpt && rehearsal.disk_use == DiskUse::System
        };
        let sheet = rehearsal
            .filter(starts)
            .map(|rehearsal| Sheet::of_disk(self.disk, self.machine, rehearsal, self.policy));
        let outcome = Outcome {
            answer,
            finished: jiff::Timestamp::now().to_string(),
            rehearsal: rehearsal.map(|rehearsal| Rehearsed::of(self.disk, rehearsal)),
            sheet,
            exact,
            warnings: warnings.to_vec(),
        };
        if let Err(error) = job.keep_outcome(&document::pretty(&outcome)) {
            let now = jiff::Timestamp::now();
            let _logged = job.log(&format!("{now} how it ended is not kept: {error}"));
        }
    }
}

/// Tells the log how the finished disk's rehearsal went. The state file counts; a log that cannot
/// be written stops nothing.
pub(super) fn say_outcome(job: &mut JobFolder, rehearsal: &Rehearsal) {
    let outcome = outcome(rehearsal);
    let now = jiff::Timestamp::now();
    let _logged = job.log(&format!("{now} done; the disk's rehearsal: {outcome}"));
}

/// Asks the kernel to read the table of a real disk again; where it does not, what that means. There is
/// none for an image.
pub(super) fn read_table_again(disk: &DiskFile) -> Option<String> {
    if !disk.is_block_device() {
        return None;
    }
    let error = this_pc().read_partitions_again(disk.file()).err()?;
    // "Invalid": a device on which this kernel shows no partitions, so it has read no old table.
    (error.kind() != std::io::ErrorKind::InvalidInput).then(|| {
        format!(
            "The kernel still uses the old partition table ({error}). Unplug the disk and connect it \
             again, or restart, before its partitions are used here."
        )
    })
}

fn outcome(rehearsal: &Rehearsal) -> &'static str {
    match (rehearsal.disk_use, rehearsal.answer()) {
        (_, Answer::Depends) if rehearsal.ends_closed() => "ends at an encrypted volume",
        (_, Answer::Depends) => "depends on the firmware",
        (DiskUse::System, Answer::Starts) => "starts",
        (DiskUse::System, Answer::DoesNotStart) => "does not start",
        (DiskUse::Data, Answer::Starts) => "its volumes are sound",
        (DiskUse::Data, Answer::DoesNotStart) => "not sound",
    }
}
