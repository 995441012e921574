//! The audit against a driver that others wrote (ntfs-3g): a volume that the driver does not open is never called sound.

use std::os::unix::fs::FileExt;
use std::process::Command;

use schwelle_demo::{Asset, DiskBuilder};
use schwelle_disk::device::{Draft, Extent, Lba, MIB, Memory, ReadDevice, Window};
use schwelle_formats::ntfs::NtfsVolume;

/// The system's own files: records 0 to 11.
const SYSTEM_RECORDS: u64 = 12;
/// Length in bytes of the boot sector's fields. Boot code follows.
const BOOT_FIELDS: u64 = 0x54;
/// Bit patterns that a byte is XORed with: one per byte in turn, or all of them with `SCHWELLE_BYTES=all`.
const CHANGES: [u8; 4] = [0xFF, 0x01, 0x80, 0x10];

/// True if nothing is said against the volume.
fn is_sound(volume: &dyn ReadDevice) -> bool {
    let Ok(opened) = NtfsVolume::open(volume) else {
        return false;
    };
    let is_whole = || -> Result<bool, schwelle_formats::ntfs::NtfsError> {
        let flags = opened.flags()?;
        opened.log_state()?;
        opened.hibernation()?;
        opened.shadow_copies()?;
        let copies = opened.check_copies()?;
        let audit = opened.audit()?;
        Ok(!flags.dirty && copies.is_empty() && audit.faults.is_empty())
    };
    is_whole().unwrap_or(false)
}

#[test]
#[ignore = "needs outside programs"]
fn what_the_driver_does_not_open_is_not_sound() {
    let place = Extent::new(Lba(0), 50 * MIB / 512).unwrap();
    let disk = Memory::new(512, place.sectors());
    DiskBuilder::new(&disk).volume(Asset::Boot, place).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("volume.img");
    let file = std::fs::File::create(&path).unwrap();
    let len_bytes = place.sectors() * 512;
    for at in (0..len_bytes).step_by(1 << 20) {
        let bytes = disk.read_vec(at, 1 << 20).unwrap();
        if bytes.iter().any(|&byte| byte != 0) {
            file.write_all_at(&bytes, at).unwrap();
        }
    }
    file.set_len(len_bytes).unwrap();
    let opens = || {
        let mut probe = Command::new("ntfs-3g.probe");
        let probe = probe.arg("--readwrite").arg(&path);
        probe.output().unwrap().status.success()
    };
    let whole = Window::new(&disk, place).unwrap();
    assert!(is_sound(&whole) && opens());
    let volume = NtfsVolume::open(&whole).unwrap();
    let mut bytes: Vec<u64> = (0..BOOT_FIELDS).collect();
    for record in 0..SYSTEM_RECORDS {
        let first = volume.record_offset(record).unwrap();
        let used = disk.read_vec(first / 512 * 512, 1024).unwrap();
        let used = u64::from(u32::from_le_bytes(used[0x18..0x1C].try_into().unwrap()));
        bytes.extend((0..used).map(|at| first + at));
    }
    let tries_all = std::env::var("SCHWELLE_BYTES").is_ok_and(|which| which == "all");
    let (mut refused, mut missed) = (0, Vec::new());
    for (index, at) in bytes.into_iter().enumerate() {
        for (turn, change) in CHANGES.into_iter().enumerate() {
            if !tries_all && index % CHANGES.len() != turn {
                continue;
            }
            let draft = Draft::new(&disk);
            let first = at / 512 * 512;
            let mut sector = disk.read_vec(first, 512).unwrap();
            let within = usize::try_from(at % 512).unwrap();
            sector[within] ^= change;
            schwelle_disk::device::BlockDevice::write_at(&draft, first, &sector).unwrap();
            if !is_sound(&Window::new(&draft, place).unwrap()) {
                continue;
            }
            file.write_all_at(&sector, first).unwrap();
            if !opens() {
                missed.push((at, change));
            }
            refused += 1;
            sector[within] ^= change;
            file.write_all_at(&sector, first).unwrap();
        }
    }
    println!("{refused} asked");
    assert_eq!(missed, []);
}
