//! Requests to Windows. Layouts of what they answer: winioctl.h, ntddstor.h; numbers are little-endian.

use std::ffi::c_void;
use std::fs::File;
use std::io;
use std::os::windows::io::AsRawHandle;
use std::ptr::{null, null_mut};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use windows_sys::Win32::Foundation::{
    CloseHandle, ERROR_ENVVAR_NOT_FOUND, ERROR_INSUFFICIENT_BUFFER, ERROR_MORE_DATA, HANDLE,
    INVALID_HANDLE_VALUE, LUID,
};
use windows_sys::Win32::Security::{
    AdjustTokenPrivileges, LUID_AND_ATTRIBUTES, LookupPrivilegeValueW, SE_PRIVILEGE_ENABLED,
    TOKEN_ADJUST_PRIVILEGES, TOKEN_PRIVILEGES,
};
use windows_sys::Win32::Storage::FileSystem::{
    FindFirstVolumeW, FindNextVolumeW, FindVolumeClose, GetDiskFreeSpaceExW, GetDiskFreeSpaceW,
    GetDriveTypeW, GetVolumeInformationW, GetVolumeNameForVolumeMountPointW, GetVolumePathNameW,
    GetVolumePathNamesForVolumeNameW,
};
use windows_sys::Win32::System::Console::{CTRL_BREAK_EVENT, CTRL_C_EVENT, SetConsoleCtrlHandler};
use windows_sys::Win32::System::IO::DeviceIoControl;
use windows_sys::Win32::System::LibraryLoader::{GetModuleHandleW, GetProcAddress};
use windows_sys::Win32::System::Power::{GetSystemPowerStatus, SYSTEM_POWER_STATUS};
use windows_sys::Win32::System::Registry::{HKEY_LOCAL_MACHINE, RRF_RT_REG_SZ, RegGetValueW};
use windows_sys::Win32::System::SystemInformation::{
    GetSystemFirmwareTable, GetSystemWindowsDirectoryW,
};
use windows_sys::Win32::System::Threading::{GetCurrentProcess, OpenProcessToken};

/// A path or a list of paths is not longer (32,767 characters).
const MAX_PATH_UNITS: usize = 1 << 15;
/// A variable longer than this is not read.
const MAX_VARIABLE_BYTES: usize = 1 << 20;
/// Volumes that are listed, at most.
const MAX_VOLUMES: usize = 1024;

/// A request to a device that reads or writes no memory but the buffers that go with it.
#[derive(Debug, Clone, Copy)]
#[repr(u32)]
enum Request {
    /// IOCTL_DISK_GET_DRIVE_GEOMETRY_EX
    Geometry = 0x0007_00A0,
    /// IOCTL_DISK_GET_LENGTH_INFO
    Length = 0x0007_405C,
    /// IOCTL_DISK_IS_WRITABLE
    IsWritable = 0x0007_0024,
    /// IOCTL_DISK_UPDATE_PROPERTIES
    UpdateProperties = 0x0007_0140,
    /// IOCTL_STORAGE_QUERY_PROPERTY
    QueryProperty = 0x002D_1400,
    /// IOCTL_STORAGE_GET_DEVICE_NUMBER
    DeviceNumber = 0x002D_1080,
    /// IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS
    VolumeExtents = 0x0056_0000,
    /// FSCTL_SET_SPARSE
    SetSparse = 0x0009_00C4,
    /// FSCTL_LOCK_VOLUME
    LockVolume = 0x0009_0018,
    /// FSCTL_DISMOUNT_VOLUME
    DismountVolume = 0x0009_0020,
}

fn control(device: &File, request: Request, input: &[u8], output: &mut [u8]) -> io::Result<usize> {
    let len = |bytes: &[u8]| u32::try_from(bytes.len()).map_err(io::Error::other);
    let (input_len, output_len) = (len(input)?, len(output)?);
    let mut returned = 0;
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the handle is open for the call; both buffers live through it and are as long as said; none of
    // the requests takes a pointer within its input; without an OVERLAPPED the call returns when it is done.
    let done = unsafe {
        DeviceIoControl(
            device.as_raw_handle(),
            request as u32,
            input.as_ptr().cast::<c_void>(),
            input_len,
            output.as_mut_ptr().cast::<c_void>(),
            output_len,
            &raw mut returned,
            null_mut(),
        )
    };
    ok(done)?;
    Ok((returned as usize).min(output.len()))
}

fn ok(done: i32) -> io::Result<()> {
    if done == 0 {
        Err(io::Error::last_os_error())
    } else {
        Ok(())
    }
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    let field = bytes.get(at..)?.first_chunk()?;
    Some(u32::from_le_bytes(*field))
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    let field = bytes.get(at..)?.first_chunk()?;
    Some(u64::from_le_bytes(*field))
}

fn short() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the answer is too short")
}

/// STORAGE_PROPERTY_QUERY for a standard query.
fn property(device: &File, id: u32, output: &mut [u8]) -> io::Result<usize> {
    let mut query = [0; 12];
    query[..4].copy_from_slice(&id.to_le_bytes());
    control(device, Request::QueryProperty, &query, output)
}

/// Sizes of a disk in bytes: logical sector, physical sector, the disk.
pub fn disk_sizes(disk: &File) -> io::Result<(u32, u32, u64)> {
    // DISK_GEOMETRY_EX: bytes per sector at 20, the disk's size at 24.
    let mut answer = [0; 256];
    let returned = control(disk, Request::Geometry, &[], &mut answer)?;
    let geometry = answer.get(..returned).ok_or_else(short)?;
    let logical = u32_at(geometry, 20).ok_or_else(short)?;
    let by_geometry = u64_at(geometry, 24).ok_or_else(short)?;
    // The size by geometry is rounded down by some drivers; the length is asked for with the right to read.
    let mut length = [0; 8];
    let len = match control(disk, Request::Length, &[], &mut length) {
        Ok(8) => u64::from_le_bytes(length),
        _ => by_geometry,
    };
    // STORAGE_ACCESS_ALIGNMENT_DESCRIPTOR: bytes per physical sector at 20.
    let mut alignment = [0; 32];
    let physical = match property(disk, 6, &mut alignment) {
        Ok(returned) if returned >= 24 => u32_at(&alignment, 20).unwrap_or(logical),
        _ => logical,
    };
    Ok((logical, physical.max(logical), len))
}

/// How a disk is connected (STORAGE_BUS_TYPE), and what it is called.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DiskIdentity {
    /// Kind of bus.
    pub bus: u32,
    /// Manufacturer and model, as far as it says.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
}

/// Asks a disk how it is connected and called.
pub fn disk_identity(disk: &File) -> io::Result<DiskIdentity> {
    // STORAGE_DEVICE_DESCRIPTOR: offsets of texts at 12 (vendor), 16 (product), 24 (serial); bus at 28.
    let mut answer = [0; 4096];
    let returned = property(disk, 0, &mut answer)?;
    let answer = answer.get(..returned).ok_or_else(short)?;
    let text = |field: usize| {
        let at = usize::try_from(u32_at(answer, field)?).ok()?;
        let rest = answer.get(at..).filter(|_| at != 0)?;
        let end = rest.iter().position(|&byte| byte == 0)?;
        let text = String::from_utf8_lossy(&rest[..end]);
        let text = text.trim();
        (!text.is_empty()).then(|| text.to_owned())
    };
    let model = match (text(12), text(16)) {
        (Some(vendor), Some(product)) => Some(format!("{vendor} {product}")),
        (vendor, product) => product.or(vendor),
    };
    Ok(DiskIdentity {
        bus: u32_at(answer, 28).ok_or_else(short)?,
        model,
        serial: text(24),
    })
}

/// The number of the disk that an opened device is, or is a part of; and the partition's number, 0 for the
/// disk itself.
pub fn device_number(device: &File) -> io::Result<(u32, u32)> {
    // STORAGE_DEVICE_NUMBER: kind of device at 0, number at 4, partition at 8.
    let mut answer = [0; 12];
    control(device, Request::DeviceNumber, &[], &mut answer)?;
    let field = |at| u32_at(&answer, at).ok_or_else(short);
    Ok((field(4)?, field(8)?))
}

/// Fails where a disk is protected from writing.
pub fn is_writable(disk: &File) -> io::Result<()> {
    control(disk, Request::IsWritable, &[], &mut []).map(drop)
}

/// Has the partition table of a disk read again.
pub fn read_partitions_again(disk: &File) -> io::Result<()> {
    control(disk, Request::UpdateProperties, &[], &mut []).map(drop)
}

/// Reads the SMART / Health Information log page of an NVMe drive. Fails on what is none.
pub fn nvme_health(disk: &File) -> io::Result<[u8; 512]> {
    const PAGE_BYTES: u32 = 512;
    // STORAGE_PROPERTY_QUERY of the protocol's own data (50) with STORAGE_PROTOCOL_SPECIFIC_DATA: NVMe (3), a log
    // page (2), health (2), sub-value, where the page comes in the answer, and its length; reserved.
    let protocol = [50, 0, 3, 2, 2, 0, 40, PAGE_BYTES, 0, 0, 0, 0];
    let query: Vec<u8> = protocol
        .iter()
        .flat_map(|word| word.to_le_bytes())
        .collect();
    // The answer has version and size in front of the protocol's data.
    let mut answer = [0; 8 + 40 + 512];
    let returned = control(disk, Request::QueryProperty, &query, &mut answer)?;
    let at = u32_at(&answer, 8 + 16).ok_or_else(short)? as usize;
    let page = answer
        .get(..returned)
        .and_then(|answer| answer.get(8 + at..));
    page.and_then(|page| page.first_chunk().copied())
        .ok_or_else(short)
}

/// Where a volume lies: number of the disk, first byte, and length.
pub fn volume_extents(volume: &File) -> io::Result<Vec<(u32, u64, u64)>> {
    // VOLUME_DISK_EXTENTS: a count, and from 8 on 24 bytes each: disk at 0, first byte at 8, length at 16.
    let mut answer = vec![0; 8 + 24 * 64];
    let returned = control(volume, Request::VolumeExtents, &[], &mut answer)?;
    let answer = answer.get(8..returned).unwrap_or_default();
    let extents = answer.chunks_exact(24);
    Ok(extents
        .filter_map(|one| Some((u32_at(one, 0)?, u64_at(one, 8)?, u64_at(one, 16)?)))
        .collect())
}

/// Asks the file system to keep no room for what is never written to a file.
pub fn leave_holes(file: &File) -> io::Result<()> {
    control(file, Request::SetSparse, &[], &mut []).map(drop)
}

/// Locks a volume and takes its file system off. Both hold as long as the handle is open.
pub fn lock_and_dismount(volume: &File) -> io::Result<()> {
    control(volume, Request::LockVolume, &[], &mut [])?;
    control(volume, Request::DismountVolume, &[], &mut []).map(drop)
}

fn wide(text: &str) -> Vec<u16> {
    text.encode_utf16().chain([0]).collect()
}

/// The text in front of the first 0.
fn narrow(units: &[u16]) -> String {
    let end = units.iter().position(|&unit| unit == 0);
    String::from_utf16_lossy(&units[..end.unwrap_or(units.len())])
}

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

/// A text in the registry of this machine.
pub fn machine_setting(key: &str, name: &str) -> Option<String> {
    let (key, name) = (wide(key), wide(name));
    let mut text = [0_u16; 512];
    let mut len = 1024;
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: both names end with 0; the buffer lives through the call and is as many bytes long as said.
    let error = unsafe {
        RegGetValueW(
            HKEY_LOCAL_MACHINE,
            key.as_ptr(),
            name.as_ptr(),
            RRF_RT_REG_SZ,
            null_mut(),
            text.as_mut_ptr().cast::<c_void>(),
            &raw mut len,
        )
    };
    (error == 0).then(|| narrow(&text))
}

/// A function of kernel32 that older systems, and stand-ins of Windows, may not have.
fn function(name: &std::ffi::CStr) -> Option<unsafe extern "system" fn() -> isize> {
    let library = wide("kernel32.dll");
    #[expect(unsafe_code, reason = "there is no safe form of these calls")]
    // SAFETY: both names end with 0, and the library is loaded as long as the process runs.
    unsafe {
        let library = GetModuleHandleW(library.as_ptr());
        GetProcAddress(library, name.as_ptr().cast())
    }
}

/// The firmware mode that this session was started in: `Some(true)` for UEFI, `None` where it is not said.
pub fn started_in_uefi_mode() -> Option<bool> {
    let found = function(c"GetFirmwareType")?;
    let mut kind = 0_u32;
    #[expect(unsafe_code, reason = "loaded at run time")]
    // SAFETY: the function of this name is BOOL GetFirmwareType(FIRMWARE_TYPE *) (winbase.h).
    let done = unsafe {
        let call: unsafe extern "system" fn(*mut u32) -> i32 = std::mem::transmute(found);
        call(&raw mut kind)
    };
    match (done, kind) {
        (0, _) => None,
        (_, 1) => Some(false),
        (_, 2) => Some(true),
        _ => None,
    }
}

/// Takes up the right to reach the firmware's variables, which only administrators have.
fn take_up_privilege() -> io::Result<()> {
    let name = wide("SeSystemEnvironmentPrivilege");
    let mut token: HANDLE = null_mut();
    let mut luid = LUID {
        LowPart: 0,
        HighPart: 0,
    };
    #[expect(unsafe_code, reason = "there is no safe form of these calls")]
    // SAFETY: what is pointed to lives through the calls, the name ends with 0, and the token is closed once.
    unsafe {
        ok(OpenProcessToken(
            GetCurrentProcess(),
            TOKEN_ADJUST_PRIVILEGES,
            &raw mut token,
        ))?;
        let mut done = ok(LookupPrivilegeValueW(null(), name.as_ptr(), &raw mut luid));
        if done.is_ok() {
            let wanted = TOKEN_PRIVILEGES {
                PrivilegeCount: 1,
                Privileges: [LUID_AND_ATTRIBUTES {
                    Luid: luid,
                    Attributes: SE_PRIVILEGE_ENABLED,
                }],
            };
            // It succeeds as well where nothing was given; reading the variable tells.
            done = ok(AdjustTokenPrivileges(
                token,
                0,
                &raw const wanted,
                0,
                null_mut(),
                null_mut(),
            ));
        }
        CloseHandle(token);
        done
    }
}

fn not_offered() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "this system does not show the firmware's variables",
    )
}

/// Reads a variable of the firmware: attributes and content; `None` where there is none of this name. `space` is
/// its GUID in braces. Fails in a session that was started in BIOS mode.
pub fn firmware_variable(name: &str, space: &str) -> io::Result<Option<(u32, Vec<u8>)>> {
    type Call = unsafe extern "system" fn(*const u16, *const u16, *mut u8, u32, *mut u32) -> u32;
    let found = function(c"GetFirmwareEnvironmentVariableExW").ok_or_else(not_offered)?;
    take_up_privilege()?;
    let (name, space) = (wide(name), wide(space));
    let mut data = vec![0; 4096];
    loop {
        let mut attributes = 0;
        let room = u32::try_from(data.len()).map_err(io::Error::other)?;
        #[expect(unsafe_code, reason = "loaded at run time")]
        // SAFETY: the function of this name has this form (winbase.h); names end with 0; the buffer lives through
        // the call and is as long as said.
        let len = unsafe {
            let call: Call = std::mem::transmute(found);
            call(
                name.as_ptr(),
                space.as_ptr(),
                data.as_mut_ptr(),
                room,
                &raw mut attributes,
            )
        };
        if len != 0 {
            data.truncate(len as usize);
            return Ok(Some((attributes, data)));
        }
        let error = io::Error::last_os_error();
        let code = error
            .raw_os_error()
            .and_then(|code| u32::try_from(code).ok());
        match code {
            Some(ERROR_ENVVAR_NOT_FOUND) => return Ok(None),
            Some(ERROR_INSUFFICIENT_BUFFER | ERROR_MORE_DATA)
                if data.len() < MAX_VARIABLE_BYTES =>
            {
                data.resize(data.len() * 4, 0);
            }
            _ => return Err(error),
        }
    }
}

/// Writes a variable of the firmware whole.
pub fn set_firmware_variable(
    name: &str,
    space: &str,
    attributes: u32,
    data: &[u8],
) -> io::Result<()> {
    type Call = unsafe extern "system" fn(*const u16, *const u16, *const u8, u32, u32) -> i32;
    let found = function(c"SetFirmwareEnvironmentVariableExW").ok_or_else(not_offered)?;
    take_up_privilege()?;
    let (name, space) = (wide(name), wide(space));
    let len = u32::try_from(data.len()).map_err(io::Error::other)?;
    #[expect(unsafe_code, reason = "loaded at run time")]
    // SAFETY: the function of this name has this form (winbase.h); names end with 0; the content lives through the
    // call and is as long as said.
    let done = unsafe {
        let call: Call = std::mem::transmute(found);
        call(
            name.as_ptr(),
            space.as_ptr(),
            data.as_ptr(),
            len,
            attributes,
        )
    };
    ok(done)
}

/// The SMBIOS table, without its entry point.
pub fn smbios_table() -> Option<Vec<u8>> {
    /// 'RSMB'
    const PROVIDER: u32 = 0x5253_4D42;
    /// RawSMBIOSData: four bytes of versions, and the table's length.
    const HEADER_BYTES: usize = 8;
    let mut bytes = vec![0; 1 << 20];
    let room = u32::try_from(bytes.len()).ok()?;
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the buffer lives through the call and is as long as said.
    let len = unsafe { GetSystemFirmwareTable(PROVIDER, 0, bytes.as_mut_ptr(), room) };
    bytes.truncate((len as usize).min(bytes.len()));
    let table_len = u32_at(&bytes, 4)? as usize;
    let table = bytes.get(HEADER_BYTES..)?;
    Some(table.get(..table_len).unwrap_or(table).to_vec())
}

/// Whether the PC runs on mains; `None` where it has no battery, or does not say.
pub fn on_mains() -> Option<bool> {
    const NO_BATTERY: u8 = 128;
    const NOT_KNOWN: u8 = 255;
    let mut status = SYSTEM_POWER_STATUS::default();
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: what is pointed to lives through the call.
    let done = unsafe { GetSystemPowerStatus(&raw mut status) };
    let has_battery = status.BatteryFlag != NOT_KNOWN && status.BatteryFlag & NO_BATTERY == 0;
    match status.ACLineStatus {
        _ if done == 0 => None,
        1 => Some(true),
        0 if has_battery => Some(false),
        _ => None,
    }
}

static STOP: OnceLock<Arc<AtomicBool>> = OnceLock::new();

/// How long a closing window leaves a program (five seconds, SetConsoleCtrlHandler), and longer.
const LONGER_THAN_ANY_CLOSING: Duration = Duration::from_secs(60);

extern "system" fn on_console_event(event: u32) -> i32 {
    if let Some(stop) = STOP.get() {
        stop.store(true, Ordering::Relaxed);
    }
    // When this returns after the others (a closed window, a log-off, a shutdown), the process is ended at once.
    // Until then the job may reach a place where stopping is clean.
    if event != CTRL_C_EVENT && event != CTRL_BREAK_EVENT {
        std::thread::sleep(LONGER_THAN_ANY_CLOSING);
    }
    1
}

/// From now on Ctrl-C, Ctrl-Break, a closed window, a log-off and a shutdown set `stop`.
pub fn heed_stops(stop: &Arc<AtomicBool>) {
    if STOP.set(Arc::clone(stop)).is_err() {
        return;
    }
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the handler is a function of the program; it touches an atomic number only.
    unsafe {
        // Without the handler the program ends at once, which a job survives as well.
        SetConsoleCtrlHandler(Some(on_console_event), 1);
    }
}
