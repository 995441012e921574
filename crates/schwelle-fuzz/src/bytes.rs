//! What is read from a buffer.

use schwelle_core::bcd::BcdStore;
use schwelle_core::bitlocker::{Metadata, Sealed, Secret, Unlocked, UnlockedVolume};
use schwelle_core::device::{BlockDevice, Lba, Memory, ReadDevice, Window};
use schwelle_core::firmware::{LoadOption, parse_lists};
use schwelle_core::hive::{Hive, HiveEditor, Node, Recovered};
use schwelle_core::host::HostFacts;
use schwelle_core::marker::Marker;
use schwelle_core::ntfs::NtfsVolume;
use schwelle_core::pe::{PeImage, SignedImage};
use schwelle_core::profile::Profile;
use schwelle_core::rehearse::walk;
use schwelle_core::unpack::{lznt1, lzx, xpress};
use schwelle_core::windows::{RecoveryConfig, mounted_names};
use schwelle_demo::{BOOT_MANAGER, BOOT_PROGRAM_ARM64, DiskBuilder, KERNEL_32BIT};

/// Bytes of an input that are looked at, at most.
const MAX_BYTES: usize = 256 << 10;

/// A file of the standard disk's volumes.
fn file(path: &str) -> Vec<u8> {
    let disk = Memory::new(512, 480 * 2048);
    let places = DiskBuilder::new(&disk).standard(7, "LANTERN-ONE").unwrap();
    for extent in [places.boot, places.windows] {
        let window = Window::new(&disk, extent).unwrap();
        let volume = NtfsVolume::open(&window).unwrap();
        if let Some(entry) = volume.find(path).unwrap() {
            return volume
                .open_file(entry.record)
                .unwrap()
                .read_all(4 << 20)
                .unwrap();
        }
    }
    Vec::new()
}

/// The sectors of a table, as a disk of 32 MiB; the first byte says the size of its sectors.
pub(crate) fn table(data: &[u8]) {
    let (which, data) = data.split_first().unwrap_or((&0, &[]));
    let sector = if which % 2 == 0 { 512 } else { 4096 };
    let disk = Memory::new(sector, (32 << 20) / u64::from(sector));
    let mut head = data.iter().copied().take(MAX_BYTES).collect::<Vec<u8>>();
    head.resize(head.len().next_multiple_of(4096), 0);
    disk.write_at(0, &head).unwrap();
    // The backup table is looked for where it should be.
    disk.write_at((32 << 20) - head.len() as u64, &head)
        .unwrap();
    let _walk = walk(&disk, None);
    let _profile = Profile::read(&disk, HostFacts::default());
}

pub(crate) fn table_seeds() -> Vec<Vec<u8>> {
    let entry = |kind: u8, first: u32, sectors: u32| {
        let mut entry = vec![0, 0, 2, 0, kind, 0xFE, 0xFF, 0xFF];
        entry.extend(first.to_le_bytes());
        entry.extend(sectors.to_le_bytes());
        entry
    };
    let record = |entries: &[Vec<u8>]| {
        let mut record = vec![0; 446];
        record.extend(entries.concat());
        record.resize(510, 0);
        record.extend([0x55, 0xAA]);
        record
    };
    let chain = [
        record(&[entry(7, 2048, 2048), entry(5, 1, 30_000)]),
        record(&[entry(7, 1, 1), entry(5, 1, 9)]),
    ];
    let mut gpt = record(&[entry(0xEE, 1, 65_535)]);
    gpt.extend(b"EFI PART\0\0\x01\0\x5C\0\0\0");
    gpt.resize(17_408, 0);
    [chain.concat(), record(&[]), gpt, vec![0; 512]]
        .into_iter()
        .flat_map(|bytes| [[vec![0], bytes.clone()].concat(), [vec![1], bytes].concat()])
        .collect()
}

/// Where the metadata of an encrypted volume lies, and how large that is.
const METADATA_AT: u64 = 1 << 20;
const VOLUME_BYTES: u64 = 4 << 20;

/// The metadata of an encrypted volume, with a checksum that holds; what is open of it is read. And a key file.
pub(crate) fn encrypted(data: &[u8]) {
    let mut secrets: Vec<Secret> = Secret::in_file(data).into_iter().collect();
    // Each of these hashes for a second, whatever the volume says.
    secrets.retain(|secret| matches!(secret, Secret::KeyFile { .. }));
    let mut block = data.get(..MAX_BYTES).unwrap_or(data).to_vec();
    block.resize(block.len().next_multiple_of(16).max(112), 0);
    let units = u16::try_from(block.len() / 16).unwrap_or(u16::MAX);
    block[8..10].copy_from_slice(&units.to_le_bytes());
    let checksum = crc32fast::hash(&block);
    block.extend([8, 0, 2, 0]);
    block.extend(checksum.to_le_bytes());
    block.resize(block.len().next_multiple_of(512), 0);
    let disk = Memory::new(512, VOLUME_BYTES / 512);
    disk.write_at(METADATA_AT, &block).unwrap();
    let mut first = vec![0; 512];
    first[3..11].copy_from_slice(b"-FVE-FS-");
    first[11..13].copy_from_slice(&512u16.to_le_bytes());
    first[176..184].copy_from_slice(&METADATA_AT.to_le_bytes());
    disk.write_at(0, &first).unwrap();
    let Some(Ok(metadata)) = Metadata::read(&disk, &first) else {
        return;
    };
    let geometry = disk.geometry();
    let Ok(key) = metadata.unlock(&secrets) else {
        return;
    };
    let volume = UnlockedVolume::new(geometry, geometry.whole(), metadata, key);
    let disk = Unlocked::new(disk, volume.into_iter().collect());
    let sealed = Sealed::new(&disk, disk.disk(), disk.volumes());
    for at in [0, METADATA_AT - 512, METADATA_AT, VOLUME_BYTES - 8192] {
        let _read = (disk.read_vec(at, 8192), sealed.read_vec(at, 8192));
    }
}

pub(crate) fn encrypted_seeds() -> Vec<Vec<u8>> {
    let disk = Memory::new(512, 480 * 2048);
    let builder = DiskBuilder::new(&disk);
    let places = builder.standard(7, "LANTERN-ONE").unwrap();
    builder.encrypt(places.windows).unwrap();
    let window = Window::new(&disk, places.windows).unwrap();
    let header = window.read_sector(Lba(0)).unwrap();
    let place = u64::from_le_bytes(header[176..184].try_into().unwrap());
    let block = window.read_vec(place, 1024).unwrap();
    let len = usize::from(u16::from_le_bytes([block[8], block[9]])) * 16;
    // The same with a key in the clear, and a key file.
    let mut open = block[..len].to_vec();
    let kind = open.windows(2).position(|bytes| bytes == [0, 8]);
    open[kind.unwrap() + 1] = 0;
    let entry = |kind: u16, value: u16, data: &[u8]| {
        let len = u16::try_from(8 + data.len()).unwrap();
        let head = [len, kind, value, 1].map(u16::to_le_bytes).concat();
        [head, data.to_vec()].concat()
    };
    let key = entry(6, 9, &[vec![7; 24], entry(0, 1, &[3; 36])].concat());
    let len_bytes = u32::try_from(48 + key.len()).unwrap();
    let mut file = [len_bytes, 1, 48, len_bytes].map(u32::to_le_bytes).concat();
    file.resize(48, 0);
    file.extend(key);
    vec![block[..len].to_vec(), open, file]
}

/// A hive, and after it a log where the first two bytes say so.
pub(crate) fn hive(data: &[u8]) {
    let data = data.get(..MAX_BYTES).unwrap_or(data);
    let (head, data) = data.split_at(data.len().min(2));
    let logged = head
        .iter()
        .fold(0, |all, &byte| all * 256 + usize::from(byte));
    let (hive, log) = data.split_at(data.len().saturating_sub(logged));
    if let Ok(hive) = Hive::open(hive) {
        let _tree = Node::read(&hive);
        let _names = (mounted_names(&hive), hive.find("Select"));
    }
    let log = [(".LOG1".to_owned(), log.to_vec())];
    if let Ok(recovered) = Recovered::open(hive, &log) {
        let hive = Hive::open(&recovered);
        let _tree = hive.and_then(|hive| Node::read(&hive));
    }
    if let Ok(mut editor) = HiveEditor::open(hive) {
        let _set = editor.set_data("MountedDevices", "\\DosDevices\\C:", &[7; 24]);
        let _bytes = editor.finish(5);
    }
}

pub(crate) fn hive_seeds() -> Vec<Vec<u8>> {
    [
        "\\Windows\\System32\\config\\SYSTEM",
        "\\Boot\\BCD",
        "\\Windows\\System32\\config\\SOFTWARE",
    ]
    .map(|path| [vec![0, 0], file(path)].concat())
    .into()
}

/// A BCD store: every object and element, and writing it anew.
pub(crate) fn bcd_store(data: &[u8]) {
    let data = data.get(..MAX_BYTES).unwrap_or(data);
    let Ok(store) = BcdStore::read(data) else {
        return;
    };
    for object in store.objects() {
        let _told = (object.kind(), object.title(), object.devices().len());
    }
    let _menu = (
        store.menu().len(),
        store.listed().len(),
        store.default_entry().is_some(),
    );
    let _written = store.to_hive(5);
}

pub(crate) fn store_seeds() -> Vec<Vec<u8>> {
    vec![file("\\Boot\\BCD")]
}

/// A program, and its signatures.
pub(crate) fn program(data: &[u8]) {
    let data = data.get(..MAX_BYTES).unwrap_or(data);
    let _headers = PeImage::read(data);
    if let Ok(image) = SignedImage::parse(data) {
        let _signatures = image.signatures();
    }
}

pub(crate) fn program_seeds() -> Vec<Vec<u8>> {
    [BOOT_MANAGER, KERNEL_32BIT, BOOT_PROGRAM_ARM64]
        .map(<[u8]>::to_vec)
        .into()
}

/// Packed bytes of each kind; the first two say how long they are unpacked.
pub(crate) fn packed(data: &[u8]) {
    let Some((len, data)) = data.split_first_chunk::<2>() else {
        return;
    };
    let len = usize::from(u16::from_le_bytes(*len));
    let _unpacked = (lznt1(data, len), xpress(data, len), lzx(data, len));
}

pub(crate) fn packed_seeds() -> Vec<Vec<u8>> {
    // "abcabc..." as LZNT1 has it, then the beginnings of the two others' streams.
    vec![
        [
            &[12, 0][..],
            &[0x04, 0xB0, 0x08, b'a', b'b', b'c', 0x06, 0x20],
        ]
        .concat(),
        [&[0, 16][..], &[0x22; 256], &[0; 64]].concat(),
        [&[0, 128][..], &[0x60, 0, 0x10, 0], &[0x55; 200]].concat(),
    ]
}

/// The configuration of a recovery environment, and the marker on an EFI system partition.
pub(crate) fn recovery(data: &[u8]) {
    let data = data.get(..MAX_BYTES).unwrap_or(data);
    if let Ok(config) = RecoveryConfig::parse(data) {
        let _place = config.location();
    }
    let _marker = Marker::parse(data);
}

pub(crate) fn recovery_seeds() -> Vec<Vec<u8>> {
    let marker = Marker::new(Default::default(), Default::default(), 5, Vec::new());
    vec![
        file("\\Windows\\System32\\Recovery\\ReAgent.xml"),
        marker.write(),
    ]
}

/// The content of a UEFI variable: a boot entry, or lists of signatures.
pub(crate) fn variable(data: &[u8]) {
    let data = data.get(..MAX_BYTES).unwrap_or(data);
    if let Ok(option) = LoadOption::parse(data) {
        let _target = (
            option.partition(),
            option.file().map(str::len),
            option.other_target(),
        );
        let _written = option.write();
    }
    let _keys = parse_lists(data);
}

pub(crate) fn variable_seeds() -> Vec<Vec<u8>> {
    crate::folders::variables()
}
