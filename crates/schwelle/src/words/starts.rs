//! Who starts here, today and afterwards.

use schwelle_core::starts::{Afterwards, SectorZero, SystemStart, Today};

use super::lba_range;

/// The boot code in sector 0, and what it leads to.
pub(crate) fn sector_zero(code: &SectorZero) -> String {
    match code {
        SectorZero::StartsNothing => "none that starts anything".to_owned(),
        SectorZero::ToActive {
            partition: Some(partition),
        } => {
            format!("goes to the active partition ({partition})")
        }
        SectorZero::ToActive { partition: None } => {
            "goes to the active partition, and not exactly one is active".to_owned()
        }
        SectorZero::Grub { core, menu_on } => {
            let core: Vec<String> = core.iter().map(lba_range).collect();
            let core = match core.is_empty() {
                true => "and no core image is where it looks for one".to_owned(),
                false => format!("with its core image in {}", core.join(" and ")),
            };
            match menu_on {
                Some(partition) => format!("GRUB, {core}; its menu is on partition {partition}"),
                None => format!("GRUB, {core}; its menu was not found"),
            }
        }
        SectorZero::Unknown { gap: Some(gap) } => {
            format!(
                "not known; there is content in {}, which it may need",
                lba_range(gap)
            )
        }
        SectorZero::Unknown { gap: None } => "not known".to_owned(),
    }
}

/// How a system starts in BIOS mode.
pub(crate) fn today(today: &Today) -> String {
    match today {
        Today::WindowsMenu => "starts today, from Windows' boot menu".to_owned(),
        Today::GrubMenu => "starts today, from GRUB's menu".to_owned(),
        Today::BootCode => "runs today, from sector 0; what it starts is not known".to_owned(),
        Today::NotNamed => "does not start today: no boot menu names it".to_owned(),
        Today::NoKernel { path } => {
            format!("does not start today: GRUB's menu names {path}, which is not there")
        }
        Today::NotLookedInto { volume } => {
            format!(
                "not known: a system on {} is not looked into",
                volume.name()
            )
        }
    }
}

/// Whether a system starts from the converted disk.
pub(crate) fn afterwards(afterwards: &Afterwards) -> String {
    match afterwards {
        Afterwards::WindowsMenu => "starts afterwards, from Windows' boot menu".to_owned(),
        Afterwards::GrubMenu { folder } => {
            format!("starts afterwards, from GRUB's menu ({})", on_esp(folder))
        }
        Afterwards::ByTable { names } => format!(
            "does not start afterwards: {} names a partition by the partition table, which changes; let it name \
             the volume by UUID= first",
            names.join(", ")
        ),
        Afterwards::NotNamed => "does not start afterwards: no boot menu names it".to_owned(),
        Afterwards::Unfit { why } => {
            format!("does not start afterwards: {why}, and so not in UEFI mode")
        }
        Afterwards::NoLoader => "does not start afterwards: it gets no UEFI boot loader".to_owned(),
        Afterwards::BiosCode => "does not run afterwards: it is boot code for a BIOS".to_owned(),
        Afterwards::NotLookedInto => {
            "kept as it is; what starts it today may be gone afterwards".to_owned()
        }
    }
}

/// A folder as GRUB names it, as it is named elsewhere.
fn on_esp(folder: &str) -> String {
    let folder = folder.replace('/', "\\");
    format!("{folder} on the EFI system partition")
}

/// What a system is called, and where it lies.
pub(crate) fn system(system: &SystemStart) -> String {
    match &system.on {
        // What has no name of its own is called by its partition.
        Some(on) if !system.name.ends_with(&format!("partition {}", on.number)) => {
            format!("{} on partition {}", system.name, on.number)
        }
        _ => system.name.clone(),
    }
}

/// Whether it starts today, and afterwards.
pub(crate) fn both(system: &SystemStart) -> String {
    match (&system.today, &system.afterwards) {
        (Today::WindowsMenu, Afterwards::WindowsMenu) => {
            "starts today and afterwards, from Windows' boot menu".to_owned()
        }
        (Today::GrubMenu, Afterwards::GrubMenu { folder }) => format!(
            "starts today and afterwards, from GRUB's menu ({})",
            on_esp(folder)
        ),
        (before, after) => format!("{}; {}", today(before), afterwards(after)),
    }
}
