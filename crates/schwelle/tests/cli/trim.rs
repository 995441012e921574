//! Trimmed volumes, judged by the file system's own utilities and driver.

use std::path::{Path, PathBuf};

use schwelle_core::device::{BlockDevice, DiskFile, ReadDevice};
use schwelle_core::ntfs::{NtfsVolume, TrimError, TrimPlan};

use crate::support::Lab;
use crate::volumes::{Dice, Mount, format, is_consistent, snapshot, takes_new_files};

/// Plans a trim of the volume in a file.
fn plan(volume: &Path, sector: u32, sectors: u64) -> Result<TrimPlan, TrimError> {
    let device = DiskFile::open_read(volume, Some(sector)).unwrap();
    NtfsVolume::open(&device).unwrap().plan_trim(sectors)
}

/// Carries a plan out on the file, without any of the commit's care, and cuts the file off.
fn carry_out(volume: &Path, sector: u32, plan: &TrimPlan) {
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
    for emptied in &plan.emptied {
        let len = usize::try_from(emptied.end - emptied.start).unwrap();
        put(emptied.start, &vec![0xFF; len]);
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
    let is_used = |cluster: &u64| {
        bytes[usize::try_from(cluster / 8).unwrap()] >> (cluster % 8) & 1 == 1
    };
    let all = (0..clusters).filter(is_used).count() as u64;
    ((limit..clusters).filter(is_used).count() as u64, all)
}

/// A random volume, filled at random and trimmed at random: what came of it.
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
    let plan = match plan(&volume, sector, sectors) {
        Ok(plan) => plan,
        Err(error) => panic!("seed {seed} ({cluster}, {percent} %, {sectors} of {all}): {error}"),
    };
    carry_out(&volume, sector, &plan);
    is_consistent(&volume).unwrap_or_else(|report| panic!("seed {seed}: {report}"));
    let device = DiskFile::open_read(&volume, Some(sector)).unwrap();
    let opened = NtfsVolume::open(&device).unwrap();
    assert_eq!(opened.audit().unwrap().faults, [], "seed {seed}");
    assert_eq!(opened.check_copies().unwrap(), [""; 0], "seed {seed}");
    drop(device);
    let after = snapshot(&volume);
    for (path, seen) in &before {
        assert_eq!(after.get(path), Some(seen), "seed {seed}: {}", path.display());
    }
    assert_eq!(before.len(), after.len(), "seed {seed}");
    if used * 100 / (sectors / cluster_sectors) < 95 {
        takes_new_files(&volume);
        is_consistent(&volume).unwrap_or_else(|report| panic!("seed {seed}, used: {report}"));
    }
    std::fs::remove_file(&volume).unwrap();
    "trimmed"
}

/// A fixed set; `SCHWELLE_CASES` asks for more, `SCHWELLE_SEED` for others.
#[test]
fn random_volumes_stay_whole_when_they_are_trimmed_at_random() {
    let number = |name: &str, default: u64| {
        std::env::var(name).map_or(default, |text| text.parse().unwrap())
    };
    let (cases, first) = (number("SCHWELLE_CASES", 10), number("SCHWELLE_SEED", 1));
    let lab = Lab::new();
    let mut trimmed = 0;
    for seed in first..first + cases {
        trimmed += u64::from(random_case(&lab, seed) == "trimmed");
    }
    println!("{trimmed} of {cases} volumes trimmed");
    assert!(trimmed * 2 > cases, "{trimmed} of {cases}");
}
