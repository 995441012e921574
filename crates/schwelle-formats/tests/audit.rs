//! The audit of a volume: sound ones balance, and each damage is named with its record.

#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a test that cannot go on fails"
)]

use schwelle_demo::{DiskBuilder, Standard, attribute_at, edit_record};
use schwelle_disk::bytes::u16_at;
use schwelle_disk::device::{BlockDevice, Draft, Extent, MIB, Memory, ReadDevice, Window};
use schwelle_formats::ntfs::{Audit, NtfsVolume};

const A: &str = "\\Users\\wanda\\Documents\\log-a.txt";
const B: &str = "\\Users\\wanda\\Documents\\log-b.txt";

/// The Windows volume of the demo, to be damaged.
struct Patient<'a> {
    disk: Draft<'a>,
    extent: Extent,
}

impl Patient<'_> {
    fn with<T>(&self, look: impl FnOnce(&NtfsVolume<'_>) -> T) -> T {
        let window = Window::new(&self.disk, self.extent).unwrap();
        look(&NtfsVolume::open(&window).unwrap())
    }

    fn record_of(&self, path: &str) -> u64 {
        self.with(|volume| volume.find(path).unwrap().unwrap().record)
    }

    /// First cluster of a file.
    fn first_cluster(&self, record: u64) -> u64 {
        self.with(|volume| volume.open_file(record).unwrap().runs()[0].lcn.unwrap().0)
    }

    /// Changes bytes at an offset of the volume.
    fn change(&self, offset: u64, len: usize, change: impl FnOnce(&mut [u8])) {
        let at = self.extent.first.0 * 512 + offset;
        let base = at / 512 * 512;
        let within = usize::try_from(at - base).unwrap();
        let mut bytes = self
            .disk
            .read_vec(base, (within + len).next_multiple_of(512))
            .unwrap();
        change(&mut bytes[within..within + len]);
        self.disk.write_at(base, &bytes).unwrap();
    }

    fn change_record(&self, number: u64, change: impl FnOnce(&mut [u8])) {
        let window = Window::new(&self.disk, self.extent).unwrap();
        edit_record(&window, number, change).unwrap();
    }

    /// Changes the bit of a cluster in the volume's bitmap.
    fn flip_cluster(&self, cluster: u64) {
        let bitmap = self.first_cluster(6) * 4096;
        self.change(bitmap + cluster / 8, 1, |byte| {
            byte[0] ^= 1 << (cluster % 8);
        });
    }
}

fn attribute(record: &[u8], kind: u32) -> usize {
    attribute_at(record, kind).unwrap()
}

/// Place of a non-resident attribute's runlist.
fn runlist(record: &[u8], kind: u32) -> usize {
    let at = attribute(record, kind);
    at + usize::from(u16_at(record, at + 0x20).unwrap())
}

/// First cluster that a runlist of the shape "one byte of length, one or two of place" names.
fn first_of_runlist(runs: &[u8]) -> u64 {
    match runs[0] {
        0x11 => u64::from(runs[2]),
        0x21 => u64::from(u16_at(runs, 2).unwrap()),
        other => panic!("run head {other:02X}"),
    }
}

type Damage = fn(&Patient<'_>);

/// What is expected of the audit's one fault, and the damage. `A` and `B` stand for the two files'
/// records.
const DAMAGES: &[(&str, Damage)] = &[
    (
        "cluster 40000 and 0 more are marked in use but belong to no file",
        |patient| patient.flip_cluster(40_000),
    ),
    (
        "and 0 more belong to file record A but are marked free",
        |patient| {
            patient.flip_cluster(patient.first_cluster(patient.record_of(A)));
        },
    ),
    ("file record A: the fix-ups do not match", |patient| {
        let offset = patient.with(|volume| volume.record_offset(patient.record_of(A)).unwrap());
        patient.change(offset + 510, 1, |byte| byte[0] ^= 0x40);
    }),
    (
        "file record A: the signature \"FILE\" is missing",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                record[..4].copy_from_slice(b"BAAD");
            });
        },
    ),
    (
        "file record A and 0 more are free but marked in use",
        |patient| {
            patient.change_record(patient.record_of(A), |record| record[0x16] &= !1);
        },
    ),
    (
        "file record A: an attribute has an impossible length",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                let at = attribute(record, 0x30);
                record[at + 4..at + 8].fill(0);
            });
        },
    ),
    (
        "file record A: an attribute runs over the record's end",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                let at = attribute(record, 0x80);
                record[at + 4..at + 8].copy_from_slice(&0x7FFF_FFF8u32.to_le_bytes());
            });
        },
    ),
    (
        "file record A (log-a.txt): a runlist is damaged or leaves the volume",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                let runs = runlist(record, 0x80);
                record[runs + 1] = 0xFF; // a length below zero
            });
        },
    ),
    (
        "file record A: the sizes of an attribute contradict one another",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                let at = attribute(record, 0x80);
                record[at + 0x30..at + 0x38].copy_from_slice(&(1u64 << 60).to_le_bytes());
            });
        },
    ),
    (
        "file record A extends record 65432, which is no base record in use",
        |patient| {
            patient.change_record(patient.record_of(A), |record| {
                record[0x20..0x24].copy_from_slice(&65_432u32.to_le_bytes());
            });
        },
    ),
    (
        "file record A (log-a.txt) is in use but marked free",
        |patient| {
            let number = patient.record_of(A);
            let mut map = 0;
            patient.change_record(0, |record| {
                map = first_of_runlist(&record[runlist(record, 0xB0)..]) * 4096;
            });
            patient.change(map + number / 8, 1, |byte| byte[0] &= !(1 << (number % 8)));
        },
    ),
    ("(log-a.txt) and to record A as well", |patient| {
        // The record of the one file over that of the other.
        let (a, b) = (patient.record_of(A), patient.record_of(B));
        let mut copy = Vec::new();
        patient.change_record(a, |record| copy = record.to_vec());
        patient.change_record(b, |record| record[0x30..].copy_from_slice(&copy[0x30..]));
    }),
];

fn audit(patient: &Patient<'_>) -> Audit {
    patient.with(|volume| volume.audit().unwrap())
}

#[test]
fn each_damage_is_named_with_its_record() {
    let disk = Memory::new(512, 480 * MIB / 512);
    let Standard { windows, .. } = DiskBuilder::new(&disk).standard(1, "LANTERN-ONE").unwrap();
    let sound = Patient {
        disk: Draft::new(&disk),
        extent: windows,
    };
    let before = audit(&sound);
    assert_eq!(before.faults, []);
    assert!(before.files > 450 && before.clusters > 1000);
    let (a, b) = (sound.record_of(A), sound.record_of(B));
    assert_ne!(a, b);
    for (expected, damage) in DAMAGES {
        let patient = Patient {
            disk: Draft::new(&disk),
            extent: windows,
        };
        damage(&patient);
        let faults = audit(&patient).faults;
        // A shrink trusts a volume no further: what is wrong with records stops it as well.
        let of_record = faults.iter().any(|fault| {
            let text = fault.to_string();
            let only_audited = ["extends", "free", "contradict"];
            text.starts_with("file record") && !only_audited.iter().any(|word| text.contains(word))
        });
        let half = windows.sectors() / 2;
        let shrunk = patient.with(|volume| volume.plan_shrink(half).is_ok());
        assert!(!(of_record && shrunk), "{expected}");
        let expected = expected.replace("record A", &format!("record {a}"));
        let shown: Vec<String> = faults.iter().map(ToString::to_string).collect();
        assert!(
            shown.iter().any(|fault| fault.contains(&expected)),
            "{expected}: {shown:?}"
        );
        // What a lost record owned is lost as well; nothing else may be said.
        let others = faults
            .iter()
            .zip(&shown)
            .filter(|(fault, text)| !fault.is_harmless() && !text.contains(&expected));
        let unexplained: Vec<_> = others
            .filter(|(_, text)| !text.contains(&format!("record {b}")))
            .collect();
        assert!(unexplained.is_empty(), "{expected}: {unexplained:?}");
    }
}

#[test]
fn volumes_of_both_sector_sizes_balance() {
    for sector in [512, 4096] {
        let disk = Memory::new(sector, 480 * MIB / u64::from(sector));
        let places = DiskBuilder::new(&disk).standard(1, "LANTERN-ONE").unwrap();
        for extent in [places.boot, places.windows] {
            let window = Window::new(&disk, extent).unwrap();
            let audit = NtfsVolume::open(&window).unwrap().audit().unwrap();
            assert_eq!(audit.faults, [], "{sector}");
            assert!(audit.files > 20);
        }
    }
}
