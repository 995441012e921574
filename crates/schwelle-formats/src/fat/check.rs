//! Checks a FAT volume: the copies agree, every chain is whole, no cluster belongs to two.

use crate::cause::Cause;
use std::collections::BTreeSet;

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::bpb::{Oddity, different_fields};
use super::volume::{BAD, FatEntry, FatError, FatVolume};

/// Files and directories looked at, at most: an EFI system partition holds some hundreds.
const MAX_ENTRIES: usize = 20_000;
/// Bytes compared at a time.
const CHUNK: usize = 1 << 18;

/// Something wrong with a FAT volume.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum FatFault {
    /// The boot sector, in what does not say where the parts lie.
    #[error("{oddity}")]
    BootSector {
        /// What of it.
        oddity: Oddity,
    },
    /// The boot sector and its copy.
    #[error("the boot sector and its copy differ: {}", fields.join(", "))]
    BootSectors {
        /// In which fields.
        fields: Vec<String>,
    },
    /// The FATs, of which there are two as a rule.
    #[error("the FATs differ, first in the entry of cluster {cluster}")]
    Fats {
        /// The first cluster of which they say different things.
        cluster: u64,
    },
    /// More files and folders than are looked at.
    #[error("more than {most} files and folders")]
    TooMany {
        /// How many are.
        most: usize,
    },
    /// A file without content that has clusters.
    #[error("{path} is empty but owns clusters")]
    EmptyWithClusters {
        /// Its path.
        path: String,
    },
    /// A file whose chain has not the length that its entry says.
    #[error("{path} has {has} clusters, its length asks for {needed}")]
    Length {
        /// Its path.
        path: String,
        /// Clusters of its chain.
        has: u64,
        /// Clusters that its length needs.
        needed: u64,
    },
    /// A cluster of two files.
    #[error("{path} shares cluster {cluster} with another file")]
    Shared {
        /// Path of the second one.
        path: String,
        /// The cluster.
        cluster: u32,
    },
    /// A folder whose chain of clusters is damaged, maybe after the end of its entries.
    #[error("{fault}")]
    Folder {
        /// Its path from the root on, with backslashes.
        path: String,
        /// What is wrong.
        fault: Cause,
    },
    /// A file that cannot be read.
    #[error("{fault}")]
    Damaged {
        /// Why not.
        fault: Cause,
    },
}

impl FatFault {
    /// It is about what every reader of the volume goes by: the boot sector, the FATs, and their copies. All else
    /// concerns single files.
    pub fn is_of_volume(&self) -> bool {
        matches!(
            self,
            Self::BootSector { .. } | Self::BootSectors { .. } | Self::Fats { .. }
        )
    }

    /// The file at fault, where nothing else is: its entry and its chain of clusters disagree about its length, and
    /// the chain is whole and its own. A file written in its place leaves a sound volume.
    pub fn only_file(&self) -> Option<&str> {
        match self {
            Self::EmptyWithClusters { path } | Self::Length { path, .. } => Some(path),
            Self::BootSector { .. }
            | Self::BootSectors { .. }
            | Self::Fats { .. }
            | Self::TooMany { .. }
            | Self::Shared { .. }
            | Self::Folder { .. }
            | Self::Damaged { .. } => None,
        }
    }
}

fn damaged(entry: &FatEntry, path: &str, error: &FatError) -> FatFault {
    let fault = error.into();
    match (entry.is_directory, path) {
        (false, _) => FatFault::Damaged { fault },
        (true, "") => FatFault::Folder {
            path: "\\".to_owned(),
            fault,
        },
        (true, path) => FatFault::Folder {
            path: path.to_owned(),
            fault,
        },
    }
}

impl FatVolume<'_> {
    /// What is wrong with the volume; empty when it is sound.
    ///
    /// # Errors
    ///
    /// The device's. Damage is what it returns.
    pub fn check(&self) -> Result<Vec<FatFault>, FatError> {
        self.check_owned(&mut BTreeSet::new())
    }

    /// The same, and how many clusters are in use by the first FAT but belong to no file or folder.
    pub(super) fn check_with_lost(&self) -> Result<(Vec<FatFault>, u64), FatError> {
        let mut owned = BTreeSet::new();
        let faults = self.check_owned(&mut owned)?;
        let mut lost = 0;
        self.for_each_entry(|cluster, entry| {
            let is_lost = !matches!(entry, 0 | BAD) && !owned.contains(&cluster);
            lost += u64::from(is_lost);
        })?;
        Ok((faults, lost))
    }

    fn check_owned(&self, owned: &mut BTreeSet<u32>) -> Result<Vec<FatFault>, FatError> {
        let oddities = self.oddities.iter();
        let mut faults: Vec<FatFault> = oddities
            .map(|&oddity| FatFault::BootSector { oddity })
            .collect();
        let shape = self.shape();
        let sector = shape.sector_bytes as usize;
        let copy_at = u64::from(shape.backup_sector) * u64::from(shape.sector_bytes);
        if copy_at != 0 {
            let main = self.device.read_vec(0, sector)?;
            let copy = self.device.read_vec(copy_at, sector)?;
            if main != copy {
                let fields = different_fields(&main, &copy);
                faults.push(FatFault::BootSectors { fields });
            }
        }
        if let Some(cluster) = self.first_difference()? {
            faults.push(FatFault::Fats { cluster });
        }
        let mut folders: Vec<(String, FatEntry)> = vec![(String::new(), self.root())];
        let mut seen = 0usize;
        while let Some((path, folder)) = folders.pop() {
            if let Err(fault) = self.claim(owned, &folder, &path) {
                faults.push(fault);
                continue;
            }
            let entries = match self.read_dir(&folder) {
                Ok(entries) => entries,
                Err(FatError::Device(error)) => return Err(error.into()),
                Err(error) => {
                    faults.push(damaged(&folder, &path, &error));
                    continue;
                }
            };
            for entry in entries {
                seen += 1;
                if seen > MAX_ENTRIES {
                    faults.push(FatFault::TooMany { most: MAX_ENTRIES });
                    return Ok(faults);
                }
                let path = format!("{path}\\{}", entry.name);
                if entry.is_directory {
                    folders.push((path, entry));
                } else if let Err(fault) = self.claim(owned, &entry, &path) {
                    faults.push(fault);
                }
            }
        }
        Ok(faults)
    }

    /// The first cluster of which the FATs say different things.
    fn first_difference(&self) -> Result<Option<u64>, FatError> {
        let shape = self.shape();
        let first = u64::from(shape.reserved_sectors) * u64::from(shape.sector_bytes);
        let len_bytes = u64::from(shape.fat_sectors) * u64::from(shape.sector_bytes);
        let mut done = 0;
        while done < len_bytes && shape.fat_count > 1 {
            let take = usize::try_from(len_bytes - done)
                .unwrap_or(CHUNK)
                .min(CHUNK);
            let expected = self.device.read_vec(first + done, take)?;
            for copy in 1..u64::from(shape.fat_count) {
                let at = first + copy * len_bytes + done;
                let found = self.device.read_vec(at, take)?;
                let mut bytes = (done..).zip(found.iter().zip(&expected));
                if let Some((byte, _)) = bytes.find(|(_, (found, expected))| found != expected) {
                    return Ok(Some(byte * 8 / shape.entry_bits()));
                }
            }
            done += take as u64;
        }
        Ok(None)
    }

    /// Takes the clusters of a file or folder into `owned`.
    fn claim(
        &self,
        owned: &mut BTreeSet<u32>,
        entry: &FatEntry,
        path: &str,
    ) -> Result<(), FatFault> {
        let path = path.to_owned();
        let cluster_bytes = u64::from(self.shape().cluster_bytes());
        let clusters = u64::from(entry.len_bytes).div_ceil(cluster_bytes);
        // A root directory in a place of its own has no clusters either.
        let is_fixed_root = *entry == self.root() && entry.cluster == 0;
        let is_empty = !entry.is_directory && entry.cluster == 0 && clusters == 0;
        if is_fixed_root || is_empty {
            return Ok(());
        }
        let chain = self
            .chain(entry.cluster, self.shape().clusters, &path)
            .map_err(|error| damaged(entry, &path, &error))?;
        // Taken whatever the length says: what follows must know whose the clusters are.
        let has = chain.len() as u64;
        let mut shared = None;
        for cluster in chain {
            if !owned.insert(cluster) {
                shared = shared.or(Some(cluster));
            }
        }
        if let Some(cluster) = shared {
            return Err(FatFault::Shared { path, cluster });
        }
        if entry.is_directory || has == clusters {
            return Ok(());
        }
        Err(match clusters {
            0 => FatFault::EmptyWithClusters { path },
            needed => FatFault::Length { path, has, needed },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::super::{DosTime, FatWriter};
    use super::*;
    use crate::device::{BlockDevice, Extent, Lba, MIB, Memory, ReadDevice};
    use proptest::prelude::*;

    fn volume(sector: u32, size: u64) -> Memory {
        let disk = Memory::new(sector, size / u64::from(sector));
        let extent = Extent::new(Lba(4096), disk.geometry().sectors).unwrap();
        let time = DosTime {
            date: 0x5B77,
            time: 0,
        };
        let mut writer = FatWriter::new(&disk, extent, 0xC0FFEE, *b"SYSTEM     ", time).unwrap();
        for number in 0..300 {
            // Enough entries that a directory needs more than one cluster.
            let name = format!("a rather long name number {number}.efi");
            writer
                .write_file(&["EFI", "Boot", &name], &vec![0xA5; number * 37])
                .unwrap();
        }
        writer
            .write_file(&["EFI", "boot", "BOOTX64.EFI"], &[1; 70_000])
            .unwrap();
        assert!(
            writer
                .write_file(&["efi", "BOOT", "bootx64.efi"], &[])
                .is_err(),
            "the name is there already"
        );
        writer.finish().unwrap();
        disk
    }

    #[test]
    fn a_made_volume_is_sound_and_reads_back() {
        for (sector, size) in [(512, 100 * MIB), (512, 260 * MIB), (4096, 260 * MIB)] {
            let disk = volume(sector, size);
            let fat = FatVolume::open(&disk).unwrap();
            assert_eq!(fat.check().unwrap(), []);
            let file = fat
                .find("\\efi\\BOOT\\A rather long name number 299.EFI")
                .unwrap()
                .unwrap();
            assert_eq!(fat.read_file(&file, 1 << 20).unwrap(), vec![0xA5; 299 * 37]);
            assert!(matches!(
                fat.read_file(&file, 100),
                Err(FatError::TooLong { .. })
            ));
            assert_eq!(
                fat.read_dir(&fat.find("EFI\\Boot").unwrap().unwrap())
                    .unwrap()
                    .len(),
                301
            );
            assert_eq!(fat.find("\\EFI\\none").unwrap(), None);
            assert_eq!(fat.shape().hidden_sectors, 4096);
        }
    }

    #[test]
    fn damage_is_found() {
        let entry_at = |cluster: u64| 32 * 512 + cluster * 4;
        for (at, value, expected) in [
            (
                entry_at(2),
                2u32,
                "the root folder: its clusters go round in a circle",
            ),
            (
                entry_at(5),
                0x0FFF_FFF8,
                "the FATs differ, first in the entry of cluster 5",
            ),
            (
                entry_at(2),
                0x0500_0000,
                "cluster 2 of it leads out of the volume",
            ),
            (
                entry_at(2),
                0x0FFF_FFF7,
                "cluster 2 of it leads to a bad cluster",
            ),
            (entry_at(3), 0, "cluster 3 of it is marked as free"),
            (
                6 * 512 + 4,
                0,
                "the boot sector and its copy differ: OEM name",
            ),
        ] {
            let disk = volume(512, 100 * MIB);
            let mut sector = disk.read_vec(at / 512 * 512, 512).unwrap();
            let within = usize::try_from(at % 512).unwrap();
            sector[within..within + 4].copy_from_slice(&value.to_le_bytes());
            disk.write_at(at / 512 * 512, &sector).unwrap();
            let faults = FatVolume::open(&disk).unwrap().check().unwrap();
            let faults: Vec<String> = faults.iter().map(FatFault::to_string).collect();
            let faults = faults.join("; ");
            assert!(faults.contains(expected), "{faults}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn any_set_of_names_reads_back(
            files in prop::collection::btree_map("[a-zA-Z0-9äß水._ ()~-]{1,40}", 0usize..20_000, 1..60),
            folder in "[a-z]{1,20}",
        ) {
            let disk = Memory::new(512, 100 * MIB / 512);
            let extent = Extent::new(Lba(0), disk.geometry().sectors).unwrap();
            let time = DosTime { date: 0x5B77, time: 0 };
            let mut writer = FatWriter::new(&disk, extent, 1, *b"X          ", time).unwrap();
            let mut written = Vec::new();
            for (name, len) in &files {
                // Names that FAT cannot hold, or that differ in case only, are refused and leave no
                // trace.
                let content = vec![u8::try_from(name.len()).unwrap(); *len];
                if writer.write_file(&[&folder, name], &content).is_ok() {
                    written.push((name.clone(), content));
                }
            }
            writer.finish().unwrap();
            let fat = FatVolume::open(&disk).unwrap();
            prop_assert_eq!(fat.check().unwrap(), []);
            let listed = fat.find(&folder).unwrap().map_or(0, |found| fat.read_dir(&found).unwrap().len());
            prop_assert_eq!(listed, written.len());
            for (name, content) in written {
                let file = fat.find(&format!("{folder}\\{name}")).unwrap().unwrap();
                prop_assert_eq!(&file.name, &name);
                prop_assert!(fat.read_file(&file, 1 << 20).unwrap() == content);
            }
        }
    }

    #[test]
    fn a_full_volume_says_so() {
        let disk = Memory::new(512, 100 * MIB / 512);
        let extent = Extent::new(Lba(0), disk.geometry().sectors).unwrap();
        let mut writer = FatWriter::new(
            &disk,
            extent,
            1,
            *b"X          ",
            DosTime { date: 0, time: 0 },
        )
        .unwrap();
        let free = usize::try_from(writer.free_bytes()).unwrap();
        let error = writer.write_file(&["big"], &vec![1; free + 1]).unwrap_err();
        assert_eq!(error.to_string(), "the volume is full: big does not fit");
        writer.write_file(&["big"], &vec![1; free]).unwrap();
        writer.finish().unwrap();
        assert_eq!(FatVolume::open(&disk).unwrap().check().unwrap(), []);
    }
}
