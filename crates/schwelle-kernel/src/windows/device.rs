//! What is asked of devices: disks and volumes.

use std::ffi::c_void;
use std::fs::File;
use std::io;
use std::os::windows::io::AsRawHandle;
use std::ptr::null_mut;

use windows_sys::Win32::System::IO::DeviceIoControl;

use super::{ok, u32_at, u64_at};

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
    // The answer has version and size before the protocol's data.
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
