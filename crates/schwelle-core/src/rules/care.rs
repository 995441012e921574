//! Rules about the PC around the disk, and about the care that only the technician can take.

use super::{Answer, Facts, Rule};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "firmware.uefi",
        question: "Can the PC start in UEFI mode?",
        why: "A converted disk starts in UEFI mode only. A PC that cannot do that would not \
            start from it at all.",
        check: uefi,
    },
    Rule {
        id: "care.backup",
        question: "Is there a backup of the customer's data?",
        why: "Schwelle keeps what it overwrites, but a disk can fail on any day, and a disk that \
            needs converting is seldom new. Only the technician knows whether there is a \
            backup: it is asked for and recorded, never assumed.",
        check: backup,
    },
];

fn uefi(facts: &Facts<'_>) -> Vec<Answer> {
    let how = "Look into the firmware setup of the PC that the disk belongs to: there must be a \
        UEFI boot mode. Or start this rescue system there in UEFI mode and check again.";
    let evidence = &facts.machine.uefi_evidence;
    let answer = match facts.machine.uefi {
        Some(true) => Answer::pass("PC", evidence),
        Some(false) => Answer::block(
            "PC",
            evidence,
            "Leave the disk as it is: in this PC it starts in BIOS mode only. If the PC got a firmware \
             update that brings UEFI, correct the machine file and check again.",
        ),
        None => Answer::unknown("PC", evidence, how),
    };
    vec![answer]
}

fn backup(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.backup_confirmed {
        return vec![Answer::pass(
            "customer's data",
            "there is a backup: it was confirmed",
        )];
    }
    let remedy = "Make one, or make sure of it; convert asks and records the answer.";
    vec![Answer::unknown("customer's data", "not asked yet", remedy)]
}
