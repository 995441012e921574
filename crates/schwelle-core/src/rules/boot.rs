//! Rules about the boot configuration.

use super::answers::boot::{DefaultFault, Evidence, ImageOn, RecoveryState, Remedy};
use super::answers::common::{NotAsked, Remedy as Common};
use super::{Answer, Facts, Rule, RuleId, Subject, back};
use crate::bcd::{BcdStore, BootObject, Locator, ObjectKind, element, is_bios_only};
use crate::disk_use::DiskUse;
use crate::identities::Style;
use crate::placement::{EspFrom, Placement};
use crate::profile::{
    BIOS_STORE, ESP_STORE, Partition, Profile, RECOVERY_IMAGE, RecoveryImage, WindowsSystem,
};
use crate::rehearse::{self, StepOutcome};
use crate::starts::{SystemStart, can_be_given_up, starts};
use crate::windows::{RecoveryDisk, RecoveryLocation};

pub(super) static RULES: &[Rule] = &[
    Rule::to_gpt(RuleId::BootStart, start),
    Rule::always(RuleId::BcdStore, store),
    Rule::always(RuleId::BootDefault, default),
    Rule::always(RuleId::BootEntries, entries),
    Rule::always(RuleId::BootRecovery, recovery),
    Rule::to_gpt(RuleId::BootOtherLoader, other_loader),
];

fn readable_store<'a>(facts: &Facts<'a>) -> Option<&'a BcdStore> {
    facts.profile.boot.readable()
}

fn entry_subject(entry: BootObject<'_>) -> Subject {
    Subject::Entry {
        title: entry.title(),
    }
}

/// Whether the disk starts as it is: a caution, since the conversion makes its own start. But there is then nothing
/// to compare that with.
fn start(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::DataDisk)];
    }
    let Some(today) = facts.starts_today else {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    };
    let Some(fault) = today.first_fault() else {
        return vec![Answer::pass(Subject::Disk, Evidence::StartsToday)];
    };
    let step = fault.id;
    let has_closed = facts.profile.partitions.iter().any(Partition::is_closed);
    vec![match today.answer() {
        // What is encrypted cannot be walked.
        _ if today.ends_closed() || (has_closed && fault.outcome == StepOutcome::Fail) => {
            Answer::unknown(
                Subject::Disk,
                Evidence::StartUnknown { step },
                Common::VolumeFirst,
            )
        }
        rehearse::Answer::Depends => Answer::caution(
            Subject::Disk,
            Evidence::StartDependsToday { step },
            Remedy::SeeItStartFirst,
        ),
        _ => Answer::caution(
            Subject::Disk,
            Evidence::NoStartToday { step },
            Remedy::SeeItStartFirst,
        ),
    }]
}

fn store(facts: &Facts<'_>) -> Vec<Answer> {
    let path = match facts.to() {
        Style::Gpt => BIOS_STORE,
        Style::Mbr => ESP_STORE,
    };
    let path = path.to_owned();
    if facts.disk_use == DiskUse::Data {
        let found = facts.profile.boot.store.is_some();
        let block = Answer::block(
            Subject::BcdStore,
            Evidence::StoreOnDataDisk { path },
            Remedy::WhichSystemStarts,
        );
        return found.then_some(block).into_iter().collect();
    }
    let is_linux = |system: &SystemStart| system.starts_afterwards();
    if facts.to() == Style::Gpt
        && facts.profile.systems.is_empty()
        && starts(facts.profile).iter().any(is_linux)
    {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoWindows)];
    }
    if !facts.can_have_table() || facts.profile.boot.partition.is_none() {
        let because = match facts.to() {
            Style::Gpt => NotAsked::NoActivePartition,
            Style::Mbr => NotAsked::NoEsp,
        };
        return vec![Answer::not_asked(Subject::Disk, because)];
    }
    let can_be_made = match facts.to() {
        Style::Gpt => facts.profile.systems.iter().any(|system| {
            system.uefi_loader.is_ok() && matches!(system.boot_files.manager, Some(Ok(_)))
        }),
        Style::Mbr => back::can_start(facts.profile),
    };
    let evidence = match &facts.profile.boot.store {
        Some(Ok(found)) => {
            let pending = found.applied > 0;
            let evidence = Evidence::Store {
                path,
                partition: found.partition,
                objects: found.store.objects().count(),
                menu: found.store.menu().len(),
                pending,
            };
            return vec![match pending {
                false => Answer::pass(Subject::BcdStore, evidence),
                true => Answer::caution(Subject::BcdStore, evidence, Remedy::LookAtNextMenu),
            }];
        }
        Some(Err(fault)) => Evidence::StoreFault {
            path,
            partition: fault.partition,
            fault: fault.why.clone(),
            can_be_made,
        },
        None => Evidence::NoStore { path, can_be_made },
    };
    vec![match can_be_made {
        true => Answer::caution(Subject::BcdStore, evidence, Remedy::NewStore),
        false => Answer::block(Subject::BcdStore, evidence, Remedy::SeeItStart),
    }]
}

fn default(facts: &Facts<'_>) -> Vec<Answer> {
    let Some(store) = readable_store(facts) else {
        return vec![Answer::not_asked(
            Subject::BcdStore,
            NotAsked::NoReadableStore,
        )];
    };
    let Some(entry) = store.default_for(facts.to()) else {
        let was = match store.default_entry() {
            Some(entry) if entry.is_in_file() => DefaultFault::InFile {
                title: entry.title(),
            },
            Some(entry) => DefaultFault::BiosOnly {
                title: entry.title(),
            },
            None => DefaultFault::NotThere,
        };
        return vec![other_default(facts.profile, store, was)];
    };
    let subject = entry_subject(entry);
    let locators = entry
        .device(element::OS_DEVICE)
        .map(|device| device.locators())
        .unwrap_or_default();
    let device = locators.first().copied();
    let Some(partition) = device.and_then(|locator| facts.profile.partition_at(locator)) else {
        let evidence = Evidence::LeadsElsewhere { device };
        return vec![Answer::block(subject, evidence, Remedy::SetDefault)];
    };
    let mut systems = facts.profile.systems.iter();
    let is_given_up = |system: &WindowsSystem| {
        system.partition == partition
            && facts.to() == Style::Gpt
            && can_be_given_up(facts.profile, system)
    };
    if systems.clone().any(is_given_up) {
        let title = entry.title();
        return vec![other_default(
            facts.profile,
            store,
            DefaultFault::GivenUp { title },
        )];
    }
    let is_closed = facts.profile.partition(partition);
    let is_closed = is_closed.is_some_and(Partition::is_closed);
    vec![if systems.any(|system| system.partition == partition) {
        Answer::pass(subject, Evidence::LeadsToWindows { partition })
    } else if is_closed {
        Answer::unknown(
            subject,
            Evidence::LeadsToClosed { partition },
            Common::VolumeFirst,
        )
    } else {
        Answer::block(
            subject,
            Evidence::LeadsToNoWindows { partition },
            Remedy::SetDefault,
        )
    }]
}

/// What becomes of a default that cannot be started.
fn other_default(profile: &Profile, store: &BcdStore, was: DefaultFault) -> Answer {
    let systems = profile.systems.iter();
    let systems = systems.filter(|system| !can_be_given_up(profile, system));
    let identities = profile.any_identities();
    let places: Vec<Locator> = systems
        .filter_map(|system| profile.partition(system.partition))
        .filter_map(|partition| profile.geometry.byte_of(partition.extent.first))
        .filter_map(|offset| identities.as_ref()?.name_before(offset))
        .collect();
    match store.first_of(&places) {
        Some(entry) => Answer::caution(
            Subject::BcdStore,
            Evidence::OtherDefault {
                was,
                becomes: entry.title(),
            },
            Remedy::SetDefaultAfterwards,
        ),
        None => Answer::block(
            Subject::BcdStore,
            Evidence::NoDefault { was },
            Remedy::SetDefault,
        ),
    }
}

fn entries(facts: &Facts<'_>) -> Vec<Answer> {
    let Some(store) = readable_store(facts) else {
        return Vec::new();
    };
    let answer = |entry: BootObject<'_>| {
        let subject = entry_subject(entry);
        if facts.to() == Style::Gpt && is_bios_only(entry.kind()) {
            let mut listed = store.listed().into_iter();
            listed.find(|listed| listed.id() == entry.id())?;
            return Some(Answer::caution(
                subject,
                Evidence::BiosOnlyEntry,
                Remedy::EntryTakenOut,
            ));
        }
        let devices = entry.devices();
        let is_loader = matches!(entry.kind(), Some(ObjectKind::Loader | ObjectKind::Resume));
        let nameless = devices.iter().find(|(number, device)| {
            let names = !device.locators().is_empty() || device.is_boot_device();
            *number == element::OS_DEVICE && is_loader && !names
        });
        if nameless.is_some() {
            return Some(Answer::caution(
                subject,
                Evidence::DeviceUnreadable,
                Remedy::EntryDead,
            ));
        }
        let mut foreign = devices
            .iter()
            .flat_map(|(_, device)| device.locators())
            .filter(|&locator| facts.profile.partition_at(locator).is_none());
        let device = foreign.next()?;
        Some(Answer::caution(
            subject,
            Evidence::NamesAnother { device },
            Remedy::EntryElsewhere,
        ))
    };
    store.objects().filter_map(answer).collect()
}

fn recovery(facts: &Facts<'_>) -> Vec<Answer> {
    let profile = facts.profile;
    if profile.systems.is_empty() {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoWindows)];
    }
    let images = profile.recovery.iter().map(|image| ImageOn {
        path: image.path.clone(),
        partition: image.partition,
    });
    let images: Vec<ImageOn> = images.collect();
    let systems = profile.systems.iter();
    let answer = |system: &WindowsSystem| {
        let state = recovery_of(profile, system);
        let remedy = match state {
            RecoveryState::NotNamed | RecoveryState::Off | RecoveryState::CarriedOver { .. } => {
                None
            }
            RecoveryState::None => Some(Remedy::RecoveryIfWanted),
            _ => Some(Remedy::RecoveryAgain),
        };
        let subject = Subject::numbered(profile, system.partition);
        let evidence = Evidence::Recovery {
            state,
            images: images.clone(),
        };
        match remedy {
            None => Answer::pass(subject, evidence),
            Some(remedy) => Answer::caution(subject, evidence, remedy),
        }
    };
    systems.map(answer).collect()
}

/// Whether firmware without a boot entry would find another loader before the new EFI system partition's. The
/// partitions that stay come before it in the new table, unless one of them becomes it.
fn other_loader(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::DataDisk)];
    }
    if !facts.can_have_table() {
        return vec![Answer::not_asked(Subject::Disk, NotAsked::NoMbr)];
    }
    let esp = match facts.placement().and_then(Placement::esp_from) {
        Some(EspFrom::Existing(number) | EspFrom::Formatted(number)) => Some(number),
        Some(EspFrom::Gap | EspFrom::Tail(_) | EspFrom::Takeover(_)) | None => None,
    };
    let profile = facts.profile;
    let in_front = profile.partitions.iter();
    let in_front = in_front.take_while(|partition| Some(partition.number) != esp);
    // One that is taken over is no more.
    let in_front = in_front.filter(|partition| {
        let placement = facts.placement();
        placement.is_none_or(|placement| placement.keeps(partition))
    });
    let answer = |partition: &Partition| {
        let mut loaders = profile.fat_loaders.iter();
        let loader = loaders.find(|loader| loader.partition == partition.number)?;
        let subject = Subject::numbered(profile, partition.number);
        Some(match &loader.found {
            Ok(()) => Answer::block(subject, Evidence::OtherLoader, Remedy::RenameLoader),
            Err(fault) => {
                let fault = fault.clone();
                let evidence = Evidence::OtherLoaderUnknown { fault };
                Answer::unknown(subject, evidence, Common::VolumeFirst)
            }
        })
    };
    let found: Vec<Answer> = in_front.filter_map(answer).collect();
    if found.is_empty() {
        return vec![Answer::pass(Subject::Disk, Evidence::NoOtherLoader)];
    }
    found
}

/// The recovery environment of one Windows installation: switched on or not, and whether its image is there.
fn recovery_of(profile: &Profile, system: &WindowsSystem) -> RecoveryState {
    let config = match system.recovery.as_ref().map(|file| &file.config) {
        Some(Ok(config)) => config,
        Some(Err(fault)) => {
            let fault = fault.clone();
            return RecoveryState::ConfigFault { fault };
        }
        None if profile.recovery.is_empty() => return RecoveryState::None,
        None => return RecoveryState::NotNamed,
    };
    let place = config.location();
    let Some(place) = place.filter(|_| config.enabled == Some(true)) else {
        return RecoveryState::Off;
    };
    let Some(partition) = recovery_partition(profile, place) else {
        let path = place.path.clone();
        return RecoveryState::Elsewhere { path };
    };
    let folder = place.path.trim_end_matches('\\');
    let path = format!("{folder}\\{RECOVERY_IMAGE}");
    let is_there = |image: &RecoveryImage| {
        image.partition == partition && image.path.eq_ignore_ascii_case(&path)
    };
    if !profile.recovery.iter().any(is_there) {
        return RecoveryState::ImageMissing { path, partition };
    }
    let identities = profile.any_identities();
    let converted = identities.and_then(|identities| config.converted(&identities));
    let file = system.recovery.as_ref();
    let is_editable = file.is_some_and(|file| file.is_editable);
    match is_editable && !matches!(converted, Some(Err(_))) {
        true => RecoveryState::CarriedOver { path, partition },
        false => RecoveryState::NotEditable { path, partition },
    }
}

/// The partition of this disk that a location of the recovery environment names: by the disk, and by the place.
fn recovery_partition(profile: &Profile, place: &RecoveryLocation) -> Option<usize> {
    let identities = profile.any_identities()?;
    let is_here = match place.disk {
        RecoveryDisk::Mbr(signature) => {
            identities.to == Style::Gpt && signature == identities.signature
        }
        RecoveryDisk::Gpt(disk) => identities.to == Style::Mbr && disk == identities.disk,
        RecoveryDisk::None => false,
    };
    let mut partitions = profile.partitions.iter().filter(|_| is_here);
    let found = partitions
        .find(|partition| profile.geometry.byte_of(partition.extent.first) == Some(place.offset));
    Some(found?.number)
}
