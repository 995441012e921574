//! Which remedy a failed step has.

use uuid::Uuid;

use crate::bcd::BcdStore;
use crate::device::{DeviceError, Extent, IoOp, Lba, ReadDevice, Window};
use crate::disk_use::DiskUse;
use crate::draft::{KeptFile, path_text};
use crate::fat::{FatError, FatKind, FatVolume, Repair};
use crate::gaps::esp_floor;
use crate::gpt::{GptCopy, GptLayout, GptPair, type_guid};
use crate::mbr::Protection;
use crate::placement::{self, EspRequest, Placement};
use crate::profile::{
    BOOTMGFW, ESP_STORE, FoundStore, Partition, Profile, REMOVABLE_X64, VolumeKind, boot_system,
    find_stores,
};
use crate::rehearse::answers::start::Evidence as Start;
use crate::rehearse::{Evidence, Rehearsal, Step, StepId, StepOutcome, walk};

use super::kept::Kept;
use super::{Fix, FixKind, MendError, NotMended, StoreFrom, names};

/// What is done about the steps that failed.
pub(super) struct Remedies<'p> {
    disk: &'p dyn ReadDevice,
    profile: &'p Profile,
    pair: &'p GptPair,
    request: EspRequest,
    /// The backup copy of the table is the right one, although the primary one is sound as well.
    prefers_backup: bool,
    /// GUID of an EFI system partition that is made.
    pub(super) new_id: Uuid,
    /// Sector 0 gets a protective entry over the whole disk.
    pub(super) sector_0: bool,
    /// Both copies of the table are written.
    pub(super) table: bool,
    /// This partition becomes the EFI system partition.
    pub(super) retype: Option<usize>,
    /// The EFI system partition is made here.
    pub(super) new_esp: Option<Placement>,
    /// The EFI system partition gets a file system.
    pub(super) format: bool,
    /// Its boot sector and FATs are brought to agree with their copies.
    pub(super) repair: Option<Repair>,
    /// Its files, where it gets a new file system and keeps them.
    pub(super) kept: Option<Vec<KeptFile>>,
    /// Its entry loses the attribute that hides it from firmware.
    pub(super) show: bool,
    /// Its entry gets a GUID.
    pub(super) new_guid: bool,
    /// This partition is no EFI system partition, though its type says so.
    pub(super) untyped: Option<usize>,
    /// It gets boot files, and a store from here.
    pub(super) fill: Option<StoreFrom>,
    /// The loader on the removable-media path is sound, and may be another system's.
    pub(super) keep_removable: bool,
    /// Files that name the old MBR disk are edited.
    pub(super) edit_files: bool,
    /// Stores that the disk was started with in BIOS mode.
    bios_stores: Vec<FoundStore>,
    esp_store: Option<BcdStore>,
    /// Signature of the MBR disk that this one was.
    pub(super) signature: Option<u32>,
    fixes: Vec<Fix>,
}

impl<'p> Remedies<'p> {
    pub(super) fn new(
        disk: &'p dyn ReadDevice,
        profile: &'p Profile,
        pair: &'p GptPair,
        request: EspRequest,
        new_guid: &mut dyn FnMut() -> Uuid,
    ) -> Self {
        let bios_stores = find_stores(disk, &profile.partitions);
        let esp_store = esp_of(profile).and_then(|esp| store_on(disk, esp));
        let stores = bios_stores
            .iter()
            .map(|found| &found.store)
            .chain(&esp_store);
        let stores: Vec<&BcdStore> = stores.collect();
        let signature = names::old_signature(disk, profile, &stores);
        Self {
            disk,
            profile,
            pair,
            request,
            prefers_backup: false,
            new_id: new_guid(),
            sector_0: false,
            table: false,
            retype: None,
            new_esp: None,
            format: false,
            repair: None,
            kept: None,
            show: false,
            new_guid: false,
            untyped: None,
            fill: None,
            keep_removable: false,
            edit_files: false,
            bios_stores,
            esp_store,
            signature,
            fixes: Vec::new(),
        }
    }

    /// What is done, in the order in which it was found out.
    pub(super) fn fixes(self) -> Vec<Fix> {
        self.fixes
    }

    pub(super) fn disk_use(&self) -> DiskUse {
        self.request.disk_use
    }

    /// The copy of the table to go by.
    pub(super) fn sound_copy(&self) -> Option<&'p GptCopy> {
        match &self.pair.backup {
            Ok(backup) if self.prefers_backup => Some(backup),
            _ => self.pair.best(),
        }
    }

    /// True when the primary copy is sound, and may be relied on while the backup is written.
    pub(super) fn is_primary_sound(&self) -> bool {
        self.pair.primary.is_ok() && !self.prefers_backup
    }

    /// Goes by the backup copy of the table: only where it names partitions do volumes begin.
    pub(super) fn take_backup(&mut self) {
        self.prefers_backup = true;
        self.table = true;
        self.fixes.push(Fix {
            step: StepId::TablesAgree,
            what: FixKind::PrimaryTable,
        });
    }

    /// The store to start from, where there is one of this kind.
    pub(super) fn store(&self, from: StoreFrom) -> Option<&BcdStore> {
        match from {
            StoreFrom::Esp => self.esp_store.as_ref(),
            StoreFrom::Bios => self.bios_stores.first().map(|found| &found.store),
            StoreFrom::Nothing => None,
        }
    }

    fn note(&mut self, step: &Step, what: FixKind) {
        let step = step.id;
        self.fixes.push(Fix { step, what });
    }

    /// Takes up the remedy for a step that does not hold on the disk as it is drafted so far.
    pub(super) fn add(&mut self, step: &Step, so_far: &dyn ReadDevice) -> Result<(), MendError> {
        match step.id {
            StepId::ProtectiveMbr => self.add_sector_0(step),
            StepId::PrimaryTable | StepId::BackupTable | StepId::TablesAgree => {
                self.add_table(step)
            }
            StepId::Esp => self.add_esp(step, so_far),
            StepId::EspFileSystem => self.add_file_system(step, so_far),
            StepId::Loader
            | StepId::LoaderImage
            | StepId::EntryLoader
            | StepId::BcdStore
            | StepId::BootManager
            | StepId::DefaultEntry
            | StepId::EntryDevices => self.add_boot_files(step, so_far),
            StepId::SystemLoader | StepId::Kernel => Err(no_remedy(step, NotMended::SystemFiles)),
            StepId::LinuxLoader | StepId::LinuxMenu | StepId::LinuxKernel => {
                Err(no_remedy(step, NotMended::SystemFiles))
            }
            StepId::Volumes => Err(no_remedy(step, NotMended::Volume)),
            StepId::Mbr
            | StepId::BootCode
            | StepId::ActivePartition
            | StepId::BootRecord
            | StepId::BootFileSystem
            | StepId::BootManagerFile => Err(no_remedy(step, NotMended::MbrDisk)),
            // These never fail; they tell.
            StepId::Menu
            | StepId::Letters
            | StepId::Recovery
            | StepId::OtherFiles
            | StepId::OtherSystem
            | StepId::OldTable
            | StepId::Readable => Err(no_remedy(step, NotMended::NoRemedy)),
        }
    }

    fn add_sector_0(&mut self, step: &Step) -> Result<(), MendError> {
        if self.sector_0 {
            return Err(no_remedy(step, NotMended::DraftDoesNotHelp));
        }
        let sector = self.disk.read_sector(Lba(0))?;
        let others = Protection::of(&sector).map_or(Vec::new(), |found| found.others);
        // What only sector 0 names would be on the disk and named by nothing.
        let only_here = others.iter().find(|entry| {
            let extent = entry.extent(Lba(0));
            let mut partitions = self.profile.partitions.iter();
            !partitions.any(|part| part.extent.contains(&extent))
        });
        if let Some(entry) = only_here {
            let sectors = entry.extent(Lba(0));
            return Err(no_remedy(step, NotMended::OnlyInSector0 { sectors }));
        }
        self.sector_0 = true;
        self.note(step, FixKind::ProtectiveEntry);
        Ok(())
    }

    fn add_table(&mut self, step: &Step) -> Result<(), MendError> {
        let Some(copy) = self.sound_copy().filter(|_| !self.table) else {
            return Err(no_remedy(step, NotMended::NoSoundCopy));
        };
        if GptLayout::of(copy).is_none() {
            return Err(no_remedy(step, NotMended::OtherForm));
        }
        let from = match (&self.pair.primary, &self.pair.backup) {
            (Ok(primary), Ok(backup)) if is_same_table(primary, backup) => FixKind::TablePlaces,
            // Firmware and systems go by the primary copy as long as it is sound; so does this.
            (Ok(_), _) => FixKind::BackupTable,
            _ => FixKind::PrimaryTable,
        };
        self.table = true;
        self.note(step, from);
        Ok(())
    }

    fn add_esp(&mut self, step: &Step, so_far: &dyn ReadDevice) -> Result<(), MendError> {
        let Evidence::Start(found) = &step.evidence else {
            return Err(no_remedy(step, NotMended::NoRemedy));
        };
        let titled = |number: usize| {
            let partition = self.profile.partition(number);
            partition.map(Partition::titled)
        };
        match found {
            Start::EspWithoutDevice { partition } if !self.show => {
                let Some(partition) = titled(*partition) else {
                    return Err(no_remedy(step, NotMended::NoRemedy));
                };
                self.show = true;
                self.note(step, FixKind::Shown { partition });
                Ok(())
            }
            Start::EspWithoutGuid { partition, .. } if !self.new_guid => {
                let Some(partition) = titled(*partition) else {
                    return Err(no_remedy(step, NotMended::NoRemedy));
                };
                self.new_guid = true;
                self.note(step, FixKind::NewGuid { partition });
                Ok(())
            }
            Start::EspNotFirst { first, .. } => self.add_to_first(step, so_far, *first),
            Start::LoaderInFront { other, .. } => {
                let Some(partition) = titled(*other) else {
                    return Err(no_remedy(step, NotMended::NoRemedy));
                };
                Err(no_remedy(step, NotMended::LoaderInFront { partition }))
            }
            Start::EspOverlaps { .. } => Err(no_remedy(step, NotMended::Overlap)),
            _ => self.add_missing_esp(step),
        }
    }

    /// The first EFI system partition has no loader. Where it is one, it gets boot files; where it holds something
    /// else, the type is not its own.
    fn add_to_first(
        &mut self,
        step: &Step,
        so_far: &dyn ReadDevice,
        first: usize,
    ) -> Result<(), MendError> {
        let partition = self.profile.partition(first);
        let other = partition.filter(|part| !is_fat32(part));
        match other {
            Some(other) if self.untyped.is_none() => {
                self.untyped = Some(first);
                let partition = other.titled();
                self.note(step, FixKind::TypeTaken { partition });
                Ok(())
            }
            Some(_) => Err(no_remedy(step, NotMended::DraftDoesNotHelp)),
            None => self.add_boot_files(step, so_far),
        }
    }

    fn add_missing_esp(&mut self, step: &Step) -> Result<(), MendError> {
        if self.new_esp.is_some() || self.retype.is_some() {
            return Err(no_remedy(step, NotMended::DraftDoesNotHelp));
        }
        let candidates: Vec<&Partition> = self
            .profile
            .partitions
            .iter()
            .filter(|part| holds_boot_files(self.disk, part))
            .collect();
        match candidates[..] {
            [only] => {
                self.retype = Some(only.number);
                let partition = only.titled();
                self.note(step, FixKind::Retyped { partition });
            }
            [] => {
                let place = placement::find_on_gpt(self.disk, self.profile, self.request)
                    .map_err(MendError::NoRoom)?;
                let chosen = place.considered.iter().find(|place| place.chosen);
                let chosen = chosen.map(|chosen| chosen.place);
                self.note(step, FixKind::NewEsp { place: chosen });
                self.new_esp = Some(place);
            }
            _ => {
                let partitions = candidates.iter().map(|part| part.titled()).collect();
                let why = NotMended::SeveralWithBootFiles { partitions };
                return Err(no_remedy(step, why));
            }
        }
        Ok(())
    }

    fn add_file_system(&mut self, step: &Step, so_far: &dyn ReadDevice) -> Result<(), MendError> {
        let esp = esp_of(self.profile).filter(|_| !self.format);
        let Some(esp) = esp else {
            return Err(no_remedy(step, NotMended::DraftDoesNotHelp));
        };
        let window = Window::new(so_far, esp.extent).filter(|_| self.repair.is_none());
        if let Some(repair) = window
            .map(|window| Repair::find(&window))
            .transpose()?
            .flatten()
        {
            self.repair = Some(repair);
            let partition = esp.titled();
            self.note(step, FixKind::Repaired { partition });
            return Ok(());
        }
        if self.keep_unread_files(step, esp, so_far)? {
            return Ok(());
        }
        if !matches!(esp.volume.kind, VolumeKind::Blank | VolumeKind::Unknown) {
            let why = NotMended::HoldsSomething {
                partition: esp.titled(),
                volume: esp.volume.kind,
            };
            return Err(no_remedy(step, why));
        }
        // A partition in which nothing is recognised is not empty: another system's loaders may be in it.
        if !self.request.format_unknown && !is_empty(so_far, esp.extent)? {
            let partition = esp.titled();
            return Err(no_remedy(step, NotMended::UnknownContent { partition }));
        }
        if !self.is_large_enough(esp) {
            return Err(no_remedy(step, NotMended::TooSmall));
        }
        self.format = true;
        let partition = esp.titled();
        self.note(step, FixKind::Formatted { partition });
        Ok(())
    }

    fn is_large_enough(&self, esp: &Partition) -> bool {
        let geometry = self.disk.geometry();
        geometry.bytes_in(&esp.extent) >= esp_floor(geometry.logical_sector)
    }

    /// A volume that firmware does not take for FAT32, since it has too few clusters, is made anew with the files that
    /// are on it. True if it is one.
    fn keep_unread_files(
        &mut self,
        step: &Step,
        esp: &Partition,
        so_far: &dyn ReadDevice,
    ) -> Result<bool, MendError> {
        let Some(window) = Window::new(so_far, esp.extent).filter(|_| self.kept.is_none()) else {
            return Ok(false);
        };
        let read = FatVolume::open_for_files(&window).and_then(|volume| Kept::read(&volume));
        match read {
            Ok(Some(kept)) if !(kept.files.is_empty() && kept.lost.is_empty()) => {
                if !self.is_large_enough(esp) {
                    return Err(no_remedy(step, NotMended::TooSmall));
                }
                self.note_kept(step, esp, kept);
                Ok(true)
            }
            Err(FatError::Device(error)) if !error.is_out_of_bounds() => Err(error.into()),
            Ok(_) | Err(_) => Ok(false),
        }
    }

    fn note_kept(&mut self, step: &Step, esp: &Partition, kept: Kept) {
        let what = FixKind::Remade {
            partition: esp.titled(),
            files: kept
                .files
                .iter()
                .map(|file| path_text(&file.path))
                .collect(),
            lost: kept.lost,
        };
        self.kept = Some(kept.files);
        self.note(step, what);
    }

    fn add_boot_files(&mut self, step: &Step, so_far: &dyn ReadDevice) -> Result<(), MendError> {
        if boot_system(self.profile).is_none() {
            return Err(no_remedy(step, NotMended::NoBootFiles));
        }
        let first = self.fill.is_none();
        let kinds = [StoreFrom::Esp, StoreFrom::Bios, StoreFrom::Nothing];
        let mut left = kinds
            .into_iter()
            .skip_while(|kind| self.fill.is_some_and(|tried| *kind != tried))
            .skip(usize::from(!first))
            .filter(|kind| *kind == StoreFrom::Nothing || self.store(*kind).is_some());
        let Some(from) = left.next() else {
            return Err(no_remedy(step, NotMended::NoStoreHelps));
        };
        if first {
            // A sound loader there may be another system's.
            let walked = walk(so_far, None).steps;
            let is_sound =
                |step: &Step| step.id == StepId::LoaderImage && step.outcome == StepOutcome::Pass;
            self.keep_removable = walked.iter().any(is_sound);
            self.keep_files(step, so_far)?;
        } else {
            // Another store is tried: what was said of the last one is not done.
            self.fixes.pop();
        }
        self.fill = Some(from);
        self.note(step, FixKind::Filled { store: from });
        Ok(())
    }

    /// Files are put only into a file system without faults, except in files that are replaced: where there are
    /// others, it is made anew with the files that can be read.
    fn keep_files(&mut self, step: &Step, so_far: &dyn ReadDevice) -> Result<(), MendError> {
        let esp = esp_of(self.profile).filter(|_| !self.format && self.new_esp.is_none());
        let Some((esp, window)) = esp.and_then(|esp| Some((esp, Window::new(so_far, esp.extent)?)))
        else {
            return Ok(());
        };
        let mut new = vec![BOOTMGFW, ESP_STORE];
        if !self.keep_removable {
            new.push(REMOVABLE_X64);
        }
        let kept = match Kept::read_faulty(&window, &new) {
            Ok(kept) => kept,
            Err(FatError::Device(error)) => return Err(error.into()),
            Err(_) => None,
        };
        if let Some(kept) = kept {
            self.note_kept(step, esp, kept);
        }
        Ok(())
    }

    /// Takes up what does not keep the disk from starting: names of the old MBR disk in the registry and
    /// in the recovery configuration. True when that is new.
    pub(super) fn edit_files(&mut self, rehearsal: &Rehearsal) -> bool {
        let is_due = !self.edit_files
            && rehearsal.steps.iter().any(is_about_names)
            && self.signature.is_some()
            && self.request.disk_use == DiskUse::System;
        self.edit_files |= is_due;
        is_due
    }

    /// Notes which of these steps hold now.
    pub(super) fn note_decided(&mut self, before: &Rehearsal, now: &Rehearsal) {
        for step in before.steps.iter().filter(|step| is_about_names(step)) {
            let mut after = now.steps.iter();
            let holds = |after: &Step| after.id == step.id && after.outcome == StepOutcome::Pass;
            if after.any(holds) {
                let what = match step.id {
                    StepId::Recovery => FixKind::Recovery,
                    _ => FixKind::Letters,
                };
                self.note(step, what);
            }
        }
    }
}

/// True if every byte of an extent is the same: it was never written, or it was erased.
fn is_empty(disk: &dyn ReadDevice, extent: Extent) -> Result<bool, DeviceError> {
    const AT_ONCE: u64 = 2048;
    let sector = disk.geometry().logical_sector as usize;
    let first = disk.read_sector(extent.first)?;
    let fill = first.first().copied().unwrap_or(0);
    let mut at = extent.first.0;
    while at < extent.end.0 {
        let sectors = AT_ONCE.min(extent.end.0 - at);
        let part = Extent::new(Lba(at), sectors);
        let window = part.and_then(|part| Window::new(disk, part));
        let outside = || DeviceError::out_of_bounds(IoOp::Read, u64::MAX, sector);
        let window = window.ok_or_else(outside)?;
        for lba in 0..sectors {
            if window
                .read_sector(Lba(lba))?
                .iter()
                .any(|&byte| byte != fill)
            {
                return Ok(false);
            }
        }
        at += sectors;
    }
    Ok(true)
}

/// Both copies name the same partitions of the same disk.
fn is_same_table(primary: &GptCopy, backup: &GptCopy) -> bool {
    primary.entries == backup.entries && primary.header.disk_id == backup.header.disk_id
}

/// A step that tells of names which are not those of this disk.
fn is_about_names(step: &Step) -> bool {
    let is_one = matches!(step.id, StepId::Letters | StepId::Recovery);
    is_one && step.outcome == StepOutcome::Caution
}

fn no_remedy(step: &Step, why: NotMended) -> MendError {
    let step = Box::new(step.clone());
    MendError::NoRemedy { step, why }
}

/// The disk's first EFI system partition, by its type; one without FAT32 only where there is no other.
pub(super) fn esp_of(profile: &Profile) -> Option<&Partition> {
    let partitions = profile.partitions.iter();
    let mut of_type = partitions.filter(|part| part.gpt_kind() == Some(type_guid::EFI_SYSTEM));
    of_type
        .clone()
        .find(|part| is_fat32(part))
        .or_else(|| of_type.next())
}

fn is_fat32(partition: &Partition) -> bool {
    partition.volume.kind == VolumeKind::Fat(FatKind::Fat32)
}

fn store_on(disk: &dyn ReadDevice, esp: &Partition) -> Option<BcdStore> {
    const MAX_STORE_BYTES: u64 = 16 << 20;
    let window = Window::new(disk, esp.extent)?;
    let fat = FatVolume::open(&window).ok()?;
    let file = fat
        .find(ESP_STORE)
        .ok()?
        .filter(|entry| !entry.is_directory)?;
    let bytes = fat.read_file(&file, MAX_STORE_BYTES).ok()?;
    BcdStore::read(&bytes[..]).ok()
}

/// A FAT32 volume with a boot manager's folder on it, though its type says nothing of it.
fn holds_boot_files(disk: &dyn ReadDevice, part: &Partition) -> bool {
    const FOLDERS: [&str; 2] = ["\\EFI\\Microsoft\\Boot", "\\EFI\\BOOT"];
    if !matches!(part.volume.kind, VolumeKind::Fat(FatKind::Fat32)) {
        return false;
    }
    let Some(window) = Window::new(disk, part.extent) else {
        return false;
    };
    let Ok(fat) = FatVolume::open(&window) else {
        return false;
    };
    let is_folder = |path: &&str| {
        let found = fat.find(path);
        found.is_ok_and(|entry| entry.is_some_and(|entry| entry.is_directory))
    };
    FOLDERS.iter().any(is_folder)
}
