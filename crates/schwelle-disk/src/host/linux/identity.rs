//! What a disk is called: by its manufacturer, on its bus, and by the names that stay from start to start.
//!
//! Where the kernel has the serial number depends on the bus (seen on Linux 6.1): NVMe `device/serial`;
//! SATA and SCSI `device/vpd_pg80`, page 80h of the vital product data (SPC-4 §7.8.14), a header of 4 bytes
//! before the text; virtio `serial`; USB `serial` of the USB device above; MMC `device/serial`.

use std::fs;
use std::path::{Path, PathBuf};

use super::super::facts::Bus;
use super::{names_in, text};

/// Folders above a disk's own that are looked at for its USB device, at most.
const MAX_ABOVE: usize = 12;
/// Page 80h of the vital product data is read up to this length.
const MAX_PAGE: usize = 256;

/// What a disk is called.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Identity {
    pub(super) bus: Option<Bus>,
    pub(super) model: Option<String>,
    pub(super) serial: Option<String>,
    /// Names below `/dev/disk/by-id`, the clearest one first.
    pub(super) stable: Vec<String>,
}

/// The identity of the disk with this name in sysfs.
pub(super) fn identity(root: &Path, name: &str) -> Identity {
    let sys = root.join("sys/class/block").join(name);
    let real = fs::canonicalize(&sys).unwrap_or_else(|_| sys.clone());
    let usb = usb_device(&real);
    let is_below = |part: &str| {
        let mut parts = real.iter().filter_map(|part| part.to_str());
        parts.any(|found| found.starts_with(part))
    };
    let bus = match name {
        _ if usb.is_some() => Some(Bus::Usb),
        _ if name.starts_with("nvme") => Some(Bus::Nvme),
        _ if name.starts_with("mmcblk") => Some(Bus::Mmc),
        _ if name.starts_with("vd") => Some(Bus::Virtio),
        _ if is_below("ata") => Some(Bus::Ata),
        _ if name.starts_with("sd") => Some(Bus::Scsi),
        _ => None,
    };
    let at_usb = |file: &str| usb.as_ref().and_then(|device| text(device.join(file)));
    let serial = at_usb("serial")
        .or_else(|| text(sys.join("device/serial")))
        .or_else(|| page_80(&sys.join("device/vpd_pg80")))
        .or_else(|| text(sys.join("serial")));
    let model = text(sys.join("device/model"))
        .or_else(|| text(sys.join("device/name")).filter(|_| bus == Some(Bus::Mmc)))
        .or_else(|| at_usb("product"));
    Identity {
        bus,
        model,
        serial,
        stable: stable_names(root, name),
    }
}

/// The USB device above a disk: the nearest folder that has a vendor's number.
fn usb_device(disk: &Path) -> Option<PathBuf> {
    let mut above = disk.ancestors().skip(1).take(MAX_ABOVE);
    let found = above.find(|folder| folder.join("idVendor").exists());
    found.map(Path::to_owned)
}

fn page_80(path: &Path) -> Option<String> {
    let page = fs::read(path).ok()?;
    let text = page.get(4..)?;
    let text = String::from_utf8_lossy(text.get(..MAX_PAGE).unwrap_or(text));
    let text = text.trim_matches(|c: char| c.is_whitespace() || c == '\0');
    (!text.is_empty()).then(|| text.to_owned())
}

/// The names below `/dev/disk/by-id` that lead to a disk. Those that begin with a bus say more than a bare
/// number, and stand first.
fn stable_names(root: &Path, name: &str) -> Vec<String> {
    let folder = root.join("dev/disk/by-id");
    let leads_here = |link: &String| {
        fs::read_link(folder.join(link))
            .is_ok_and(|to| to.file_name().is_some_and(|to| to.to_str() == Some(name)))
    };
    let mut names: Vec<String> = names_in(&folder).into_iter().filter(leads_here).collect();
    let is_number = |name: &String| {
        name.starts_with("wwn-") || name.starts_with("nvme-eui") || name.contains("-uuid.")
    };
    names.sort_by_key(|name| (is_number(name), name.clone()));
    names
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::super::tests::put;
    use super::*;

    #[test]
    fn every_bus_has_its_serial_number_where_the_kernel_has_it() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        let pci = "sys/devices/pci0000:00";
        let page = "\0P\0\u{8}  SATA-77\0";
        put(
            root,
            &[
                (&format!("{pci}/ata3/host2/block/sda/device/vpd_pg80"), page),
                (
                    &format!("{pci}/ata3/host2/block/sda/device/model"),
                    "Made Up \n",
                ),
                (
                    &format!("{pci}/host4/block/sdb/device/vpd_pg80"),
                    "\0P\0\u{4}SAS1",
                ),
                (&format!("{pci}/usb1/1-2/idVendor"), "0000\n"),
                (&format!("{pci}/usb1/1-2/serial"), "USB-5\n"),
                (&format!("{pci}/usb1/1-2/product"), "Dock\n"),
                (&format!("{pci}/usb1/1-2/host6/block/sdc/size"), "9"),
                (
                    &format!("{pci}/nvme/nvme0/nvme0n1/device/serial"),
                    "NV-1  \n",
                ),
                (&format!("{pci}/virtio1/block/vda/serial"), "VIRT\n"),
                (&format!("{pci}/mmc0/block/mmcblk0/device/serial"), "0x12\n"),
                (&format!("{pci}/mmc0/block/mmcblk0/device/name"), "CARD\n"),
                ("dev/none", ""),
            ],
        );
        let block = root.join("sys/class/block");
        fs::create_dir_all(&block).unwrap();
        let by_id = root.join("dev/disk/by-id");
        fs::create_dir_all(&by_id).unwrap();
        for (link, to) in [
            ("wwn-0x5000", "sda"),
            ("ata-Made_Up_SATA-77", "sda"),
            ("usb-Dock_USB-5-0:0", "sdc"),
        ] {
            symlink(format!("../../{to}"), by_id.join(link)).unwrap();
        }
        for (below, bus, model, serial, stable) in [
            (
                "ata3/host2/block/sda",
                Bus::Ata,
                Some("Made Up"),
                "SATA-77",
                2,
            ),
            ("host4/block/sdb", Bus::Scsi, None, "SAS1", 0),
            (
                "usb1/1-2/host6/block/sdc",
                Bus::Usb,
                Some("Dock"),
                "USB-5",
                1,
            ),
            ("nvme/nvme0/nvme0n1", Bus::Nvme, None, "NV-1", 0),
            ("virtio1/block/vda", Bus::Virtio, None, "VIRT", 0),
            ("mmc0/block/mmcblk0", Bus::Mmc, Some("CARD"), "0x12", 0),
        ] {
            let name = below.rsplit('/').next().unwrap();
            symlink(root.join(pci).join(below), block.join(name)).unwrap();
            let found = identity(root, name);
            assert_eq!(
                (found.bus, found.model.as_deref(), found.serial.as_deref()),
                (Some(bus), model, Some(serial)),
                "{name}"
            );
            assert_eq!(found.stable.len(), stable, "{name}: {:?}", found.stable);
        }
        let first = identity(root, "sda").stable;
        assert_eq!(first.first().unwrap(), "ata-Made_Up_SATA-77");
    }
}
