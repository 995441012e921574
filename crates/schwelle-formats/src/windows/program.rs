//! Programs of a start on a Windows volume: loaders and kernel.

use crate::ntfs::NtfsVolume;
use crate::pe::{PeImage, ProgramFault};

/// The headers of the program at `path`, whether it fits or not.
///
/// # Errors
///
/// [`ProgramFault::Missing`] and [`ProgramFault::Unreadable`].
pub fn program_at(volume: &NtfsVolume<'_>, path: &str) -> Result<PeImage, ProgramFault> {
    let entry = volume.find(path).map_err(ProgramFault::unreadable)?;
    let entry = entry.filter(|entry| !entry.is_directory);
    let record = entry.ok_or(ProgramFault::Missing)?.record;
    let file = volume.open_file(record).map_err(ProgramFault::unreadable)?;
    PeImage::read(&file).map_err(ProgramFault::unreadable)
}
