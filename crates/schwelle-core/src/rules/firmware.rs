//! Rules about the PC around the disk.

use super::answers::common::NotAsked;
use super::answers::firmware::{Evidence, Remedy};
use super::{Answer, Facts, Rule, RuleId, Subject};
use crate::disk_use::DiskUse;
use crate::firmware::{Fact, How, Verdict, linux_loaders};
use crate::profile::{WindowsSystem, boot_system};

pub(super) static RULES: &[Rule] = &[
    Rule::to_gpt(RuleId::FirmwareUefi, uefi),
    Rule::to_gpt(RuleId::FirmwareBits, bits),
    Rule::to_gpt(RuleId::FirmwareCsm, csm),
    Rule::to_gpt(RuleId::FirmwareSecureBoot, secure_boot),
];

/// No PC starts from a data disk, whatever its firmware can do.
fn not_asked() -> Vec<Answer> {
    vec![Answer::not_asked(Subject::Pc, NotAsked::DataDisk)]
}

fn find_out(how: How) -> Remedy {
    Remedy::FindOut { how }
}

fn uefi(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return not_asked();
    }
    let fact = &facts.machine.uefi;
    let evidence = Evidence::Uefi {
        able: fact.value().copied(),
        source: fact.ground().clone(),
    };
    vec![match fact {
        Fact::Known { value: true, .. } => Answer::pass(Subject::Pc, evidence),
        Fact::Known { value: false, .. } => {
            Answer::block(Subject::Pc, evidence, Remedy::LeaveForBios)
        }
        Fact::NotReported { how, .. } => Answer::unknown(Subject::Pc, evidence, find_out(*how)),
    }]
}

fn bits(facts: &Facts<'_>) -> Vec<Answer> {
    if facts.disk_use == DiskUse::Data {
        return not_asked();
    }
    let fact = &facts.machine.bits;
    let evidence = Evidence::Bits {
        bits: fact.value().copied(),
        source: fact.ground().clone(),
    };
    vec![match fact {
        Fact::Known { value: 64, .. } => Answer::pass(Subject::Pc, evidence),
        Fact::Known { .. } => Answer::block(Subject::Pc, evidence, Remedy::LeaveForBits),
        Fact::NotReported { how, .. } => Answer::unknown(Subject::Pc, evidence, find_out(*how)),
    }]
}

fn csm(facts: &Facts<'_>) -> Vec<Answer> {
    let systems = facts.profile.systems.iter();
    let started = systems.filter(|system| facts.profile.is_started(system));
    let old = started.filter(|system| system.needs_csm() != Some(false));
    let answer = |system: &WindowsSystem| {
        let subject = Subject::System {
            name: system.title(),
        };
        if system.needs_csm().is_none() {
            return Answer::unknown(
                subject,
                Evidence::VersionUnknown,
                Remedy::KeepCsmUnlessNewer,
            );
        }
        let fact = &facts.machine.csm;
        match fact {
            Fact::Known { value: false, .. } => {
                let source = fact.ground().clone();
                let evidence = Evidence::NeedsCsmHasNone { source };
                Answer::block(subject, evidence, Remedy::LeaveOrSwitchCsmOn)
            }
            _ => Answer::caution(subject, Evidence::NeedsCsm, Remedy::KeepCsmOn),
        }
    };
    old.map(answer).collect()
}

fn secure_boot(facts: &Facts<'_>) -> Vec<Answer> {
    if boot_system(facts.profile).is_none() && linux_loaders(facts.profile).is_none() {
        return vec![Answer::not_asked(Subject::Pc, NotAsked::NoBootManager)];
    }
    let (state, choice) = (&facts.machine.secure_boot, facts.loader);
    let on = state.value().copied();
    let evidence = Evidence::SecureBoot {
        set: choice.set,
        verdict: choice.verdict.clone(),
        on,
    };
    let remedy = match (on, &choice.verdict) {
        (_, Verdict::Accepted { .. }) | (Some(false), Verdict::Refused { .. }) => {
            return vec![Answer::pass(Subject::Pc, evidence)];
        }
        (Some(true), Verdict::Refused { .. }) => {
            let verdict = choice.verdict.clone();
            let remedy = Remedy::SecureBootAfterwards { verdict };
            return vec![Answer::caution(Subject::Pc, evidence, remedy)];
        }
        (None, Verdict::Refused { .. }) => state.how(),
        (_, Verdict::NotReported { .. }) => facts.machine.keys.how().or(state.how()),
    };
    let remedy = remedy.map_or(Remedy::OtherFindingsFirst, find_out);
    vec![Answer::unknown(Subject::Pc, evidence, remedy)]
}
