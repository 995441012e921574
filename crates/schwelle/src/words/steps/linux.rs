//! The steps of a Linux start.

use schwelle_core::rehearse::answers::linux::{Evidence, Remedy};

use super::super::unfit;

pub(super) fn evidence(evidence: &Evidence) -> String {
    match evidence {
        Evidence::LinuxLoaders { folder, programs } => {
            format!("{folder}: {}", programs.join(", then "))
        }
        Evidence::LinuxLoaderUnfit { path, why } => unfit(path, why),
        Evidence::GrubMenu {
            path,
            partition,
            menu_path,
            count,
        } => format!(
            "{path} leads to {menu_path} on partition {partition}, a menu of {count} entries"
        ),
        Evidence::NoLead { path } => {
            format!("{path}: leads to no volume by its UUID")
        }
        Evidence::NoSuchVolume { path, volume_id } => {
            format!("{path} names the volume {volume_id}, which is not on this disk")
        }
        Evidence::NoMenu {
            partition,
            menu_path,
            fault,
        } => match fault {
            Some(fault) => format!("{menu_path} on partition {partition}: {fault}"),
            None => format!("{menu_path} is not on partition {partition}"),
        },
        Evidence::NoLinuxEntry { menu_path } => {
            format!("{menu_path}: no entry starts a Linux kernel")
        }
        Evidence::LinuxKernel {
            title,
            partition,
            path,
            ram_disks,
        } => {
            let with = match &ram_disks[..] {
                [] => String::new(),
                some => format!(", with {}", some.join(", ")),
            };
            format!("\"{title}\": {path} on partition {partition}{with}")
        }
        Evidence::LinuxFileUnfit {
            partition,
            path,
            why,
        } => format!("partition {partition}: {}", unfit(path, why)),
        Evidence::RootElsewhere { root } => format!(
            "the menu says root={root}, which is not on this disk, or which the partition table names"
        ),
    }
}

pub(super) fn remedy(remedy: &Remedy) -> String {
    match remedy {
        Remedy::InstallLoader => {
            "Let that Linux install its UEFI boot loader on the EFI system partition again."
        }
        Remedy::MakeMenu => {
            "Let that Linux write its GRUB menu again, with volumes named by UUID (update-grub, or grub2-mkconfig)."
        }
        Remedy::RepairSystem => {
            "Repair that Linux from its installation medium, and see it start."
        }
    }
    .to_owned()
}
