//! Rules about the PC around the disk.

use super::{Answer, Facts, Rule};
use crate::crossing::Style;
use crate::disk_use::DiskUse;
use crate::firmware::{Fact, SwitchSheet, Verdict};
use crate::profile::{SignedSet, WindowsSystem, boot_system};

pub(super) static RULES: &[Rule] = &[
    Rule {
        id: "firmware.uefi",
        question: "Can the PC start in UEFI mode?",
        why: "A converted disk starts in UEFI mode only. A PC that cannot do that would not \
            start from it at all.",
        to: Some(Style::Gpt),
        check: uefi,
    },
    Rule {
        id: "firmware.bits",
        question: "Does the PC's firmware work with 64 bits?",
        why: "UEFI firmware starts only loaders of its own width, and a 64-bit Windows brings 64-bit \
            loaders. Some tablets and small notebooks have 32-bit firmware with a 64-bit processor.",
        to: Some(Style::Gpt),
        check: bits,
    },
    Rule {
        id: "firmware.csm",
        question: "Does the Windows start without the compatibility module (CSM)?",
        why: "Windows 7 and Server 2008 R2 draw their start screen by the video routines of a BIOS, which UEFI firmware \
            has only with its compatibility module (CSM) on. Without it they hang there. They know no Secure Boot \
            either.",
        to: Some(Style::Gpt),
        check: compatibility,
    },
    Rule {
        id: "firmware.secure-boot",
        question: "Would Secure Boot let the boot manager run?",
        why: "With Secure Boot on, firmware starts only programs whose signature leads to one of its own \
            certificates, and none that it has revoked. A boot manager signed by a certificate that \
            the firmware does not know ends in a message about a violation.",
        to: Some(Style::Gpt),
        check: secure_boot,
    },
];

/// No PC starts from a data disk, whatever its firmware can do.
fn not_asked() -> Vec<Answer> {
    vec![Answer::pass(
        "PC",
        "not asked: nothing starts from a data disk",
    )]
}

fn uefi(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return not_asked();
    }
    let evidence = facts.machine.uefi.evidence();
    let answer = match &facts.machine.uefi {
        Fact::Known { value: true, .. } => Answer::pass("PC", evidence),
        Fact::Known { value: false, .. } => Answer::block(
            "PC",
            evidence,
            "Leave the disk as it is: in this PC it starts in BIOS mode only. If the PC got a firmware \
             update that brings UEFI, correct the machine file and check again.",
        ),
        Fact::NotTold { how, .. } => Answer::unknown("PC", evidence, *how),
    };
    vec![answer]
}

fn bits(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return not_asked();
    }
    let evidence = facts.machine.bits.evidence();
    let answer = match &facts.machine.bits {
        Fact::Known { value: 64, .. } => Answer::pass("PC", format!("64-bit: {evidence}")),
        Fact::Known { value, .. } => Answer::block(
            "PC",
            format!("its firmware works with {value} bits: {evidence}"),
            "Leave the disk as it is: this PC would not start the 64-bit loader of its system.",
        ),
        Fact::NotTold { how, .. } => Answer::unknown("PC", evidence, *how),
    };
    vec![answer]
}

fn compatibility(facts: &Facts<'_>) -> Vec<Answer> {
    let systems = facts.profile.systems.iter();
    let old =
        systems.filter(|system| system.needs_compatibility() && facts.profile.is_started(system));
    let answer = |system: &WindowsSystem| {
        let subject = system.title();
        match facts.machine.compatibility {
            Fact::Known { value: false, .. } => Answer::block(
                subject,
                format!(
                    "it needs the compatibility module's video, and the PC has none: {}",
                    facts.machine.compatibility.evidence()
                ),
                "Leave the disk as it is, or see whether the firmware setup has such a module (CSM, legacy video) \
                 and switch it on; then correct the machine file and check again.",
            ),
            _ => Answer::caution(
                subject,
                "in UEFI mode it needs the compatibility module's video, and knows no Secure Boot",
                "Leave the compatibility module (CSM) on and Secure Boot off after the switch. A PC without such a \
                 module does not start this Windows in UEFI mode.",
            ),
        }
    };
    old.map(answer).collect()
}

fn secure_boot(facts: &Facts<'_>) -> Vec<Answer> {
    if boot_system(facts.profile).is_none() {
        return vec![Answer::pass(
            "PC",
            "not asked: there is no boot manager to judge",
        )];
    }
    let (state, choice) = (&facts.machine.secure_boot, facts.loader);
    let which = match choice.set {
        SignedSet::First => "the boot manager",
        SignedSet::Second => "the boot manager of the second signed set, which is placed,",
    };
    let said = choice.verdict.reason();
    let answer = match (state.value(), &choice.verdict) {
        (_, Verdict::Accepted(_)) => {
            Answer::pass("PC", format!("{which} would be let run: {said}"))
        }
        (Some(true), Verdict::Refused { .. }) => Answer::caution(
            "PC",
            format!("Secure Boot is on, and {which} would not be let run: {said}"),
            SwitchSheet::about_secure_boot(&choice.verdict),
        ),
        (Some(false), Verdict::Refused { .. }) => Answer::pass(
            "PC",
            format!("Secure Boot is off, and must stay so: {which} would not be let run: {said}"),
        ),
        (None, Verdict::Refused { .. }) => Answer::unknown(
            "PC",
            format!("{which} would not be let run: {said}; whether Secure Boot is on is not known"),
            state.how().unwrap_or_default(),
        ),
        (_, Verdict::NotTold(_)) => {
            let how = facts.machine.keys.how().or(state.how());
            Answer::unknown("PC", said, how.unwrap_or("See the other findings first."))
        }
    };
    vec![answer]
}
