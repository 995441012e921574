//! The walk of a start in BIOS mode: from sector 0 of an MBR disk to the BCD store.

use super::answers::bios::{BootCode, Evidence, ManagerFault, Remedy};
use super::answers::start::Evidence as Start;
use super::linux;
use super::names::DiskNames;
use super::step::{Fault, Found, Rehearsal, StepId, depends, holds};
use super::store::{open_fat, store_read, walk_store, walk_to_kernel};
use crate::bcd::BcdStore;
use crate::device::{Extent, Lba, ReadDevice, Window};
use crate::fat::{FatFault, FatKind, FatVolume, MAX_BOOT_MANAGER_BYTES, is_startable, recognise};
use crate::gpt::{GptPair, TableCopy, copy_present};
use crate::host::HostFacts;
use crate::identities::Style;
use crate::mbr::{BiosStart, BootRecord, MbrTable, is_windows_boot_record};
use crate::ntfs::{NtfsError, NtfsVolume};
use crate::profile::{BIOS_STORE, BOOTMGR, Profile, ThroughGrub};

/// Boot code of a volume lies in its first sixteen sectors.
const BOOT_CODE_BYTES: usize = 16 * 512;
/// Where Windows keeps the boot manager that it puts beside the BCD store.
const SOURCE: &str = "\\Windows\\Boot\\PCAT\\bootmgr";
/// No boot manager is longer.
const MAX_MANAGER_BYTES: u64 = 16 << 20;

/// The boot manager's short name.
const SHORT_NAME: [u8; 11] = *b"BOOTMGR    ";

/// The steps that every MBR disk has.
pub(super) fn walk_table(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<MbrTable> {
    let table = walk.step(StepId::Mbr, mbr(disk))?;
    let pair = GptPair::read(disk);
    let both = [
        (TableCopy::Primary, &pair.primary),
        (TableCopy::Backup, &pair.backup),
    ];
    let left = both.into_iter().filter(|(_, read)| copy_present(read));
    let copies: Vec<TableCopy> = left.map(|(copy, _)| copy).collect();
    let is_gone = copies.is_empty();
    let evidence = match is_gone {
        true => Evidence::NoGptLeft,
        false => Evidence::GptLeft { copies },
    };
    walk.note(StepId::OldTable, is_gone, evidence, Remedy::FinishStopped);
    Some(table)
}

/// Walks an MBR disk whose profile is known to the kernel, as a BIOS goes; not around it.
pub fn walk_bios_to_kernel(disk: &dyn ReadDevice, profile: &Profile) -> Rehearsal {
    let mut rehearsal = Rehearsal {
        style: Style::Mbr,
        ..Rehearsal::default()
    };
    // Where a step fails, the steps so far are the result.
    let walk = &mut rehearsal;
    let _reached_the_end = walk_table(walk, disk).and_then(|table| {
        if profile.systems.is_empty() && profile.grub_menu().is_some() {
            return walk_grub(walk, profile);
        }
        let (window, active) = boot_partition(walk, disk, &table, profile.through_grub())?;
        let start = boot_start(walk, disk, &table, (&window, active), Some(profile))?;
        walk_to_kernel(walk, disk, &start.names, &start.store, active)
    });
    rehearsal
}

pub(super) fn walk_steps(walk: &mut Rehearsal, disk: &dyn ReadDevice) -> Option<()> {
    let table = walk_table(walk, disk)?;
    // Only GRUB's menu leads anywhere that the table does not say.
    let profile = match table.record.has_grub_code {
        true => Profile::read(disk, HostFacts::default()).ok(),
        false => None,
    };
    let profile = profile.as_ref();
    let linux_only =
        profile.filter(|known| known.systems.is_empty() && known.grub_menu().is_some());
    if let Some(profile) = linux_only {
        return walk_grub(walk, profile);
    }
    let through = profile.and_then(Profile::through_grub);
    let (window, active) = boot_partition(walk, disk, &table, through)?;
    let start = boot_start(walk, disk, &table, (&window, active), profile)?;
    walk_store(walk, disk, &start.names, &start.store, (active, None))?;
    if !start.faults.is_empty() {
        let evidence = Start::FatFaults {
            faults: start.faults,
        };
        walk.note(StepId::OtherFiles, false, evidence, Remedy::CheckOnCopy);
    }
    Some(())
}

/// A disk without Windows, from GRUB in sector 0 to the kernel that its menu starts.
fn walk_grub(walk: &mut Rehearsal, profile: &Profile) -> Option<()> {
    let partition = profile.grub.as_ref()?.menu_on?;
    walk.step(
        StepId::BootCode,
        holds(Evidence::GrubMenuOn { partition }, ()),
    )?;
    walk.step(StepId::LinuxKernel, linux::kernel_of(profile, partition))
}

/// The steps up to the partition that sector 0 starts.
fn boot_partition<'d>(
    walk: &mut Rehearsal,
    disk: &'d dyn ReadDevice,
    table: &MbrTable,
    through: Option<ThroughGrub>,
) -> Option<(Window<'d, dyn ReadDevice + 'd>, Extent)> {
    let mut partitions = table.partitions.iter();
    let started = through.and_then(|through| {
        let started = partitions.find(|part| part.slot.number() == through.partition)?;
        Some((through, started.extent))
    });
    let active = match started {
        Some((through, extent)) => {
            let evidence = Evidence::GrubGoesTo {
                menu_on: through.menu_on,
                partition: through.partition,
                by_default: through.by_default,
            };
            walk.step(StepId::BootCode, holds(evidence, extent))?
        }
        None => {
            boot_code(walk, table)?;
            walk.step(StepId::ActivePartition, active_partition(table))?
        }
    };
    let window = walk.window(StepId::BootRecord, disk, active)?;
    Some((window, active))
}

/// The BCD store that a start in BIOS mode has come to.
struct BootStart {
    names: DiskNames,
    store: BcdStore,
    /// What is wrong with single files beside it.
    faults: Vec<FatFault>,
}

fn boot_start(
    walk: &mut Rehearsal,
    disk: &dyn ReadDevice,
    table: &MbrTable,
    (window, active): (&Window<'_, dyn ReadDevice + '_>, Extent),
    profile: Option<&Profile>,
) -> Option<BootStart> {
    let is_ours = boot_record(walk, window, active.first)?;
    let (volume, faults) = walk.step(StepId::BootFileSystem, boot_volume(window))?;
    let sources = table.partitions.iter().map(|partition| partition.extent);
    walk.step(
        StepId::BootManagerFile,
        boot_manager(&volume, is_ours, || find_source(disk, sources)),
    )?;
    let names = DiskNames::of_mbr(disk.geometry(), table);
    let number = names.at(active).map_or(0, |part| part.number);
    let store = match profile {
        Some(profile) => store_of(profile, number),
        None => Profile::read(disk, HostFacts::default())
            .map_err(Fault::unreadable)
            .and_then(|profile| store_of(&profile, number)),
    };
    let store = walk.step(StepId::BcdStore, store)?;
    Some(BootStart {
        names,
        store,
        faults,
    })
}

fn mbr(disk: &dyn ReadDevice) -> Found<MbrTable> {
    let not_mbr = |evidence: Evidence| Fault::new(evidence, Remedy::NotMbr);
    let sector = disk.read_sector(Lba(0)).map_err(Fault::unreadable)?;
    let record = BootRecord::parse(&sector).ok_or_else(|| not_mbr(Evidence::NoBootRecord))?;
    if record.is_protective() {
        return Err(not_mbr(Evidence::ProtectsGpt));
    }
    let table = MbrTable::read(disk, record).map_err(Fault::unreadable)?;
    if let Some(damage) = table.damage.first() {
        let evidence = Evidence::MbrDamage {
            at: damage.at,
            damage: damage.kind,
        };
        return Err(Fault::new(evidence, Remedy::RepairTableOnCopy));
    }
    let partitions = table.partitions.iter();
    let logical = partitions.filter(|part| part.named_at != Lba(0));
    let evidence = Evidence::MbrSound {
        partitions: table.partitions.len(),
        logical: logical.count(),
        signature: table.record.disk_signature,
    };
    holds(evidence, table)
}

/// Code that is not ours is taken as it is: it is not known what it does.
fn boot_code(walk: &mut Rehearsal, table: &MbrTable) -> Option<()> {
    let record = &table.record;
    let code = match record.own_code {
        Some(BiosStart::ActivePartition) => BootCode::ToActive,
        Some(_) => BootCode::StartsNothing,
        None if !record.has_boot_code => BootCode::None,
        None if record.has_windows_code => BootCode::Windows,
        None if record.has_grub_code => BootCode::Grub,
        None => BootCode::Unknown,
    };
    let evidence = Evidence::BootCode { code };
    match code {
        BootCode::ToActive | BootCode::Windows => walk.step(StepId::BootCode, holds(evidence, ())),
        BootCode::StartsNothing | BootCode::None => {
            let fault = Fault::new(evidence, Remedy::WriteBootCode);
            walk.step(StepId::BootCode, Err(fault))
        }
        BootCode::Grub | BootCode::Unknown => {
            walk.note(StepId::BootCode, false, evidence, Remedy::SeeItStart);
            Some(())
        }
    }
}

fn active_partition(table: &MbrTable) -> Found<Extent> {
    let active: Vec<_> = table.partitions.iter().filter(|part| part.active).collect();
    let fault = |evidence: Evidence| Fault::new(evidence, Remedy::MarkRightActive);
    match active[..] {
        [only] => {
            let evidence = Evidence::ActivePartition {
                partition: only.slot.number(),
                sectors: only.extent,
            };
            holds(evidence, only.extent)
        }
        [] => Err(fault(Evidence::NoActive)),
        _ => Err(fault(Evidence::ManyActive {
            count: active.len(),
        })),
    }
}

/// True when the code is ours.
fn boot_record(walk: &mut Rehearsal, window: &dyn ReadDevice, at: Lba) -> Option<bool> {
    let has_mark = |sector: &[u8]| {
        let head = sector.get(..512);
        head.is_some_and(|head| head.ends_with(&[0x55, 0xAA]))
    };
    let found = match window.read_sector(Lba(0)) {
        Err(error) => Err(Fault::unreadable(error)),
        Ok(sector) if !has_mark(&sector) => Err(Fault::new(
            Evidence::NoSignature { at },
            Remedy::WriteBootRecord,
        )),
        Ok(sector) if is_startable(&sector, at) => {
            let path = BOOTMGR.to_owned();
            holds(Evidence::OwnRecord { at, path }, true)
        }
        Ok(_) => match window.read_vec(0, BOOT_CODE_BYTES) {
            Ok(code) if is_windows_boot_record(&code) => {
                holds(Evidence::WindowsRecord { at }, false)
            }
            Ok(_) => depends(Evidence::OtherRecord { at }, Remedy::SeeItStart, false),
            Err(error) => Err(Fault::unreadable(error)),
        },
    };
    walk.step(StepId::BootRecord, found)
}

/// The volume that a BIOS start goes on in.
enum BootVolume<'w> {
    Ntfs(Box<NtfsVolume<'w>>),
    Fat(FatVolume<'w>),
}

impl BootVolume<'_> {
    /// What the boot manager holds. Our boot record looks for it by its short name.
    fn boot_manager(&self, is_ours: bool) -> Result<Vec<u8>, ManagerFault> {
        match self {
            Self::Fat(volume) => {
                let entry = volume.find(BOOTMGR).map_err(unreadable)?;
                let file = entry.filter(|entry| !entry.is_directory);
                let file = file.ok_or(ManagerFault::Missing)?;
                if is_ours && file.short_name != SHORT_NAME {
                    return Err(ManagerFault::ShortName);
                }
                volume
                    .read_file(&file, MAX_MANAGER_BYTES)
                    .map_err(unreadable)
            }
            Self::Ntfs(volume) => {
                let content = file_of(volume, BOOTMGR).map_err(unreadable)?;
                content.ok_or(ManagerFault::Missing)
            }
        }
    }
}

fn file_of(volume: &NtfsVolume<'_>, path: &str) -> Result<Option<Vec<u8>>, NtfsError> {
    let entry = volume.find(path)?.filter(|entry| !entry.is_directory);
    let Some(entry) = entry else {
        return Ok(None);
    };
    let content = volume
        .open_file(entry.record)?
        .read_all(MAX_MANAGER_BYTES)?;
    Ok(Some(content))
}

/// The boot manager that an installed Windows on this disk keeps; what cannot be read is nothing to compare with.
fn find_source(
    disk: &dyn ReadDevice,
    mut partitions: impl Iterator<Item = Extent>,
) -> Option<Vec<u8>> {
    partitions.find_map(|extent| {
        let window = Window::new(disk, extent)?;
        let volume = NtfsVolume::open(&window).ok()?;
        file_of(&volume, SOURCE).ok()?
    })
}

fn unreadable(error: impl std::error::Error) -> ManagerFault {
    ManagerFault::Unreadable {
        fault: error.into(),
    }
}

/// The volume, and what is wrong with single files on it.
fn boot_volume(window: &dyn ReadDevice) -> Found<(BootVolume<'_>, Vec<FatFault>)> {
    let fault = |evidence: Start| Fault::new(evidence, Remedy::CheckOnCopy);
    let sector = window.read_sector(Lba(0)).map_err(Fault::unreadable)?;
    if let Some((FatKind::Fat32, _)) = recognise(&sector) {
        let (volume, of_volume, of_files) = open_fat(window).map_err(fault)?;
        let volume = (BootVolume::Fat(volume), of_files);
        return match of_volume.is_empty() {
            true => holds(Evidence::FatToStart, volume),
            false => {
                let evidence = Start::FatFaults { faults: of_volume };
                depends(evidence, Remedy::CheckOnCopy, volume)
            }
        };
    }
    let volume = NtfsVolume::open(window).map_err(|error| {
        fault(Start::VolumeUnreadable {
            fault: error.into(),
        })
    })?;
    let volume = BootVolume::Ntfs(Box::new(volume));
    holds(Evidence::NtfsToStart, (volume, Vec::new()))
}

/// `is_ours` is true for a boot record that loads the file whole, to where there is room for so much.
fn boot_manager(
    volume: &BootVolume<'_>,
    is_ours: bool,
    source: impl FnOnce() -> Option<Vec<u8>>,
) -> Found<()> {
    let limit = MAX_BOOT_MANAGER_BYTES;
    let path = BOOTMGR.to_owned();
    let why = match volume.boot_manager(is_ours) {
        Ok(content) if content.is_empty() => ManagerFault::Empty,
        Ok(content) if is_ours && content.len() as u64 > limit => ManagerFault::TooLong {
            bytes: content.len() as u64,
            limit,
        },
        Ok(content) => {
            let differs =
                source().is_some_and(|source| source.len() == content.len() && source != content);
            let bytes = content.len() as u64;
            return match differs {
                false => holds(Start::File { path, bytes }, ()),
                true => {
                    let evidence = Evidence::ManagerDiffers { path };
                    depends(evidence, Remedy::CopyBootManager, ())
                }
            };
        }
        Err(why) => why,
    };
    let evidence = Evidence::ManagerUnfit { path, why };
    Err(Fault::new(evidence, Remedy::CopyBootManager))
}

/// The store where the boot manager looks for it.
fn store_of(profile: &Profile, active: usize) -> Found<BcdStore> {
    let path = BIOS_STORE.to_owned();
    match &profile.boot.store {
        Some(Ok(found)) if found.partition == active => {
            holds(store_read(path, &found.store), found.store.clone())
        }
        Some(Err(error)) => {
            let fault = error.into();
            let evidence = Start::FileUnusable { path, fault };
            Err(Fault::new(evidence, Remedy::StoreBesideManager))
        }
        _ => {
            let evidence = Evidence::StoreElsewhere {
                path,
                partition: active,
            };
            Err(Fault::new(evidence, Remedy::StoreBesideManager))
        }
    }
}
