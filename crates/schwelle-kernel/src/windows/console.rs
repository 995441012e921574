//! The session: its power supply, random numbers, and what asks the program to end.

use std::ffi::OsString;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use windows_sys::Win32::System::Console::{CTRL_BREAK_EVENT, CTRL_C_EVENT, SetConsoleCtrlHandler};
use windows_sys::Win32::System::Diagnostics::Debug::{
    SEM_FAILCRITICALERRORS, SEM_NOGPFAULTERRORBOX, SetErrorMode,
};
use windows_sys::Win32::System::ErrorReporting::{WER_FAULT_REPORTING_FLAG_NOHEAP, WerSetFlags};
use windows_sys::Win32::System::Power::{GetSystemPowerStatus, SYSTEM_POWER_STATUS};

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

/// Fills `bytes` with random numbers.
pub fn random(bytes: &mut [u8; 16]) -> io::Result<()> {
    getrandom::fill(bytes).map_err(|error| io::Error::other(error.to_string()))
}

/// What a request to end the program sets: the flag of the job under way.
static STOP: Mutex<Option<Arc<AtomicBool>>> = Mutex::new(None);

/// How long a closing window leaves a program (five seconds, SetConsoleCtrlHandler), and longer.
const LONGER_THAN_ANY_CLOSING: Duration = Duration::from_secs(60);

extern "system" fn on_console_event(event: u32) -> i32 {
    if let Some(stop) = &*STOP.lock().unwrap_or_else(PoisonError::into_inner) {
        stop.store(true, Ordering::Relaxed);
    }
    // After a closed window, a log-off or a shutdown the process is ended as soon as this returns. Until then the
    // job may reach a place where stopping is clean.
    if event != CTRL_C_EVENT && event != CTRL_BREAK_EVENT {
        std::thread::sleep(LONGER_THAN_ANY_CLOSING);
    }
    1
}

/// From now on Ctrl-C, Ctrl-Break, a closed window, a log-off and a shutdown set `stop`.
pub fn heed_stops(stop: &Arc<AtomicBool>) {
    let before = STOP
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .replace(Arc::clone(stop));
    if before.is_some() {
        return;
    }
    #[expect(unsafe_code, reason = "there is no safe form of this call")]
    // SAFETY: the handler is a function of the program; it touches an atomic number only.
    unsafe {
        // Without the handler the program ends at once, which a job survives as well.
        SetConsoleCtrlHandler(Some(on_console_event), 1);
    }
}

/// From now on this program leaves no image of its memory when it crashes: no window that offers one, no report with it.
pub fn keep_secrets() {
    #[expect(unsafe_code, reason = "there is no safe form")]
    // SAFETY: both take and give back numbers only.
    unsafe {
        SetErrorMode(SEM_FAILCRITICALERRORS | SEM_NOGPFAULTERRORBOX);
        // One more lock on the same door.
        WerSetFlags(WER_FAULT_REPORTING_FLAG_NOHEAP);
    }
}

/// Takes a variable out of this program's environment, where its children could read it. To be called before any other
/// thread is there.
pub fn take_variable(name: &str) -> Option<OsString> {
    let value = std::env::var_os(name)?;
    #[expect(unsafe_code, reason = "the environment is one for all threads")]
    // SAFETY: the program has no other thread yet.
    unsafe {
        std::env::remove_var(name);
    }
    Some(value)
}
