//! Disks with Windows and a Linux that GRUB starts: GRUB's images are its own, put where its installer puts them, and
//! the ext4 volume is made by its utilities.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::Extent;
use schwelle_demo::{BOOT_MANAGER, DiskBuilder, MbrEntry};
use schwelle_testkit::tool;

use crate::support::{COMPUTER, Lab, SIGNATURE, lba};

pub(crate) const LINUX_UUID: &str = "5e7ec0de-0000-4000-8000-00000000a11c";
pub(crate) const LINUX: &str = "Ankerplatz Linux 7 (Boje)";
const GRUB: &str = "/usr/lib/grub/i386-pc";
const LINUX_MIB: u64 = 40;

/// What a partition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Holds {
    Boot,
    Windows,
    Linux,
}

/// A disk with the three of them.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Dual {
    /// In the order of the disk.
    pub(crate) order: [Holds; 3],
    /// Where the first partition begins.
    pub(crate) first: u64,
    /// GRUB is in sector 0; else code that goes to the active partition.
    pub(crate) has_grub: bool,
}

impl Dual {
    pub(crate) fn extent(&self, wanted: Holds) -> Extent {
        let mut at = self.first;
        for holds in self.order {
            let mib = match holds {
                Holds::Boot => 50,
                Holds::Windows => 160,
                Holds::Linux => LINUX_MIB,
            };
            let extent = Extent::new(lba(at), mib * 2048).unwrap();
            if holds == wanted {
                return extent;
            }
            at = extent.end.0.next_multiple_of(2048);
        }
        unreachable!("all three are there");
    }

    pub(crate) fn number(&self, wanted: Holds) -> usize {
        self.order
            .iter()
            .position(|holds| *holds == wanted)
            .unwrap()
            + 1
    }

    /// Builds it, with space for an EFI system partition at its end.
    pub(crate) fn build(&self, lab: &Lab, name: &str) -> PathBuf {
        self.build_with(lab, name, |_| ())
    }

    /// The same, with `change` made to the folder of the Linux before its volume is made.
    pub(crate) fn build_with(&self, lab: &Lab, name: &str, change: impl FnOnce(&Path)) -> PathBuf {
        let linux = self.linux(lab, change);
        lab.image(name, 512, 400, |disk| {
            let [boot, windows] = [Holds::Boot, Holds::Windows].map(|holds| self.extent(holds));
            disk.standard_at(boot, windows, (SIGNATURE, COMPUTER))
                .unwrap();
            disk.bytes(self.extent(Holds::Linux).first, &fs::read(&linux).unwrap())
                .unwrap();
            let entries = self.order.map(|holds| {
                let extent = self.extent(holds);
                MbrEntry {
                    active: holds == Holds::Boot && !self.has_grub,
                    kind: if holds == Holds::Linux { 0x83 } else { 0x07 },
                    first: u32::try_from(extent.first.0).unwrap(),
                    sectors: u32::try_from(extent.sectors()).unwrap(),
                }
            });
            disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
            if self.has_grub {
                embed(disk, &core(lab));
            }
        })
    }

    /// The Linux: what it says of itself, a kernel by name, and GRUB's folder with a menu of both systems.
    pub(crate) fn linux(&self, lab: &Lab, change: impl FnOnce(&Path)) -> PathBuf {
        let (root, volume) = (lab.path("linux"), lab.path("linux.img"));
        let boot = self.number(Holds::Boot);
        let own = self.number(Holds::Linux);
        let menu = format!(
            "set default=\"0\"\nset timeout=5\n\
             menuentry 'Ankerplatz' --class os {{\n  insmod ext2\n  set root='hd0,msdos{own}'\n  \
             search --no-floppy --fs-uuid --set=root {LINUX_UUID}\n  \
             linux /boot/vmlinuz-7 root=UUID={LINUX_UUID} ro quiet\n  initrd /boot/initrd.img-7\n}}\n\
             menuentry 'Windows 10 (on /dev/sda{boot})' {{\n  insmod part_msdos\n  set root='hd0,msdos{boot}'\n  \
             chainloader +1\n}}\n"
        );
        for (path, content) in [
            (
                "etc/os-release",
                format!("ID=ankerplatz\nPRETTY_NAME=\"{LINUX}\"\n").as_bytes(),
            ),
            // No kernel, but a program as firmware starts it.
            ("boot/vmlinuz-7", BOOT_MANAGER),
            ("boot/initrd.img-7", b"its first files"),
            ("boot/grub/grub.cfg", menu.as_bytes()),
            ("boot/grub/i386-pc/core.img", &fs::read(core(lab)).unwrap()),
        ] {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
        change(&root);
        make_ext4(&root, LINUX_UUID, LINUX_MIB, &volume);
        volume
    }
}

/// An ext4 volume with what lies in a folder.
pub(crate) fn make_ext4(content: &Path, uuid: &str, mib: u64, volume: &Path) {
    let folder = content.to_str().unwrap();
    let (file, size) = (volume.to_str().unwrap(), format!("{mib}M"));
    tool(
        "mkfs.ext4",
        &["-q", "-F", "-U", uuid, "-d", folder, file, &size],
    );
}

/// GRUB's core image, which finds its folder on a volume with this UUID.
pub(crate) fn core(lab: &Lab) -> PathBuf {
    let image = lab.path("core.img");
    let config = lab.path("early.cfg");
    fs::write(
        &config,
        format!("search.fs_uuid {LINUX_UUID} root\nset prefix=($root)/boot/grub\n"),
    )
    .unwrap();
    let args = ["-O", "i386-pc", "-p", "/boot/grub", "-c"];
    let more = [
        "-o",
        image.to_str().unwrap(),
        "biosdisk",
        "part_msdos",
        "ext2",
        "search_fs_uuid",
    ];
    tool(
        "grub-mkimage",
        &[&args[..], &[config.to_str().unwrap()], &more].concat(),
    );
    image
}

/// GRUB for UEFI, which looks for its configuration in this folder of the partition that it is started from.
pub(crate) fn efi_grub(lab: &Lab, folder: &str) -> Vec<u8> {
    let image = lab.path("grubx64.efi");
    let args = [
        "-O",
        "x86_64-efi",
        "-p",
        folder,
        "-o",
        image.to_str().unwrap(),
    ];
    let modules = [
        "part_gpt",
        "fat",
        "ext2",
        "search_fs_uuid",
        "configfile",
        "normal",
    ];
    tool("grub-mkimage", &[&args[..], &modules].concat());
    fs::read(image).unwrap()
}

/// Puts the boot image into sector 0 and the core image after it, as GRUB's own program for that does.
pub(crate) fn embed(disk: &DiskBuilder<'_>, core: &Path) {
    let boot =
        fs::read(Path::new(GRUB).join("boot.img")).expect("tools/install-test-tools.sh brings it");
    let mut sector = disk.device().read_sector(lba(0)).unwrap();
    sector[..440].copy_from_slice(&boot[..440]);
    disk.bytes(lba(0), &sector).unwrap();
    let mut core = fs::read(core).unwrap();
    core.resize(core.len().next_multiple_of(512), 0);
    assert!(core.len() <= 62 * 512, "it must fit before sector 63");
    disk.bytes(lba(1), &core).unwrap();
}
