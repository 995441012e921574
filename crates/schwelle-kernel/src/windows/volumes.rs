//! Volumes and the places where they are mounted.

use std::ptr::null_mut;

use windows_sys::Win32::Foundation::INVALID_HANDLE_VALUE;
use windows_sys::Win32::Storage::FileSystem::{
    FindFirstVolumeW, FindNextVolumeW, FindVolumeClose, GetDiskFreeSpaceExW, GetDiskFreeSpaceW,
    GetDriveTypeW, GetVolumeInformationW, GetVolumeNameForVolumeMountPointW, GetVolumePathNameW,
    GetVolumePathNamesForVolumeNameW,
};
use windows_sys::Win32::System::SystemInformation::GetSystemWindowsDirectoryW;

use super::{MAX_PATH_UNITS, narrow, wide};

/// Volumes that are listed, at most.
const MAX_VOLUMES: usize = 1024;

/// The names of all volumes, `\\?\Volume{…}\`.
pub fn volumes() -> Vec<String> {
    let mut names = Vec::new();
    let mut buffer = [0_u16; 128];
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the buffer lives through the call and is as long as said.
    let search = unsafe { FindFirstVolumeW(buffer.as_mut_ptr(), 128) };
    if search == INVALID_HANDLE_VALUE {
        return names;
    }
    loop {
        names.push(narrow(&buffer));
        #[expect(unsafe_code, reason = "there is no safe form of this call")]
        // SAFETY: the search is open; the buffer lives through the call and is as long as said.
        let more = unsafe { FindNextVolumeW(search, buffer.as_mut_ptr(), 128) };
        if more == 0 || names.len() >= MAX_VOLUMES {
            break;
        }
    }
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the search is open, and not used afterwards.
    unsafe {
        FindVolumeClose(search);
    }
    names
}

/// Where a volume is mounted: drive letters and folders, each with a backslash at its end.
pub fn paths_of_volume(volume: &str) -> Vec<String> {
    let volume = wide(volume);
    let mut buffer = vec![0_u16; MAX_PATH_UNITS];
    let mut returned = 0;
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the name ends with 0; the buffer lives through the call and is as long as said.
    let done = unsafe {
        GetVolumePathNamesForVolumeNameW(
            volume.as_ptr(),
            buffer.as_mut_ptr(),
            1 << 15,
            &raw mut returned,
        )
    };
    if done == 0 {
        return Vec::new();
    }
    let paths = buffer
        .split(|&unit| unit == 0)
        .take_while(|path| !path.is_empty());
    paths.map(String::from_utf16_lossy).collect()
}

/// The root of the file system that a path lies in, with a backslash at its end.
pub fn root_of(path: &str) -> Option<String> {
    let path = wide(path);
    let mut buffer = vec![0_u16; MAX_PATH_UNITS];
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the path ends with 0; the buffer lives through the call and is as long as said.
    let done = unsafe { GetVolumePathNameW(path.as_ptr(), buffer.as_mut_ptr(), 1 << 15) };
    (done != 0).then(|| narrow(&buffer))
}

/// The name of the volume that is mounted at this root.
pub fn volume_at(root: &str) -> Option<String> {
    let root = wide(root);
    let mut buffer = [0_u16; 64];
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the root ends with 0; the buffer lives through the call and is as long as said.
    let done = unsafe { GetVolumeNameForVolumeMountPointW(root.as_ptr(), buffer.as_mut_ptr(), 64) };
    (done != 0).then(|| narrow(&buffer))
}

/// Free for this user at a root, and bytes of a cluster there.
pub fn space_at(root: &str) -> Option<(u64, u64)> {
    let root = wide(root);
    let mut free = 0_u64;
    let (mut sectors, mut bytes, mut free_clusters, mut clusters) = (0, 0, 0, 0);
    #[expect(unsafe_code, reason = "there is no safe form of these calls")]
    // SAFETY: the root ends with 0; what is pointed to lives through the calls; the pointers not wanted are null.
    let done = unsafe {
        GetDiskFreeSpaceExW(root.as_ptr(), &raw mut free, null_mut(), null_mut()) != 0
            && GetDiskFreeSpaceW(
                root.as_ptr(),
                &raw mut sectors,
                &raw mut bytes,
                &raw mut free_clusters,
                &raw mut clusters,
            ) != 0
    };
    done.then(|| (free, u64::from(sectors) * u64::from(bytes)))
}

/// What kind of drive is at a root (winbase.h).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DriveKind {
    /// A disk.
    Fixed,
    /// A stick or a card.
    Removable,
    /// A share on the network.
    Remote,
    /// An optical drive.
    Optical,
    /// In memory.
    Ram,
    /// Not said.
    Unknown,
}

/// What kind of drive is at a root.
pub fn drive_kind(root: &str) -> DriveKind {
    let root = wide(root);
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the root ends with 0.
    let kind = unsafe { GetDriveTypeW(root.as_ptr()) };
    match kind {
        2 => DriveKind::Removable,
        3 => DriveKind::Fixed,
        4 => DriveKind::Remote,
        5 => DriveKind::Optical,
        6 => DriveKind::Ram,
        _ => DriveKind::Unknown,
    }
}

/// The file system at a root, and whether nothing can be written there.
pub fn file_system_at(root: &str) -> Option<(String, bool)> {
    const FILE_READ_ONLY_VOLUME: u32 = 0x0008_0000;
    let root = wide(root);
    let mut name = [0_u16; 64];
    let mut flags = 0;
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the root ends with 0; what is pointed to lives through the call; the rest is not asked for.
    let done = unsafe {
        GetVolumeInformationW(
            root.as_ptr(),
            null_mut(),
            0,
            null_mut(),
            null_mut(),
            &raw mut flags,
            name.as_mut_ptr(),
            64,
        )
    };
    (done != 0).then(|| (narrow(&name), flags & FILE_READ_ONLY_VOLUME != 0))
}

/// The folder of the running Windows.
pub fn windows_folder() -> Option<String> {
    let mut buffer = vec![0_u16; MAX_PATH_UNITS];
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the buffer lives through the call and is as long as said.
    let len = unsafe { GetSystemWindowsDirectoryW(buffer.as_mut_ptr(), 1 << 15) };
    (len != 0 && (len as usize) < buffer.len()).then(|| narrow(&buffer))
}
