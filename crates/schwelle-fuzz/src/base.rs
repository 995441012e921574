//! Whole disks and volumes: too large to be made from hostile bytes, so these say what is changed on a sound one.
//!
//! An input is a list of changes, each of 5 bytes and what follows: which disk or place (u16), where in that place
//! (u16), how many bytes (u8, at most 32), and these bytes.

use std::sync::OnceLock;

use schwelle_core::device::{BlockDevice, Draft, Extent, MIB, Memory, ReadDevice, Window};
use schwelle_core::disk_use::DiskUse;
use schwelle_core::ext::ExtVolume;
use schwelle_core::fat::{FatEditor, FatVolume};
use schwelle_core::grub::{Lead, Menu, prefix_of};
use schwelle_core::ntfs::{NtfsVolume, ROOT_RECORD};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::{Profile, Role};
use schwelle_core::starts::starts;
use schwelle_demo::{DiskBuilder, STAMP, Standard, plan_back, plan_of};

use crate::everything::read_everything;

/// Changes of an input that are made, at most.
const MAX_CHANGES: usize = 64;
/// Folders that are looked into, at most.
const MAX_FOLDERS: usize = 200;

/// A sound disk, and the places with structures on it.
struct Base {
    disk: Memory,
    /// Offset and length, in bytes.
    places: Vec<(u64, u64)>,
    windows: Extent,
    linux: Option<Extent>,
    esp: Option<Extent>,
}

/// MiB and conversions of each disk: with a gap; full to the last sector; converted; taken back; with a Linux beside
/// Windows, and the same converted.
const KINDS: [(u64, usize, bool); 6] = [
    (480, 0, false),
    (211, 0, false),
    (480, 1, false),
    (480, 2, false),
    (480, 0, true),
    (480, 1, true),
];
const WITH_GAP: usize = 0;
const CONVERTED: usize = 2;
const WITH_LINUX: usize = 4;
/// Blocks of the Linux volume that count: superblock, descriptors, inodes, directories and files of a small one.
const LINUX_BLOCKS: u64 = 512;
const LINUX_BLOCK_BYTES: u64 = 1024;

/// One of the disks, made when it is first asked for.
fn kept(which: usize) -> &'static Base {
    static BASES: [OnceLock<Base>; KINDS.len()] = [const { OnceLock::new() }; KINDS.len()];
    let which = which % KINDS.len();
    let (mib, conversions, has_linux) = KINDS[which];
    BASES[which].get_or_init(|| base(mib, conversions, has_linux))
}

fn base(mib: u64, conversions: usize, has_linux: bool) -> Base {
    let disk = Memory::new(512, mib * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    let standard = builder.standard(0x1234_5678, "LANTERN-ONE").unwrap();
    let mut places = places(&disk, &standard);
    let mut linux = None;
    if has_linux {
        let extent = builder.with_linux(0x1234_5678).unwrap();
        let first = extent.first.0 * 512;
        let blocks = (0..LINUX_BLOCKS).map(|block| first + block * LINUX_BLOCK_BYTES);
        // What is zero in a sound volume is mostly of no use.
        let is_used = |at: &u64| {
            disk.read_vec(*at, 1024)
                .unwrap()
                .iter()
                .any(|&byte| byte != 0)
        };
        places.extend(blocks.filter(is_used).map(|at| (at, LINUX_BLOCK_BYTES)));
        places.extend((1..9).map(|lba| (lba * 512, 512)));
        linux = Some(extent);
    }
    for identities in 0..conversions {
        let plan = match identities {
            0 => plan_of(&disk, EspRequest::default()).unwrap(),
            _ => plan_back(&disk, DiskUse::System).unwrap(),
        };
        let extents: Vec<Extent> = plan.changes.extents().collect();
        let read = |extent: &Extent| {
            let len = usize::try_from(extent.sectors() * 512).unwrap();
            (
                extent.first.0 * 512,
                plan.draft.read_vec(extent.first.0 * 512, len).unwrap(),
            )
        };
        let written: Vec<(u64, Vec<u8>)> = extents.iter().map(read).collect();
        drop(plan);
        for (at, bytes) in written {
            disk.write_at(at, &bytes).unwrap();
            places.push((at, bytes.len() as u64));
        }
    }
    let profile = Profile::read(&disk, Default::default()).unwrap();
    let esp = profile
        .partitions
        .iter()
        .find(|part| part.role == Role::Esp);
    let esp = esp.map(|part| part.extent);
    Base {
        windows: standard.windows,
        linux,
        esp,
        disk,
        places,
    }
}

/// Places with structures of their own: table, boot sectors, file records, hives, BCD store, programs.
fn places(disk: &Memory, standard: &Standard) -> Vec<(u64, u64)> {
    let mut places = vec![(0, 512), (512, 33 * 512)];
    for extent in [standard.boot, standard.windows] {
        let window = Window::new(disk, extent).unwrap();
        let base = extent.first.0 * 512;
        places.push((base, 512));
        let volume = NtfsVolume::open(&window).unwrap();
        let records = [0, 2, 3, 5].into_iter().chain((64..140).step_by(3));
        places.extend(
            records.filter_map(|number| Some((base + volume.record_offset(number)?, 1024))),
        );
        for path in [
            "\\Boot\\BCD",
            "\\Windows\\System32\\config\\SYSTEM",
            "\\Windows\\System32\\config\\SOFTWARE",
            "\\Windows\\System32\\ntoskrnl.exe",
            "\\Windows\\Boot\\EFI\\bootmgfw.efi",
            "\\Windows\\Boot\\Fonts\\slab_boot.ttf",
            "\\Windows\\System32\\Recovery\\ReAgent.xml",
        ] {
            let Some(entry) = volume.find(path).unwrap() else {
                continue;
            };
            let file = volume.open_file(entry.record).unwrap();
            let runs = file.runs().iter();
            places.extend(runs.filter_map(|run| Some((base + run.lcn?.0 * 4096, 4096))));
        }
    }
    places
}

/// A disk with an input's changes on it; `wanted` says which places count.
fn changed<'a>(base: &'a Base, data: &[u8], wanted: impl Fn(u64) -> bool) -> Draft<'a> {
    let draft = Draft::new(&base.disk);
    let places: Vec<(u64, u64)> = base
        .places
        .iter()
        .copied()
        .filter(|&(at, _)| wanted(at))
        .collect();
    let mut rest = data;
    for _ in 0..MAX_CHANGES {
        let Some((&[place_low, place_high, at_low, at_high, len], after)) =
            rest.split_first_chunk()
        else {
            break;
        };
        let len = usize::from(len % 33).min(after.len());
        let (bytes, after) = after.split_at(len);
        rest = after;
        let place = usize::from(u16::from_le_bytes([place_low, place_high]));
        let Some(&(at, room)) = places.get(place % places.len().max(1)) else {
            break;
        };
        let inside = u64::from(u16::from_le_bytes([at_low, at_high])) % room;
        let mut sector = draft.read_vec(at, usize::try_from(room).unwrap()).unwrap();
        let inside = usize::try_from(inside).unwrap();
        for (old, &new) in sector.iter_mut().skip(inside).zip(bytes) {
            *old = new;
        }
        draft.write_at(at, &sector).unwrap();
    }
    draft
}

/// Some changes as they are written in inputs.
pub(crate) fn seeds() -> Vec<Vec<u8>> {
    let change = |place: u16, at: u16, bytes: &[u8]| {
        let len = u8::try_from(bytes.len()).unwrap();
        [&place.to_le_bytes()[..], &at.to_le_bytes(), &[len], bytes].concat()
    };
    let mut seeds = vec![Vec::new()];
    for place in 0..60 {
        for (at, bytes) in [
            (0_u16, &[0_u8; 4][..]),
            (20, &[0xFF; 8]),
            (450, &[5, 0, 0, 0]),
        ] {
            seeds.push(change(place, at, bytes));
        }
    }
    seeds
}

/// Says which places lie on a volume.
fn on(extent: Extent) -> impl Fn(u64) -> bool {
    move |at| (extent.first.0..extent.end.0).contains(&(at / 512))
}

/// An NTFS volume: its books, every folder and file, its log, and smaller ones.
pub(crate) fn ntfs(data: &[u8]) {
    let base = kept(WITH_GAP);
    let draft = changed(base, data, on(base.windows));
    let window = Window::new(&draft, base.windows).unwrap();
    let Ok(volume) = NtfsVolume::open(&window) else {
        return;
    };
    let _books = volume.audit();
    let _health = (
        volume.flags(),
        volume.log_state(),
        volume.hibernation(),
        volume.check_copies(),
    );
    let mut folders = vec![ROOT_RECORD];
    for at in 0..MAX_FOLDERS {
        let Some(&folder) = folders.get(at) else {
            break;
        };
        for entry in volume.read_dir(folder).unwrap_or_default() {
            if let Ok(file) = volume.open_file(entry.record) {
                let _content = file.read_all(1 << 20);
            }
            if entry.is_directory && !folders.contains(&entry.record) {
                folders.push(entry.record);
            }
        }
    }
    for share in [2, 10] {
        let _plan = volume.plan_shrink(base.windows.sectors() / share);
    }
}

/// The EFI system partition: reading, checking, and putting another file beside those that are there.
pub(crate) fn fat(data: &[u8]) {
    let base = kept(CONVERTED);
    let esp = base.esp.unwrap();
    let draft = changed(base, data, on(esp));
    let window = Window::new(&draft, esp).unwrap();
    if let Ok(volume) = FatVolume::open(&window) {
        let _faults = volume.check();
        let mut folders = vec![volume.root()];
        for at in 0..MAX_FOLDERS {
            let Some(folder) = folders.get(at).cloned() else {
                break;
            };
            for entry in volume.read_dir(&folder).unwrap_or_default() {
                if entry.is_directory {
                    folders.push(entry);
                } else {
                    let _content = (volume.read_file(&entry, 1 << 20), volume.extents_of(&entry));
                }
            }
        }
    }
    if let Ok(mut editor) = FatEditor::open(&window, STAMP.dos) {
        let _written = editor.write_file(&["EFI", "Boot", "another.efi"], &[7; 9000]);
        let _done = editor.finish();
    }
}

/// The volume of a Linux: every folder and file of it, and what GRUB starts.
pub(crate) fn linux(data: &[u8]) {
    let base = kept(WITH_LINUX);
    let extent = base.linux.unwrap();
    let draft = changed(base, data, on(extent));
    let window = Window::new(&draft, extent).unwrap();
    let _read = ExtVolume::open(&window, |volume| {
        let mut folders = vec!["/".to_owned()];
        for at in 0..MAX_FOLDERS {
            let Some(folder) = folders.get(at).cloned() else {
                break;
            };
            for entry in volume.list(&folder).unwrap_or_default() {
                let path = format!("{}/{}", folder.trim_end_matches('/'), entry.name);
                match entry.is_directory {
                    true => folders.push(path),
                    false => drop(volume.read_file(&path, 1 << 20)),
                }
            }
        }
        Ok(())
    });
    // And as text of a menu, and as a program that says where its own is.
    let text = String::from_utf8_lossy(data);
    let _menu = (Menu::parse(&text), Lead::parse(&text), prefix_of(data));
    let _systems = Profile::read(&draft, Default::default()).map(|profile| starts(&profile));
}

/// A whole disk: everything that reads one, on each of the bases.
pub(crate) fn check(data: &[u8]) {
    let (which, data) = data.split_first().unwrap_or((&0, &[]));
    let base = kept(usize::from(*which));
    read_everything(&changed(base, data, |_| true));
}
