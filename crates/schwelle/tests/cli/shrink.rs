//! Shrunk volumes, judged by the file system's own utilities and driver.

use std::path::{Path, PathBuf};

use schwelle_core::device::{BlockDevice, DiskFile, ReadDevice};
use schwelle_core::ntfs::{LogState, NtfsVolume, ShrinkError, ShrinkPlan};

use crate::support::Lab;
use schwelle_testkit::Dice;

use crate::volumes::{
    Mount, begin_log, format, is_consistent, owners, scatter, snapshot, takes_new_files,
};

/// Plans a shrink of the volume in a file.
fn plan(volume: &Path, sector: u32, sectors: u64) -> Result<ShrinkPlan, ShrinkError> {
    let device = DiskFile::open_read(volume, Some(sector)).unwrap();
    NtfsVolume::open(&device).unwrap().plan_shrink(sectors)
}

/// Carries a plan out on the file, without any of the commit's care, and cuts the file off.
fn carry_out(volume: &Path, sector: u32, plan: &ShrinkPlan) {
    let device = DiskFile::open_write(volume, Some(sector)).unwrap();
    let cluster = {
        let opened = NtfsVolume::open(&device).unwrap();
        u64::from(opened.shape().cluster_bytes)
    };
    let put = |offset: u64, bytes: &[u8]| {
        let sector = u64::from(sector);
        let first = offset / sector * sector;
        let end = (offset + bytes.len() as u64).next_multiple_of(sector);
        let mut whole = device
            .read_vec(first, usize::try_from(end - first).unwrap())
            .unwrap();
        let at = usize::try_from(offset - first).unwrap();
        whole[at..at + bytes.len()].copy_from_slice(bytes);
        device.write_at(first, &whole).unwrap();
    };
    for moved in &plan.moves {
        let len = usize::try_from(moved.clusters * cluster).unwrap();
        let bytes = device.read_vec(moved.from.0 * cluster, len).unwrap();
        put(moved.to.0 * cluster, &bytes);
    }
    for patch in &plan.patches {
        put(patch.offset, &patch.bytes);
    }
    drop(device);
    let file = std::fs::File::options().write(true).open(volume).unwrap();
    file.set_len(plan.sectors * u64::from(sector)).unwrap();
}

/// Clusters in use from `limit` on, from the volume's bitmap; and clusters of the whole volume in
/// use.
fn in_use_behind(volume: &Path, sector: u32, limit: u64) -> (u64, u64) {
    use schwelle_core::bytes::ReadBytes;
    let device = DiskFile::open_read(volume, Some(sector)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    let clusters = opened.shape().clusters();
    let bitmap = opened.open_file(6).unwrap();
    let bytes = bitmap.read_all(64 << 20).unwrap();
    assert!(bitmap.len_bytes() * 8 >= clusters);
    let is_used =
        |cluster: &u64| bytes[usize::try_from(cluster / 8).unwrap()] >> (cluster % 8) & 1 == 1;
    let all = (0..clusters).filter(is_used).count() as u64;
    ((limit..clusters).filter(is_used).count() as u64, all)
}

/// The content of `$LogFile`.
fn log_of(volume: &Path, sector: u32) -> Vec<u8> {
    let device = DiskFile::open_read(volume, Some(sector)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    opened.open_file(2).unwrap().read_all(64 << 20).unwrap()
}

/// A random volume, filled at random and shrunk at random: what came of it.
fn random_case(lab: &Lab, seed: u64) -> &'static str {
    let mut dice = Dice::new(seed);
    let sector = dice.pick(&[512, 512, 512, 4096]);
    let clusters: &[u32] = if sector == 512 {
        &[512, 1024, 2048, 4096, 4096, 8192, 65_536]
    } else {
        &[4096, 8192, 65_536]
    };
    let cluster = dice.pick(clusters);
    let smallest = if cluster > 8192 { 24 } else { 8 };
    let len = dice.between(smallest << 20, 40 << 20) / 4096 * 4096;
    let volume: PathBuf = lab.path(&format!("case-{seed}.img"));
    format(&volume, len, sector, cluster);
    let percent = dice.pick(&[30, 60, 80, 90, 95, 99]);
    Mount::new(&volume, true).fill_up(&mut dice, percent, cluster.into());
    is_consistent(&volume).unwrap_or_else(|report| panic!("{seed}, before: {report}"));

    let (_, used) = in_use_behind(&volume, sector, u64::MAX);
    let cluster_sectors = u64::from(cluster / sector);
    let all = len / u64::from(sector);
    // From what is in use, with a small reserve, to almost the whole.
    let floor = (used + used / 50 + 16) * cluster_sectors + 2;
    if floor >= all {
        std::fs::remove_file(&volume).unwrap();
        return "full";
    }
    let sectors = dice.between(floor, all - 1);
    let before = snapshot(&volume);
    begin_log(&volume, sector);
    let log = log_of(&volume, sector);
    let plan = match plan(&volume, sector, sectors) {
        Ok(plan) => plan,
        Err(error) => panic!("seed {seed} ({cluster}, {percent} %, {sectors} of {all}): {error}"),
    };
    carry_out(&volume, sector, &plan);
    is_consistent(&volume).unwrap_or_else(|report| panic!("seed {seed}: {report}"));
    let device = DiskFile::open_read(&volume, Some(sector)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    assert_eq!(opened.audit().unwrap().faults, [], "seed {seed}");
    assert_eq!(opened.check_copies().unwrap(), [], "seed {seed}");
    assert_eq!(opened.log_state().unwrap(), LogState::Clean, "seed {seed}");
    drop(device);
    // Its sequence numbers stay above those in the records.
    assert!(
        log == log_of(&volume, sector),
        "seed {seed}: the log has changed"
    );
    let after = snapshot(&volume);
    for (path, seen) in &before {
        assert_eq!(
            after.get(path),
            Some(seen),
            "seed {seed}: {}",
            path.display()
        );
    }
    assert_eq!(before.len(), after.len(), "seed {seed}");
    if used * 100 / (sectors / cluster_sectors) < 95 {
        takes_new_files(&volume);
        is_consistent(&volume).unwrap_or_else(|report| panic!("seed {seed}, used: {report}"));
    }
    std::fs::remove_file(&volume).unwrap();
    "shrunk"
}

/// A fixed set; `SCHWELLE_CASES` asks for more, `SCHWELLE_SEED` for others.
#[test]
#[ignore = "needs root and outside programs"]
fn random_volumes_stay_whole_when_they_are_shrunk_at_random() {
    let number = |name: &str, default: u64| {
        std::env::var(name).map_or(default, |text| text.parse().unwrap())
    };
    let (cases, first) = (number("SCHWELLE_CASES", 10), number("SCHWELLE_SEED", 1));
    let lab = Lab::new();
    let mut shrunk = 0;
    for seed in first..first + cases {
        shrunk += u64::from(random_case(&lab, seed) == "shrunk");
    }
    println!("{shrunk} of {cases} volumes shrunk");
    assert!(shrunk * 2 > cases, "{shrunk} of {cases}");
}

/// Kinds of streams that must lie in the tail of the crowded volume, as the cluster report names
/// them.
const KINDS: [&str; 13] = [
    "/$MFT/$DATA",
    "/$MFT/$BITMAP",
    "/$MFTMirr/$DATA",
    "/$LogFile/$DATA",
    "/$AttrDef/$DATA",
    "/./$INDEX_ALLOCATION($I30)",
    "/$Bitmap/$DATA",
    "/$Secure/$DATA($SDS)",
    "/$UpCase/$DATA",
    "/crowd/$INDEX_ALLOCATION($I30)",
    "/$ATTRIBUTE_LIST",
    "/packed/text-",
    "/plain/holes-",
];

/// A volume with something of everything in its last quarter.
fn crowded(lab: &Lab, cluster: u32) -> PathBuf {
    let volume = lab.path(&format!("crowded-{cluster}.img"));
    format(&volume, 64 << 20, 512, cluster);
    let system = [
        (0, 0xB0),
        (1, 0x80),
        (2, 0x80),
        (4, 0x80),
        (5, 0xA0),
        (6, 0x80),
        (9, 0x80),
        (10, 0x80),
        (0, 0x80),
    ];
    scatter(&volume, 512, &system);
    is_consistent(&volume).unwrap();
    let mut dice = Dice::new(7);
    let mount = Mount::new(&volume, true);
    for folder in ["plain", "crowd"] {
        std::fs::create_dir(mount.path(folder)).unwrap();
    }
    let packed = mount.compressed_folder("packed");
    // Ballast fills the whole volume, the room kept for the MFT included; then the part of
    // it that lies in the tail goes, so that all that follows comes to lie there.
    let mut ballast: Vec<(PathBuf, u64)> = Vec::new();
    for number in 0.. {
        let (path, fill) = (mount.path(&format!("ballast-{number}")), mount.fill());
        let written = std::fs::write(&path, dice.bytes(128 << 10));
        ballast.push((path, fill));
        if written.is_err() {
            break;
        }
    }
    ballast.retain(|(path, fill)| {
        let in_tail = (62..95).contains(fill);
        if in_tail {
            std::fs::remove_file(path).unwrap();
        }
        !in_tail
    });
    let half: Vec<u8> = (0..12u8)
        .flat_map(|at| [dice.bytes(6000), vec![at; 6000]].concat())
        .collect();
    for number in 0..10 {
        std::fs::write(packed.join(format!("text-{number}.dat")), &half).unwrap();
    }
    for number in 0..6 {
        let path = mount.path(&format!("plain/holes-{number}.dat"));
        let holes = std::fs::File::create(path).unwrap();
        for at in [0u64, 1 << 20, 3 << 20] {
            std::os::unix::fs::FileExt::write_all_at(&holes, &dice.bytes(9000), at).unwrap();
        }
    }
    // Two files that grow in turns, each with more runs than a record holds.
    for _ in 0..700 {
        for name in ["plain/pieces.dat", "plain/other.dat"] {
            let file = std::fs::OpenOptions::new()
                .create(true)
                .append(true)
                .open(mount.path(name));
            std::io::Write::write_all(&mut file.unwrap(), &dice.bytes(cluster.into())).unwrap();
        }
    }
    // More names than a record holds, and a list of them that is too long for one as well.
    for number in 0..40 {
        let name = format!("plain/{number}-{}", "long name ".repeat(20));
        std::fs::hard_link(mount.path("plain/pieces.dat"), mount.path(&name)).unwrap();
    }
    let none = rustix::fs::XattrFlags::empty();
    let stream = dice.bytes(30_000);
    rustix::fs::setxattr(mount.path("plain/other.dat"), "user.second", &stream, none).unwrap();
    for number in 0..1500 {
        let name = format!("crowd/a name of some length, number {number}");
        std::fs::write(mount.path(&name), format!("{number}")).unwrap();
    }
    for (path, _) in ballast {
        std::fs::remove_file(path).unwrap();
    }
    drop(mount);
    volume
}

#[test]
#[ignore = "needs root and outside programs"]
fn everything_that_can_lie_in_the_tail_is_moved_and_no_more_than_that() {
    for cluster in [1024, 4096] {
        let lab = Lab::new();
        let volume = crowded(&lab, cluster);
        is_consistent(&volume).unwrap();
        let clusters = (64 << 20) / u64::from(cluster);
        let limit = clusters * 11 / 20;
        let found = owners(&volume, limit, clusters - 1);
        for kind in KINDS {
            let is_there = found.iter().any(|line| line.contains(kind));
            assert!(is_there, "{cluster}: {kind} is not in the tail: {found:#?}");
        }
        let before = snapshot(&volume);
        let (behind, _) = in_use_behind(&volume, 512, limit);
        let sectors = limit * u64::from(cluster) / 512 + 1;
        let plan = plan(&volume, 512, sectors).unwrap();
        // The bitmap becomes shorter; compressed files move by the unit.
        let moved: u64 = plan.moves.iter().map(|moved| moved.clusters).sum();
        let (least, most) = (behind - 4, behind + 16);
        assert!(
            (least..=most).contains(&moved),
            "{moved}: {least} to {most}"
        );
        carry_out(&volume, 512, &plan);
        is_consistent(&volume).unwrap();
        let after = snapshot(&volume);
        for (path, seen) in &before {
            assert_eq!(after.get(path), Some(seen), "{}", path.display());
        }
        assert_eq!(before.len(), after.len());
        takes_new_files(&volume);
        is_consistent(&volume).unwrap();
    }
}

/// A volume of 1 KiB clusters whose free clusters lie one by one between small files, with large
/// files after them.
fn fragmented(lab: &Lab) -> PathBuf {
    let volume = lab.path("fragmented.img");
    format(&volume, 20 << 20, 512, 1024);
    let mut dice = Dice::new(5);
    let mount = Mount::new(&volume, true);
    for folder in ["small", "large"] {
        std::fs::create_dir(mount.path(folder)).unwrap();
    }
    let mut small = Vec::new();
    while mount.fill() < 65 {
        let path = mount.path(&format!("small/{}", small.len()));
        std::fs::write(&path, dice.bytes(1000)).unwrap();
        small.push(path);
    }
    for number in 0.. {
        let path = mount.path(&format!("large/{number}"));
        if std::fs::write(path, dice.bytes(1 << 20)).is_err() {
            break;
        }
    }
    for path in small.iter().step_by(2) {
        std::fs::remove_file(path).unwrap();
    }
    drop(mount);
    volume
}

/// The records of large files, in the order of their names.
fn large_records(volume: &Path) -> Vec<u64> {
    let device = DiskFile::open_read(volume, Some(512)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    let folder = opened.find("\\large").unwrap().unwrap().record;
    let entries = opened.read_dir(folder).unwrap();
    entries.into_iter().map(|entry| entry.record).collect()
}

/// True when a record has an attribute of this kind.
fn has_attribute(volume: &Path, record: u64, kind: u32) -> bool {
    let device = DiskFile::open_write(volume, Some(512)).unwrap();
    let mut found = false;
    schwelle_demo::edit_record(&device, record, |bytes| {
        found = schwelle_demo::attribute_at(bytes, kind).is_some();
    })
    .unwrap();
    found
}

#[test]
#[ignore = "needs root and outside programs"]
fn runlists_that_outgrow_their_records_go_to_extension_records() {
    let lab = Lab::new();
    let volume = fragmented(&lab);
    is_consistent(&volume).unwrap();
    let (before, records) = (snapshot(&volume), large_records(&volume));
    let in_parts = |kind| {
        let all = records.iter();
        all.filter(|&&record| has_attribute(&volume, record, kind))
            .count()
    };
    assert_eq!(in_parts(LIST), 0);
    // Twice: lists that a shrink has made are changed by the next one.
    for sectors in [38_001, 36_501] {
        let plan = plan(&volume, 512, sectors).unwrap();
        carry_out(&volume, 512, &plan);
        is_consistent(&volume).unwrap();
        let device = DiskFile::open_read(&volume, Some(512)).unwrap();
        let opened = NtfsVolume::open(&device).unwrap();
        assert_eq!(opened.audit().unwrap().faults, []);
        drop(device);
        assert!(snapshot(&volume) == before);
    }
    assert!(
        in_parts(LIST) >= 2,
        "{} of {}",
        in_parts(LIST),
        records.len()
    );
}

const LIST: u32 = 0x20;

#[test]
#[ignore = "needs root and outside programs"]
fn a_damaged_attribute_list_is_named() {
    use schwelle_core::bytes::{u16_at, u32_at};
    let lab = Lab::new();
    let sound = fragmented(&lab);
    let damaged = lab.path("damaged.img");
    carry_out(&sound, 512, &plan(&sound, 512, 37_001).unwrap());
    // A file whose content is described in other records, and whose list lies in its own.
    let records = large_records(&sound);
    let is_resident = |record: &&u64| {
        let device = DiskFile::open_write(&sound, Some(512)).unwrap();
        let mut resident = false;
        schwelle_demo::edit_record(&device, **record, |bytes| {
            let list = schwelle_demo::attribute_at(bytes, LIST);
            resident = list.is_some_and(|at| bytes[at + 8] == 0);
        })
        .unwrap();
        resident
    };
    let record = *records.iter().find(is_resident).unwrap();
    type Damage = fn(&mut [u8]);
    let damages: [(&str, Damage); 5] = [
        ("names a record of another file", |entry| entry[16] = 5),
        ("cannot be read", |entry| entry[4..6].fill(0)),
        ("cannot be read", |entry| entry[4..6].fill(0xFF)),
        ("names an attribute that is not there", |entry| {
            entry[24] ^= 0x40;
        }),
        ("names a record that cannot be read", |entry| {
            entry[16..20].fill(0x7F);
        }),
    ];
    for (expected, damage) in damages {
        std::fs::copy(&sound, &damaged).unwrap();
        let device = DiskFile::open_write(&damaged, Some(512)).unwrap();
        schwelle_demo::edit_record(&device, record, |bytes| {
            let at = schwelle_demo::attribute_at(bytes, LIST).unwrap();
            let mut entry = at + usize::from(u16_at(bytes, at + 0x14).unwrap());
            // The first attribute that lies in another record.
            while u32_at(bytes, entry + 16).map(u64::from) == Some(record) {
                entry += usize::from(u16_at(bytes, entry + 4).unwrap());
            }
            damage(&mut bytes[entry..]);
        })
        .unwrap();
        let volume = NtfsVolume::open(&device).unwrap();
        let faults = volume.audit().unwrap().faults;
        let (begin, end) = (
            format!("file record {record} ("),
            format!("list {expected}"),
        );
        let shown = |fault: String| fault.starts_with(&begin) && fault.ends_with(&end);
        assert!(
            faults.iter().any(|fault| shown(fault.to_string())),
            "{end}: {faults:?}"
        );
    }
}

/// Marks a cluster of a fresh volume as bad: a run of its own in the sparse stream `$Bad`, and its
/// bit in the bitmap.
fn mark_bad(volume: &Path, cluster: u64) {
    use schwelle_core::bytes::u16_at;
    let device = DiskFile::open_write(volume, Some(512)).unwrap();
    let (clusters, bitmap) = {
        let opened = NtfsVolume::open(&device).unwrap();
        let first = opened.open_file(6).unwrap().runs()[0].lcn.unwrap().0;
        let shape = opened.shape();
        (shape.clusters(), first * u64::from(shape.cluster_bytes))
    };
    schwelle_demo::edit_record(&device, 8, |record| {
        // The second stream, named, is the last attribute of the record.
        let at = schwelle_demo::attribute_at(record, 0x80).unwrap();
        let at = at + usize::from(u16_at(record, at + 4).unwrap());
        let runs = at + usize::from(u16_at(record, at + 0x20).unwrap());
        let three = |number: u64| number.to_le_bytes()[..3].to_vec();
        let bytes = [
            [vec![0x03], three(cluster)].concat(),
            [vec![0x31, 1], three(cluster)].concat(),
            [vec![0x03], three(clusters - cluster - 1)].concat(),
            vec![0, 0, 0],
        ]
        .concat();
        record[runs..runs + bytes.len()].copy_from_slice(&bytes);
        let end = runs + bytes.len();
        let len = u32::try_from(end - at).unwrap();
        record[at + 4..at + 8].copy_from_slice(&len.to_le_bytes());
        record[end..end + 8].copy_from_slice(&[0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0]);
        let used = u32::try_from(end + 8).unwrap();
        record[0x18..0x1C].copy_from_slice(&used.to_le_bytes());
    })
    .unwrap();
    let at = bitmap + cluster / 8 / 512 * 512;
    let mut bits = device.read_vec(at, 512).unwrap();
    bits[usize::try_from(cluster / 8 % 512).unwrap()] |= 1 << (cluster % 8);
    device.write_at(at, &bits).unwrap();
}

#[test]
#[ignore = "needs root and outside programs"]
fn bad_clusters_stay_known_and_are_not_given_up() {
    let lab = Lab::new();
    let volume = lab.path("bad.img");
    format(&volume, 16 << 20, 512, 4096);
    mark_bad(&volume, 1500);
    is_consistent(&volume).unwrap();
    // Beyond the new end: nothing else may come to lie there.
    let refused = plan(&volume, 512, 1400 * 8 + 1).unwrap_err();
    assert!(
        matches!(refused, ShrinkError::BadClusters { clusters: 1 }),
        "{refused}"
    );
    let sectors = 3000 * 8 + 1;
    carry_out(&volume, 512, &plan(&volume, 512, sectors).unwrap());
    is_consistent(&volume).unwrap();
    let device = DiskFile::open_read(&volume, Some(512)).unwrap();
    assert_eq!(
        NtfsVolume::open(&device).unwrap().audit().unwrap().faults,
        []
    );
    drop(device);
    let found = owners(&volume, 1500, 1500);
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0].contains("/$BadClus/$DATA($Bad)"), "{found:?}");
    takes_new_files(&volume);
    is_consistent(&volume).unwrap();
}
