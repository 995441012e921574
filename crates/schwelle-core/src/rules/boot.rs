//! Rules about the boot configuration.

use super::{Answer, Facts, Rule};
use crate::bootstore::{BootObject, BootStore, Locator, ObjectKind, element};
use crate::profile::{Partition, Profile};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "boot.store",
        question: "Is there a boot store that can be read?",
        why: "The boot store holds the menu: its entries, order, timeout and languages are \
            carried over to the new EFI system partition. Without it there is nothing to carry \
            over.",
        check: store,
    },
    Rule {
        id: "boot.default",
        question: "Does the default entry lead to a system on this disk?",
        why: "The default entry is what the PC starts. If it leads elsewhere, this may not be \
            the disk that the PC starts from, or another disk is needed as well.",
        check: default,
    },
    Rule {
        id: "boot.entries",
        question: "Can all entries of the menu cross over?",
        why: "Boot sectors and loaders older than the boot store run under a BIOS only, and \
            entries for other disks keep their old names. They stay in the menu, but the \
            technician should know that they will not start in UEFI mode.",
        check: entries,
    },
    Rule {
        id: "boot.recovery",
        question: "Is the recovery environment found and kept?",
        why: "The recovery environment is a file on one of the volumes, named by the boot store. \
            The file stays where it is; the store's entry for it crosses with the others.",
        check: recovery,
    },
];

fn readable_store<'a>(facts: &Facts<'a>) -> Option<&'a BootStore> {
    facts.profile.boot.store.as_ref()?.as_ref().ok()
}

fn store(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.profile.mbr().is_none() || facts.profile.boot.partition.is_none() {
        return vec![Answer::pass(
            "disk",
            "not asked: there is no active partition",
        )];
    }
    let answer = match &facts.profile.boot.store {
        Some(Ok(store)) => Answer::pass(
            "boot store",
            format!(
                "\\Boot\\BCD on the active partition: {} objects, {} in the menu",
                store.objects().count(),
                store.menu().len()
            ),
        ),
        Some(Err(fault)) => Answer::block(
            "boot store",
            format!("\\Boot\\BCD on the active partition: {fault}"),
            "See the PC start in BIOS mode and shut Windows down completely; if it does not \
             start, repair the boot store first (with the startup repair of its recovery \
             environment).",
        ),
        None => Answer::block(
            "boot store",
            "the active partition has no \\Boot\\BCD that can be read",
            "Check that the right partition is active, and see the PC start in BIOS mode before \
             converting. Making a store from nothing is not built yet.",
        ),
    };
    vec![answer]
}

fn on_this_disk(profile: &Profile, locator: Locator) -> Option<usize> {
    let Locator::Mbr { signature, offset } = locator else {
        return None;
    };
    let table = profile
        .mbr()
        .filter(|table| table.record.disk_signature == signature)?;
    let position = table
        .partitions
        .iter()
        .position(|part| profile.geometry.byte_of(part.extent.first) == Some(offset))?;
    Some(profile.partitions.get(position)?.number)
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
    let Some(entry) = store.default_entry() else {
        return vec![Answer::block(
            "boot store",
            "the boot manager's default entry is not in the store",
            remedy,
        )];
    };
    let subject = format!("entry \"{}\"", entry.title());
    let locators = entry
        .device(element::OS_DEVICE)
        .map(|device| device.locators())
        .unwrap_or_default();
    let partition = locators
        .first()
        .and_then(|&locator| on_this_disk(facts.profile, locator));
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
        let bios_only = matches!(
            entry.kind(),
            Some(ObjectKind::OldLoader | ObjectKind::BootSector)
        );
        if bios_only {
            let remedy = "It stays in the menu; remove it later, in Windows, if nobody needs it.";
            return Some(Answer::caution(
                subject,
                "runs in BIOS mode only and will not start in UEFI mode",
                remedy,
            ));
        }
        let devices = entry.devices();
        let mut foreign = devices
            .iter()
            .flat_map(|(_, device)| device.locators())
            .filter(|&locator| on_this_disk(facts.profile, locator).is_none());
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
    if facts.profile.recovery.is_empty() {
        return vec![Answer::caution(
            "disk",
            "no recovery environment (\\Recovery\\WindowsRE\\Winre.wim) on any volume",
            "If the customer wants one, set it up in Windows after the switch.",
        )];
    }
    let found = facts.profile.recovery.iter();
    found
        .map(|image| {
            Answer::pass(
                format!("partition {}", image.partition),
                format!("{}, stays where it is", image.path),
            )
        })
        .collect()
}
