//! What is mended of a GPT disk, and what is refused: from a converted disk with one thing wrong.

#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a test that cannot go on fails"
)]

use std::collections::BTreeMap;

use schwelle_core::device::{BlockDevice, Extent, Lba, MIB, Memory, ReadDevice, Window};
use schwelle_core::fat::FatVolume;
use schwelle_core::gpt::{GptLayout, GptPair, TypeTable, type_guid};
use schwelle_core::host::HostFacts;
use schwelle_core::identities::Style;
use schwelle_core::mend::{FixKind, MendError, NotMended, StoreFrom};
use schwelle_core::pipeline::{Inputs, Mending};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::Profile;
use schwelle_core::rehearse::{StepId, walk};
use schwelle_demo::{DiskBuilder, convert, outside, put_program};

/// A converted disk, and where its EFI system partition lies.
fn converted() -> (Memory, Extent) {
    let disk = Memory::new(512, 330 * MIB / 512);
    let builder = DiskBuilder::new(&disk);
    builder.standard(0x51C3_A7E5, "LANTERN-ONE").unwrap();
    convert(&disk).unwrap();
    assert!(walk(&disk, None).passed());
    let esp = GptLayout::of(GptPair::read(&disk).best().unwrap()).unwrap();
    let mut entries = esp.entries.iter();
    let esp = entries.find(|entry| entry.kind == type_guid::EFI_SYSTEM);
    (disk, esp.unwrap().extent)
}

/// Overwrites the first sector of a file of the EFI system partition.
fn spoil(disk: &Memory, esp: Extent, path: &str) {
    let window = Window::new(disk, esp).unwrap();
    let volume = FatVolume::open(&window).unwrap();
    let file = volume.find(path).unwrap().unwrap();
    let place = volume.extents_of(&file).unwrap()[0];
    window.write_at(place.first.0 * 512, &[0xEE; 512]).unwrap();
}

/// What is mended, where the mended draft passes its rehearsal; else why it is not.
fn mended(disk: &Memory) -> Result<Option<Vec<FixKind>>, MendError> {
    mended_as(disk, EspRequest::default())
}

/// The same as it was requested.
fn mended_as(disk: &Memory, request: EspRequest) -> Result<Option<Vec<FixKind>>, MendError> {
    let profile = Profile::read(disk, HostFacts::default()).unwrap();
    let (types, severities) = (TypeTable::default(), BTreeMap::new());
    let known = Inputs::unknown(Style::Gpt, request, &types, &severities);
    let mending = outside(|outside| Mending::new(disk, &profile, known, outside))?;
    Ok(mending.map(|mending| {
        let mended = mending.rehearse();
        let mended = mended.unwrap_or_else(|judged| panic!("{:?}", judged.findings()));
        assert!(mended.rehearsed.ready().is_some());
        mended.fixes.into_iter().map(|fix| fix.what).collect()
    }))
}

type Damage = fn(&Memory, Extent);

#[test]
fn each_damage_has_its_remedy() {
    const LOADER: &str = "\\EFI\\BOOT\\BOOTX64.EFI";
    let filled = |store| FixKind::Filled { store };
    let cases: [(&str, Damage, Vec<FixKind>); 7] = [
        ("nothing", |_, _| (), Vec::new()),
        (
            "sector 0",
            |disk, _| disk.write_at(0, &[0; 512]).unwrap(),
            vec![FixKind::ProtectiveEntry],
        ),
        (
            "the primary header",
            |disk, _| disk.write_at(512, &[0; 512]).unwrap(),
            vec![FixKind::PrimaryTable],
        ),
        (
            "the backup header",
            |disk, _| {
                let last = disk.geometry().len_bytes() - 512;
                disk.write_at(last, &[0; 512]).unwrap();
            },
            vec![FixKind::BackupTable],
        ),
        (
            "the loader",
            |disk, esp| spoil(disk, esp, LOADER),
            vec![filled(StoreFrom::Esp)],
        ),
        (
            "the BCD store",
            |disk, esp| spoil(disk, esp, "\\EFI\\Microsoft\\Boot\\BCD"),
            vec![filled(StoreFrom::Bios)],
        ),
        (
            "sector 0 and the loader",
            |disk, esp| {
                disk.write_at(0, &[0; 512]).unwrap();
                spoil(disk, esp, LOADER);
            },
            vec![FixKind::ProtectiveEntry, filled(StoreFrom::Esp)],
        ),
    ];
    for (name, damage, expected) in cases {
        let (disk, esp) = converted();
        damage(&disk, esp);
        let found = mended(&disk).unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!(found.unwrap_or_default(), expected, "{name}");
    }
}

#[test]
fn what_is_no_matter_of_the_boot_path_is_refused_with_its_step() {
    let (disk, _) = converted();
    let profile = Profile::read(&disk, HostFacts::default()).unwrap();
    let windows = profile.partition(profile.systems[0].partition).unwrap();
    let kernel = "\\Windows\\System32\\ntoskrnl.exe";
    put_program(&disk, windows.extent, kernel, b"no program").unwrap();
    match mended(&disk) {
        Err(MendError::NoRemedy { step, why }) => {
            assert_eq!((step.id, why), (StepId::Kernel, NotMended::SystemFiles));
        }
        other => panic!("{other:?}"),
    }

    let blank = Memory::new(512, 10_000);
    assert!(matches!(mended(&blank), Err(MendError::NotGpt { .. })));
    blank
        .write_at(0, &disk.read_sector(Lba(0)).unwrap())
        .unwrap();
    assert!(
        mended(&blank).is_err(),
        "a protective MBR alone is no table"
    );
}

#[test]
fn what_is_not_recognised_is_formatted_for_a_typed_name_alone() {
    let (disk, esp) = converted();
    let window = Window::new(&disk, esp).unwrap();
    for sector in 0..64 {
        window.write_at(sector * 512, &[0x5A; 512]).unwrap();
    }
    let Err(MendError::NoRemedy { why, .. }) = mended(&disk) else {
        panic!("it was formatted");
    };
    assert!(matches!(why, NotMended::UnknownContent { .. }), "{why:?}");
    let asked = EspRequest {
        format_unknown: true,
        ..EspRequest::default()
    };
    let fixes = mended_as(&disk, asked).unwrap().unwrap();
    let is_formatted = |fix: &FixKind| matches!(fix, FixKind::Formatted { .. });
    assert!(fixes.iter().any(is_formatted), "{fixes:?}");
    // Erased from end to end: nothing can be lost.
    for fill in [0x00, 0xFF] {
        for sector in 0..esp.sectors() {
            window.write_at(sector * 512, &[fill; 512]).unwrap();
        }
        let fixes = mended(&disk).unwrap().unwrap();
        assert!(fixes.iter().any(is_formatted), "{fill}: {fixes:?}");
    }
}

/// Lets one sound copy of the table, the primary or the backup, say that the EFI system partition begins so many sectors
/// later than it does.
fn shifted(disk: &Memory, right: &GptLayout, esp: Extent, (by, in_primary): (u64, bool)) {
    let mut layout = right.clone();
    let mut entries = layout.entries.iter_mut();
    let entry = entries.find(|entry| entry.extent == esp).unwrap();
    entry.extent.first = Lba(esp.first.0 + by);
    let other = Memory::new(512, disk.geometry().sectors);
    layout.write(&other).unwrap();
    let copy = match in_primary {
        true => 1..34,
        false => disk.geometry().sectors - 33..disk.geometry().sectors,
    };
    for lba in copy {
        let sector = other.read_sector(Lba(lba)).unwrap();
        disk.write_at(lba * 512, &sector).unwrap();
    }
}

#[test]
fn of_two_sound_tables_the_one_is_right_under_which_volumes_begin() {
    let right = |disk: &Memory| GptLayout::of(GptPair::read(disk).best().unwrap()).unwrap();
    for (shift, expected) in [
        ((8, true), FixKind::PrimaryTable),
        ((8, false), FixKind::BackupTable),
    ] {
        let (disk, esp) = converted();
        shifted(&disk, &right(&disk), esp, shift);
        assert_eq!(mended(&disk).unwrap(), Some(vec![expected]), "{shift:?}");
    }
    let (disk, esp) = converted();
    let right = right(&disk);
    shifted(&disk, &right, esp, (8, true));
    shifted(&disk, &right, esp, (16, false));
    let Err(MendError::NoRemedy { why, .. }) = mended(&disk) else {
        panic!("a wrong table was copied");
    };
    assert!(matches!(why, NotMended::TablesDisagree { .. }), "{why:?}");
}
