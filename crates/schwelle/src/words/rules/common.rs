//! What rules of several families answer.

use schwelle_core::rules::answers::common::{Evidence, NotAsked, Remedy};

use super::super::nth;

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::NothingFound => "nothing found".to_owned(),
        Evidence::NotAsked { because } => format!("not asked: {}", not_asked(*because)),
        Evidence::Aside { found } => format!(
            "{}; no entry of the menu starts this system",
            super::evidence(found)
        ),
    }
}

fn not_asked(because: NotAsked) -> &'static str {
    match because {
        NotAsked::NoMbr => "there is no MBR table",
        NotAsked::DataDisk => "nothing starts from a data disk",
        NotAsked::NoWindows => "there is no Windows",
        NotAsked::NoReadableWindows => "there is no Windows that can be read",
        NotAsked::NoActivePartition => "there is no active partition",
        NotAsked::NoEsp => "there is no EFI system partition",
        NotAsked::NoReadableStore => "there is no readable store",
        NotAsked::NoBootManager => "there is no boot manager to judge",
        NotAsked::NamesKept => "its partitions keep their names",
        NotAsked::NoEspForData => {
            "a data disk gets none, unless --esp-size or --place asks for one"
        }
    }
}

pub(super) fn remedy(remedy: &Remedy, next: &[String]) -> String {
    match remedy {
        Remedy::SeeWhatItIsFor => {
            "It does not start afterwards; does it now? It may be left over from an earlier installation. If it is \
             needed, see how it starts today, and fix that first."
                .to_owned()
        }
        Remedy::VolumeFirst => {
            "Fix the findings about that volume first, then check again.".to_owned()
        }
        Remedy::RightDisk => format!("Check that this is the right disk: {}", nth(next, 0)),
        Remedy::OneOfTwoTables => {
            "Find out which of the two tables is in use, and remove the additional MBR entries; the GPT then \
             stands alone."
                .to_owned()
        }
    }
}
