//! Edits the files of the customer's that name the disk: on the finished disk, over the converted
//! one, since the old disk must not see it.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cause::Cause;
use crate::commit::{Purpose, Region, StageKind};
use crate::device::{Draft, Extent, ReadDevice, Window};
use crate::identities::{Identities, Style};
use crate::job::EditedVolume;
use crate::ntfs::NtfsVolume;
use crate::placement::Placement;
use crate::profile::{Partition, Profile};
use crate::windows::{
    HiveFile, RECOVERY_CONFIG, RecoveryFile, SYSTEM_HIVE, convert_letters, mounted_names,
    shared_out,
};

use super::basis::DraftError;
use super::{patch, shrink};

/// A file that the job edits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditedFile {
    /// Number of its partition.
    pub partition: usize,
    /// Its path there.
    pub path: String,
    /// What is changed in it.
    pub changes: Vec<Edit>,
}

/// A change to a file that is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Edit {
    /// What is pending in its log is applied.
    PendingApplied,
    /// Names of volumes lead to the new table's partitions.
    NamesCarriedOver {
        /// Drive letters.
        letters: Vec<String>,
        /// How many names beside them.
        names: usize,
        /// The new table.
        to: Style,
    },
    /// The place of the recovery environment names the new disk.
    RecoveryCarriedOver {
        /// The new table.
        to: Style,
    },
}

/// What is edited, and where.
#[derive(Default)]
pub(crate) struct Edits {
    pub(crate) files: Vec<EditedFile>,
    pub(crate) regions: Vec<Region>,
}

/// Edits the files of all systems on `finished`, which lies over the converted disk.
pub(crate) fn edit_files(
    finished: &Draft<'_>,
    profile: &Profile,
    placement: &Placement,
    identities: &Identities,
    written: u64,
) -> Result<Edits, DraftError> {
    let mut edits = Edits::default();
    for system in &profile.systems {
        // One that nothing starts may have a registry that cannot be read. It is left as it is.
        if system.letters.is_err() && !profile.is_started(system) {
            continue;
        }
        let partition = profile
            .partition(system.partition)
            .ok_or(DraftError::Missing("Windows volume"))?;
        let volume = OnVolume {
            extent: placement.after(partition),
            partition,
        };
        let own = profile.geometry.byte_of(partition.extent.first);
        let own = own.ok_or(DraftError::Outside(partition.extent))?;
        volume.letters(finished, &mut edits, identities, own, written)?;
        volume.recovery(finished, &mut edits, identities, RECOVERY_CONFIG)?;
    }
    // A copy of the configuration may lie beside an image.
    for image in &profile.recovery {
        let path = image.config_beside();
        let partition = profile.partition(image.partition);
        let is_done = |file: &EditedFile| {
            file.partition == image.partition && file.path.eq_ignore_ascii_case(&path)
        };
        if let Some(partition) = partition.filter(|_| !edits.files.iter().any(is_done))
            && placement.keeps(partition)
        {
            let volume = OnVolume {
                extent: placement.after(partition),
                partition,
            };
            volume.recovery(finished, &mut edits, identities, &path)?;
        }
    }
    Ok(edits)
}

struct OnVolume<'a> {
    extent: Extent,
    partition: &'a Partition,
}

impl OnVolume<'_> {
    fn window<'d>(
        &self,
        draft: &'d Draft<'_>,
    ) -> Result<Window<'d, dyn ReadDevice + 'd>, DraftError> {
        let device: &'d dyn ReadDevice = draft;
        Window::new(device, self.extent).ok_or(DraftError::Outside(self.extent))
    }

    fn letters(
        &self,
        draft: &Draft<'_>,
        edits: &mut Edits,
        identities: &Identities,
        own: u64,
        written: u64,
    ) -> Result<(), DraftError> {
        let path = SYSTEM_HIVE;
        let window = self.window(draft)?;
        let volume = NtfsVolume::open(&window)?;
        let Some(hive) = HiveFile::find(&volume, path)? else {
            return Ok(());
        };
        let cannot = |fault: Cause| DraftError::Edits {
            number: self.partition.number,
            path: path.to_owned(),
            fault,
        };
        let converted = convert_letters(&hive, identities, own, written);
        let Some(converted) = converted.map_err(|error| cannot(error.into()))? else {
            return Ok(());
        };
        let record = hive.file.record();
        self.write(draft, edits, path, record, &converted.bytes)?;

        // What the next reader finds is what was meant.
        let after = HiveFile::find(&volume, path)?.ok_or(DraftError::Missing("registry"))?;
        let names = crate::hive::Hive::open(&after.file).and_then(|hive| mounted_names(&hive));
        let names = names.map_err(|error| cannot(error.into()))?;
        let stays = |name: &&crate::windows::MountedName| {
            name.converted(identities).is_some() && !converted.left.contains(name)
        };
        if let Some(name) = names.iter().find(stays) {
            return Err(DraftError::NotCarriedOver {
                number: self.partition.number,
                path: path.to_owned(),
                name: name.name.clone(),
            });
        }

        let mut changes = Vec::new();
        if converted.applied > 0 {
            changes.push(Edit::PendingApplied);
        }
        if !converted.converted.is_empty() {
            let (letters, names) = shared_out(&converted.converted);
            changes.push(Edit::NamesCarriedOver {
                letters,
                names,
                to: identities.to,
            });
        }
        edits.note(self.partition.number, path, changes);
        Ok(())
    }

    fn recovery(
        &self,
        draft: &Draft<'_>,
        edits: &mut Edits,
        identities: &Identities,
        path: &str,
    ) -> Result<(), DraftError> {
        let window = self.window(draft)?;
        let volume = NtfsVolume::open(&window)?;
        // What cannot be read or edited is a finding of the rules; the disk starts without it.
        let file = RecoveryFile::find_at(&volume, path)?.filter(|file| file.is_editable);
        let Some((record, Ok(config))) = file.map(|file| (file.record, file.config)) else {
            return Ok(());
        };
        let Some(Ok(new)) = config.converted(identities) else {
            return Ok(());
        };
        self.write(draft, edits, path, record, &new)?;
        let changes = vec![Edit::RecoveryCarriedOver { to: identities.to }];
        edits.note(self.partition.number, path, changes);
        Ok(())
    }

    fn write(
        &self,
        draft: &Draft<'_>,
        edits: &mut Edits,
        path: &str,
        record: u64,
        new: &[u8],
    ) -> Result<(), DraftError> {
        let window = self.window(draft)?;
        let volume = NtfsVolume::open(&window)?;
        let patches = volume.plan_rewrite(record, new)?;
        let name = path.rsplit('\\').next().unwrap_or(path);
        let what = Purpose::File {
            name: name.to_owned(),
            partition: self.partition.number,
        };
        let stage = StageKind::Edit;
        edits
            .regions
            .extend(patch::lay(draft, self.extent, &patches, stage, &what)?);
        Ok(())
    }
}

impl Edits {
    /// What the journal keeps of the volumes with edited files, but for those that it has already.
    pub(crate) fn watch(
        &self,
        disk: &dyn ReadDevice,
        profile: &Profile,
        known: &[EditedVolume],
    ) -> Result<Vec<EditedVolume>, DraftError> {
        let mut volumes: Vec<EditedVolume> = Vec::new();
        for file in &self.files {
            let Some(partition) = profile.partition(file.partition) else {
                continue;
            };
            let first_lba = partition.extent.first.0;
            let mut all = known.iter().chain(&volumes);
            if all.all(|volume| volume.first_lba != first_lba) {
                volumes.push(shrink::watch(disk, None, partition)?);
            }
        }
        Ok(volumes)
    }

    fn note(&mut self, partition: usize, path: &str, changes: Vec<Edit>) {
        self.files.push(EditedFile {
            partition,
            path: path.to_owned(),
            changes,
        });
    }
}
