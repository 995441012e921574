//! The first answer about a disk.

use schwelle_core::overview::{DiskAnswer, Overview};
use schwelle_core::profile::TableStyle;

use super::steps;

/// The answer in a list.
pub(crate) fn name(answer: DiskAnswer) -> &'static str {
    match answer {
        DiskAnswer::Ready => "ready",
        DiskAnswer::Caution => "caution",
        DiskAnswer::Blocked => "blocked",
        DiskAnswer::Starts => "starts",
        DiskAnswer::Depends => "depends",
        DiskAnswer::DoesNotStart => "does not start",
        DiskAnswer::Closed => "cannot tell",
        DiskAnswer::NoWindows => "no Windows",
        DiskAnswer::Data => "data only",
        DiskAnswer::Blank => "blank",
        DiskAnswer::Unknown => "unknown",
        DiskAnswer::Unreadable => "unreadable",
    }
}

/// Why, where it is not what the rules say of a conversion.
pub(crate) fn reason(overview: &Overview, style: TableStyle) -> String {
    let step = || {
        let step = overview.step.as_ref().map(|step| {
            let name = step.id.name();
            format!("{name}: {}", steps::found(&step.evidence))
        });
        step.unwrap_or_default()
    };
    match overview.answer {
        DiskAnswer::Ready | DiskAnswer::Caution | DiskAnswer::Blocked | DiskAnswer::Unreadable => {
            String::new()
        }
        DiskAnswer::Starts => "GPT already, and starts in UEFI mode".to_owned(),
        DiskAnswer::Depends => format!("GPT already; some firmware does not start it. {}", step()),
        DiskAnswer::DoesNotStart => {
            format!("GPT already, but does not start in UEFI mode. {}", step())
        }
        DiskAnswer::Closed => {
            "GPT already; its Windows volume is encrypted or damaged, so its start cannot be checked"
                .to_owned()
        }
        DiskAnswer::NoWindows => "another system may start from it".to_owned(),
        DiskAnswer::Data => match style {
            TableStyle::Gpt | TableStyle::Hybrid => "GPT already, and no system on it",
            TableStyle::BareVolume => "a file system on the bare disk, without a partition table",
            TableStyle::Blank | TableStyle::Unknown | TableStyle::Mbr => "no system on it",
        }
        .to_owned(),
        DiskAnswer::Blank => "no partition table and no content found".to_owned(),
        DiskAnswer::Unknown => {
            "neither a partition table nor a file system is recognised".to_owned()
        }
    }
}
