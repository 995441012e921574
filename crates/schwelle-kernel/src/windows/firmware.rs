//! The firmware: how it started this session, its variables, its SMBIOS table.

use std::ffi::c_void;
use std::io;
use std::ptr::{null, null_mut};

use windows_sys::Win32::Foundation::{
    CloseHandle, ERROR_ENVVAR_NOT_FOUND, ERROR_INSUFFICIENT_BUFFER, ERROR_MORE_DATA, HANDLE, LUID,
};
use windows_sys::Win32::Security::{
    AdjustTokenPrivileges, LUID_AND_ATTRIBUTES, LookupPrivilegeValueW, SE_PRIVILEGE_ENABLED,
    TOKEN_ADJUST_PRIVILEGES, TOKEN_PRIVILEGES,
};
use windows_sys::Win32::System::LibraryLoader::{GetModuleHandleW, GetProcAddress};
use windows_sys::Win32::System::Registry::{HKEY_LOCAL_MACHINE, RRF_RT_REG_SZ, RegGetValueW};
use windows_sys::Win32::System::SystemInformation::GetSystemFirmwareTable;
use windows_sys::Win32::System::Threading::{GetCurrentProcess, OpenProcessToken};

use super::{narrow, ok, u32_at, wide};

/// A variable longer than this is not read.
const MAX_VARIABLE_BYTES: usize = 1 << 20;

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
