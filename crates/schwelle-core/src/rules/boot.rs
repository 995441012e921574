//! Rules about the boot configuration.

use super::{Answer, Facts, Rule, back};
use crate::bootstore::{BootObject, BootStore, Locator, ObjectKind, element, is_bios_only};
use crate::crossing::Style;
use crate::disk_use::DiskUse;
use crate::profile::{
    BIOS_STORE, ESP_STORE, Partition, Profile, RECOVERY_IMAGE, RecoveryImage, WindowsSystem,
};
use crate::windows::{RecoveryDisk, RecoveryLocation};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "boot.store",
        question: "Is there a boot store that can be read?",
        why: "The boot store holds the menu: its entries, order, timeout and languages are \
            carried over to the new EFI system partition. Where it is lost, a new one can be made \
            for the Windows found, but not what else was in it.",
        to: None,
        check: store,
    },
    Rule {
        id: "boot.default",
        question: "Does the default entry lead to a system on this disk?",
        why: "The default entry is what the PC starts. If it leads elsewhere, this may not be \
            the disk that the PC starts from, or another disk is needed as well.",
        to: None,
        check: default,
    },
    Rule {
        id: "boot.entries",
        question: "Can all entries of the menu cross over?",
        why: "Boot sectors and loaders older than the boot store run under a BIOS only: they are \
            taken out of the menu, by name. Entries for other disks keep their old names and stay. \
            The technician should know both.",
        to: None,
        check: entries,
    },
    Rule {
        id: "boot.recovery",
        question: "Is the recovery environment found and kept?",
        why: "The recovery environment is a file on one of the volumes, named by the boot store and \
            by a configuration file of Windows. The file stays where it is; what names it crosses.",
        to: None,
        check: recovery,
    },
];

fn readable_store<'a>(facts: &Facts<'a>) -> Option<&'a BootStore> {
    facts.profile.boot.readable()
}

fn store(facts: &Facts<'_>) -> Vec<Answer> {
    let path = match facts.to() {
        Style::Gpt => BIOS_STORE,
        Style::Mbr => ESP_STORE,
    };
    if facts.disk_use == DiskUse::Data {
        let found = facts.profile.boot.store.is_some();
        let block = Answer::block(
            "boot store",
            format!("{path} is there: a PC starts from this disk, whatever it starts"),
            "Find out which system starts from here, perhaps on another disk. It would not start any \
             more.",
        );
        return found.then_some(block).into_iter().collect();
    }
    if !facts.can_have_table() || facts.profile.boot.partition.is_none() {
        let partition = match facts.to() {
            Style::Gpt => "active partition",
            Style::Mbr => "EFI system partition",
        };
        let evidence = format!("not asked: there is no {partition}");
        return vec![Answer::pass("disk", evidence)];
    }
    let lost = "A new one is made for the Windows found: its menu has the systems on this disk and \
        nothing else; names, order and other settings of the old menu are lost. The recovery \
        environment must be switched on again, in Windows.";
    let (evidence, remedy) = match &facts.profile.boot.store {
        Some(Ok(found)) => {
            let store = &found.store;
            let evidence = format!(
                "{path} on partition {}: {} objects, {} in the menu",
                found.partition,
                store.objects().count(),
                store.menu().len()
            );
            if found.applied == 0 {
                return vec![Answer::pass("boot store", evidence)];
            }
            let evidence = format!(
                "{evidence}; it was not closed cleanly, what was pending in its log is taken over"
            );
            let remedy = "Look at the menu in the plan: it is what the next start would show.";
            return vec![Answer::caution("boot store", evidence, remedy)];
        }
        Some(Err(fault)) => (format!("{path} on {fault}"), lost),
        None => (format!("no volume that could hold it has {path}"), lost),
    };
    let can_start = match facts.to() {
        Style::Gpt => facts.profile.systems.iter().any(|system| {
            system.has_uefi_loader && matches!(system.boot_files.manager, Some(Ok(_)))
        }),
        Style::Mbr => back::can_start(facts.profile),
    };
    vec![if can_start {
        Answer::caution("boot store", evidence, remedy)
    } else {
        Answer::block(
            "boot store",
            format!("{evidence}, and there is no Windows with boot files to make one for"),
            "Check that this is the disk that the PC starts from, and see it start before converting.",
        )
    }]
}

fn default(facts: &Facts<'_>) -> Vec<Answer> {
    let Some(store) = readable_store(facts) else {
        return vec![Answer::pass(
            "boot store",
            "not asked: there is no readable store",
        )];
    };
    let remedy = "Set the default to the Windows on this disk (in Windows: System, Advanced \
        settings, Startup and Recovery), see it start, and check again.";
    let usable = store.default_entry();
    let crosses = |kind| facts.to() == Style::Mbr || !is_bios_only(kind);
    let Some(entry) = usable.filter(|entry| crosses(entry.kind())) else {
        let what = match usable {
            Some(entry) => format!("\"{}\" runs in BIOS mode only", entry.title()),
            None => "is not in the store".to_owned(),
        };
        return vec![other_default(facts.profile, store, &what)];
    };
    let subject = format!("entry \"{}\"", entry.title());
    let locators = entry
        .device(element::OS_DEVICE)
        .map(|device| device.locators())
        .unwrap_or_default();
    let partition = locators
        .first()
        .and_then(|&locator| facts.profile.partition_at(locator));
    let answer = match partition {
        Some(number)
            if facts
                .profile
                .systems
                .iter()
                .any(|system| system.partition == number) =>
        {
            Answer::pass(
                subject,
                format!("leads to the Windows on partition {number}"),
            )
        }
        Some(number)
            if facts
                .profile
                .partition(number)
                .is_some_and(Partition::is_closed) =>
        {
            Answer::unknown(
                subject,
                format!("leads to partition {number}, which cannot be looked into"),
                "Follow the findings about that volume first, then check again.",
            )
        }
        Some(number) => Answer::block(
            subject,
            format!("leads to partition {number}, which holds no Windows"),
            remedy,
        ),
        None => Answer::block(
            subject,
            format!(
                "leads to no partition of this disk: {}",
                describe(&locators)
            ),
            remedy,
        ),
    };
    vec![answer]
}

/// What becomes of a default that cannot be started.
fn other_default(profile: &Profile, store: &BootStore, what: &str) -> Answer {
    let systems = profile.systems.iter();
    let crossing = profile.any_crossing();
    let places: Vec<Locator> = systems
        .filter_map(|system| profile.partition(system.partition))
        .filter_map(|partition| profile.geometry.byte_of(partition.extent.first))
        .filter_map(|offset| crossing.as_ref()?.name_before(offset))
        .collect();
    match store.first_of(&places) {
        Some(entry) => Answer::caution(
            "boot store",
            format!(
                "the boot manager's default entry {what}; \"{}\" becomes the default, the first in \
                 the menu that starts a Windows here",
                entry.title()
            ),
            "If another one should start when nobody chooses, set it in Windows after the switch.",
        ),
        None => Answer::block(
            "boot store",
            format!(
                "the boot manager's default entry {what}, and no entry of its menu starts a \
                 Windows here"
            ),
            "Set the default to the Windows on this disk (in Windows: System, Advanced settings, \
             Startup and Recovery), see it start, and check again.",
        ),
    }
}

fn describe(locators: &[Locator]) -> String {
    match locators.first() {
        Some(Locator::Mbr { signature, offset }) => {
            format!("MBR disk {signature:08X}, byte {offset}")
        }
        Some(Locator::Gpt { disk, partition }) => format!("GPT disk {disk}, partition {partition}"),
        None => "no device".to_owned(),
    }
}

fn entries(facts: &Facts<'_>) -> Vec<Answer> {
    let Some(store) = readable_store(facts) else {
        return Vec::new();
    };
    let answer = |entry: BootObject<'_>| {
        let subject = format!("entry \"{}\"", entry.title());
        if facts.to() == Style::Gpt && is_bios_only(entry.kind()) {
            let mut listed = store.listed().into_iter();
            listed.find(|listed| listed.id() == entry.id())?;
            let remedy = "It is taken out of the menu and stays in the store. Tell the customer; \
                in BIOS mode, after an undo, it is there again.";
            return Some(Answer::caution(
                subject,
                "runs in BIOS mode only and cannot start in UEFI mode",
                remedy,
            ));
        }
        let devices = entry.devices();
        let is_loader = matches!(entry.kind(), Some(ObjectKind::Loader | ObjectKind::Resume));
        let nameless = devices.iter().find(|(number, device)| {
            let names = !device.locators().is_empty() || device.is_boot_device();
            *number == element::OS_DEVICE && is_loader && !names
        });
        if nameless.is_some() {
            let remedy = "It is carried over unchanged, and does not start now either. Remove it \
                in Windows if nobody needs it.";
            return Some(Answer::caution(
                subject,
                "its device cannot be read",
                remedy,
            ));
        }
        let mut foreign = devices
            .iter()
            .flat_map(|(_, device)| device.locators())
            .filter(|&locator| facts.profile.partition_at(locator).is_none());
        let locator = foreign.next()?;
        let remedy = "It is carried over unchanged. If that disk is in the same PC, see whether \
            the entry still starts after the switch.";
        Some(Answer::caution(
            subject,
            format!("names another disk or partition: {}", describe(&[locator])),
            remedy,
        ))
    };
    store.objects().filter_map(answer).collect()
}

fn recovery(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.profile.systems.is_empty() {
        return vec![Answer::pass("disk", "not asked: there is no Windows")];
    }
    facts
        .profile
        .systems
        .iter()
        .map(|system| recovery_of(facts.profile, system))
        .collect()
}

/// The recovery environment of one Windows: switched on or not, and whether its image is there.
fn recovery_of(profile: &Profile, system: &WindowsSystem) -> Answer {
    let subject = profile.partition(system.partition).map_or_else(
        || format!("partition {}", system.partition),
        Partition::title,
    );
    let images: Vec<String> = profile
        .recovery
        .iter()
        .map(|image| format!("{} on partition {}", image.path, image.partition))
        .collect();
    let images = if images.is_empty() {
        "there is no image of one on the disk".to_owned()
    } else {
        images.join(" and ")
    };
    let again = "After the switch, switch the recovery environment off and on again, in Windows.";
    let config = match system.recovery.as_ref().map(|file| &file.config) {
        Some(Ok(config)) => config,
        Some(Err(fault)) => {
            let evidence = format!("its configuration cannot be read ({fault}); {images}");
            return Answer::caution(subject, evidence, again);
        }
        None if profile.recovery.is_empty() => {
            return Answer::caution(
                subject,
                "no recovery environment: neither a configuration nor an image",
                "If the customer wants one, set it up in Windows after the switch.",
            );
        }
        None => {
            let evidence = format!("no configuration names one; {images}, stays where it is");
            return Answer::pass(subject, evidence);
        }
    };
    let place = config.location();
    let Some(place) = place.filter(|_| config.enabled == Some(true)) else {
        let evidence = format!("not switched on; {images}, stays where it is");
        return Answer::pass(subject, evidence);
    };
    let number = recovery_partition(profile, place);
    let Some(number) = number else {
        let evidence = format!(
            "switched on, but {} is on no partition of this disk; {images}",
            place.path
        );
        return Answer::caution(subject, evidence, again);
    };
    let folder = place.path.trim_end_matches('\\');
    let path = format!("{folder}\\{RECOVERY_IMAGE}");
    let is_there =
        |image: &RecoveryImage| image.partition == number && image.path.eq_ignore_ascii_case(&path);
    if !profile.recovery.iter().any(is_there) {
        let evidence = format!("switched on, but {path} is not on partition {number}; {images}");
        return Answer::caution(subject, evidence, again);
    }
    let crossing = profile.any_crossing();
    let crossed = crossing.and_then(|crossing| config.crossed(&crossing));
    let file = system.recovery.as_ref();
    if !file.is_some_and(|file| file.is_editable) || matches!(crossed, Some(Err(_))) {
        let evidence = format!(
            "switched on, {path} on partition {number}; its configuration cannot be edited where \
             it lies, and will name the old disk"
        );
        return Answer::caution(subject, evidence, again);
    }
    Answer::pass(
        subject,
        format!("switched on, {path} on partition {number}; stays, and crosses with it"),
    )
}

/// The partition of this disk that a location of the recovery environment names: by the disk, and by the place.
fn recovery_partition(profile: &Profile, place: &RecoveryLocation) -> Option<usize> {
    let crossing = profile.any_crossing()?;
    let is_here = match place.disk {
        RecoveryDisk::Mbr(signature) => {
            crossing.to == Style::Gpt && signature == crossing.signature
        }
        RecoveryDisk::Gpt(disk) => crossing.to == Style::Mbr && disk == crossing.disk,
        RecoveryDisk::None => false,
    };
    let mut partitions = profile.partitions.iter().filter(|_| is_here);
    let found = partitions
        .find(|partition| profile.geometry.byte_of(partition.extent.first) == Some(place.offset));
    Some(found?.number)
}
