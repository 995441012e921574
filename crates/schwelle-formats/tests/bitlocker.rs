//! Encrypted volumes that Windows 7 to 11 wrote, opened with their published passwords: what is read is what the
//! disk encryption tool of Linux reads, as its own tests have it by checksum; and what is encrypted again is what
//! Windows wrote.

#![allow(clippy::unwrap_used, clippy::panic)]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use schwelle_disk::device::{DiskFile, Extent, Lba, ReadDevice};
use schwelle_formats::bitlocker::{
    EncryptionState, Metadata, Sealed, Secret, SecretError, UnlockError, Unlocked, UnlockedVolume,
    can_be_sealed,
};
use sha2::{Digest, Sha256};

fn real_data(name: &str) -> PathBuf {
    schwelle_testkit::real_data(env!("CARGO_TARGET_TMPDIR"), name)
}

/// A copy of a volume that has as many bytes as it says, where the published one has been cut.
fn volume(path: &Path) -> (tempfile::NamedTempFile, u64) {
    let copy = tempfile::NamedTempFile::new().unwrap();
    fs::copy(path, copy.path()).unwrap();
    let len_bytes = copy.as_file().metadata().unwrap().len();
    let metadata = metadata(&DiskFile::open_read(copy.path(), None).unwrap());
    let whole = metadata.encrypted_bytes().max(len_bytes);
    copy.as_file()
        .set_len(whole.next_multiple_of(4096))
        .unwrap();
    (copy, len_bytes)
}

fn metadata(device: &dyn ReadDevice) -> Metadata {
    let first = device.read_vec(0, 512).unwrap();
    Metadata::read(device, &first).unwrap().unwrap()
}

fn open(device: DiskFile, secrets: &[Secret]) -> Result<Unlocked<DiskFile>, UnlockError> {
    let metadata = metadata(&device);
    let key = metadata.unlock(secrets)?;
    let geometry = device.geometry();
    let volume = UnlockedVolume::new(geometry, geometry.whole(), metadata, key).unwrap();
    Ok(Unlocked::new(device, vec![volume]))
}

/// Sections of the tests' list: image, and its settings.
fn published() -> BTreeMap<String, BTreeMap<String, String>> {
    let folder = real_data("cryptsetup/bitlk-images");
    let text = fs::read_to_string(folder.join("images.conf")).unwrap();
    let mut all = BTreeMap::new();
    let mut name = String::new();
    for line in text.lines() {
        if let Some(section) = line
            .strip_prefix('[')
            .and_then(|line| line.strip_suffix(']'))
        {
            name = section.to_owned();
        } else if let Some((key, value)) = line.split_once('=') {
            let section: &mut BTreeMap<_, _> = all.entry(name.clone()).or_default();
            section.insert(key.to_owned(), value.to_owned());
        }
    }
    all
}

fn sha256(device: &dyn ReadDevice, len_bytes: u64) -> String {
    let mut hash = Sha256::new();
    let mut at = 0;
    while at < len_bytes {
        let len = usize::try_from((len_bytes - at).min(1 << 20)).unwrap();
        hash.update(device.read_vec(at, len).unwrap());
        at += len as u64;
    }
    hash.finalize()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// What Windows wrote is what comes out when it is decrypted and encrypted again: around the first sectors, around
/// the metadata and where the first sectors are kept, and at the end. None of those may be changed.
fn is_sealed_as_it_was(opened: &Unlocked<DiskFile>, name: &str) {
    let sealed = Sealed::new(opened, opened.disk(), opened.volumes());
    let header = opened.disk().read_vec(0, 512).unwrap();
    let at = if &header[3..11] == b"-FVE-FS-" {
        176
    } else {
        440
    };
    let copy = |index: usize| {
        let bytes = header[at + 8 * index..][..8].try_into().unwrap();
        u64::from_le_bytes(bytes)
    };
    let end = opened.geometry().len_bytes();
    for around in [1 << 19, copy(0), copy(1), copy(2), end - (1 << 19)] {
        let from = around - (1 << 19);
        let raw = opened.disk().read_vec(from, 1 << 20).unwrap();
        assert!(
            sealed.read_vec(from, 1 << 20).unwrap() == raw,
            "{name}: {around}"
        );
    }
    let may_change = |first: u64| {
        let place = Extent::new(Lba(first), 8).unwrap();
        can_be_sealed(opened.geometry(), opened.volumes(), [place]).is_ok()
    };
    assert!(!may_change(0) && !may_change(15), "{name}");
    assert!(
        !may_change(copy(0) / 512) && !may_change(copy(2) / 512 - 1),
        "{name}"
    );
    assert!(
        may_change(copy(0) / 512 - 8) && may_change(30_000),
        "{name}"
    );
}

#[test]
#[ignore = "needs fetched disk images"]
fn volumes_of_windows_are_read_as_the_tool_of_linux_reads_them() {
    let folder = real_data("cryptsetup/bitlk-images");
    let (mut read, mut volumes) = (0, 0);
    for (name, settings) in published() {
        let (file, len_bytes) = volume(&folder.join(format!("{name}.img")));
        let device = || DiskFile::open_read(file.path(), None).unwrap();
        let state = metadata(&device()).state;
        if state == EncryptionState::Encrypting {
            // Encrypted as far as it was written: that is a conversion under way.
            assert!(
                name.ends_with("-eow") || name.contains("clearkey"),
                "{name}"
            );
            let opened = open(device(), &[Secret::typed(&settings["RP"]).unwrap()]);
            assert!(matches!(opened, Err(UnlockError::UnderWay)));
            continue;
        }
        let mut secrets = Vec::new();
        for key in ["RP", "PW"] {
            let text = settings.get(key).filter(|text| !text.is_empty());
            secrets.extend(text.map(|text| Secret::typed(text).unwrap()));
        }
        let id = settings.get("SK_VMK_GUID").map(|id| id.to_uppercase());
        secrets.extend(id.map(|id| {
            Secret::in_file(&fs::read(folder.join(format!("{id}.BEK"))).unwrap()).unwrap()
        }));
        assert!(!secrets.is_empty(), "{name}");
        let mut first: Option<Vec<u8>> = None;
        for secret in secrets {
            let kind = secret.opens();
            let opened = open(device(), &[secret]);
            let opened = opened.unwrap_or_else(|error| panic!("{name}, {kind:?}: {error}"));
            assert_eq!(opened.volumes()[0].key().opened_by, kind, "{name}");
            let part = opened.read_vec(0, 1 << 20).unwrap();
            match &first {
                Some(first) => assert!(*first == part, "{name}, {kind:?}"),
                None => assert_eq!(sha256(&opened, len_bytes), settings["SHA256SUM"], "{name}"),
            }
            if first.is_none() {
                volumes += 1;
                is_sealed_as_it_was(&opened, &name);
            }
            first.get_or_insert(part);
            read += 1;
        }
    }
    assert_eq!((volumes, read), (14, 27));
}

#[test]
fn secrets_are_read_as_they_are_typed_and_saved() {
    let digits = "042647-302313-590458-071500-554323-116567-412181-516978";
    let key = |secret: &Secret| match secret {
        Secret::RecoveryPassword(key) => key.to_vec(),
        other => panic!("{other:?}"),
    };
    let typed = key(&Secret::typed(digits).unwrap());
    // A text file as Windows saves it, in UTF-16, and one in UTF-8.
    let saved = format!(
        "BitLocker Drive Encryption recovery key\r\n\r\nRecovery Key:\r\n\r\n\t{digits}\r\n"
    );
    let utf16: Vec<u8> = saved.encode_utf16().flat_map(u16::to_le_bytes).collect();
    for bytes in [
        digits.as_bytes().to_vec(),
        format!(" {digits} \n").into_bytes(),
        saved.clone().into_bytes(),
        [&[0xEF, 0xBB, 0xBF][..], saved.as_bytes()].concat(),
        [&[0xFF, 0xFE][..], &utf16].concat(),
    ] {
        assert_eq!(key(&Secret::in_file(&bytes).unwrap()), typed);
    }
    for (text, error) in [
        ("", SecretError::Empty),
        (
            "042647-302313-590459-071500-554323-116567-412181-516978",
            SecretError::Mistyped { group: 3 },
        ),
        (
            "042647-302313-590458-071500-554323-116567-412181-720896",
            SecretError::Mistyped { group: 8 },
        ),
    ] {
        assert_eq!(Secret::typed(text).unwrap_err(), error, "{text}");
    }
    assert!(matches!(Secret::typed("anaconda"), Ok(Secret::Password(_))));
    assert_eq!(
        Secret::in_file(&[0xC3, 0x28]).unwrap_err(),
        SecretError::Other
    );
    // Nothing of it is shown.
    let shown = format!("{:?}", Secret::typed(digits).unwrap());
    assert!(!shown.contains(|c: char| c.is_ascii_digit()), "{shown}");
}

#[test]
#[ignore = "needs fetched disk images"]
fn the_key_of_another_volume_opens_nothing() {
    let folder = real_data("dissect.fve");
    for (name, file) in [
        ("recovery_key", "startup_key"),
        ("startup_key", "recovery_key"),
    ] {
        let (copy, _) = volume(&folder.join(format!("{name}.bin")));
        let opened = |file: &str| {
            let device = DiskFile::open_read(copy.path(), None).unwrap();
            let key = fs::read(folder.join(format!("{file}.bek"))).unwrap();
            open(device, &[Secret::in_file(&key).unwrap()])
        };
        assert_eq!(opened(file).unwrap_err(), UnlockError::NoneFits, "{name}");
        let read = opened(name).unwrap().read_vec(3, 8).unwrap();
        assert_eq!(read, b"NTFS    ");
    }
}
