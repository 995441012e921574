//! Disks with Windows and a Linux that GRUB starts: GRUB's images are its own, put where its installer puts them, and
//! the ext4 volume is made by its utilities.

use std::fs;
use std::path::{Path, PathBuf};

use schwelle_core::device::{Extent, MIB};
use schwelle_demo::{DiskBuilder, MbrEntry, replace_bytes};
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
        let linux = self.linux(lab);
        lab.image(name, 512, 400, |disk| {
            self.volumes(disk);
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

    /// Windows and its boot volume, with their own places in BCD store and registry.
    fn volumes(&self, disk: &DiskBuilder<'_>) {
        disk.standard(SIGNATURE, COMPUTER).unwrap();
        let device = disk.device();
        let standard = disk.standard_places();
        let read = |extent: Extent| {
            let len = usize::try_from(extent.sectors() * 512).unwrap();
            device.read_vec(extent.first.0 * 512, len).unwrap()
        };
        let (boot, windows) = (read(standard.boot), read(standard.windows));
        for old in [standard.boot, standard.windows] {
            let zeros = vec![0; usize::try_from(old.sectors() * 512).unwrap()];
            device.write_at(old.first.0 * 512, &zeros).unwrap();
        }
        let places = [Holds::Boot, Holds::Windows].map(|holds| self.extent(holds));
        disk.bytes(places[0].first, &boot).unwrap();
        disk.bytes(places[1].first, &windows).unwrap();
        let name = |byte: u64| [&SIGNATURE.to_le_bytes()[..], &byte.to_le_bytes()].concat();
        let hive = "\\Windows\\System32\\config\\SYSTEM";
        // By way of places where nothing is, since each may come to lie where the other was.
        for (from, to) in [
            ([MIB, 51 * MIB], [7 << 50, 9 << 50]),
            ([7 << 50, 9 << 50], places.map(|place| place.first.0 * 512)),
        ] {
            for (from, to) in from.into_iter().zip(to) {
                replace_bytes(
                    device,
                    places[0],
                    "\\Boot\\BCD",
                    &from.to_le_bytes(),
                    &to.to_le_bytes(),
                )
                .unwrap();
                replace_bytes(device, places[1], hive, &name(from), &name(to)).unwrap();
            }
        }
    }

    /// The Linux: what it says of itself, a kernel by name, and GRUB's folder with a menu of both systems.
    fn linux(&self, lab: &Lab) -> PathBuf {
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
            ("boot/vmlinuz-7", b"a kernel"),
            ("boot/initrd.img-7", b"its first files"),
            ("boot/grub/grub.cfg", menu.as_bytes()),
            ("boot/grub/i386-pc/core.img", &fs::read(core(lab)).unwrap()),
        ] {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
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
