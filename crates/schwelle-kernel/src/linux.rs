//! Requests to the Linux kernel.

use std::ffi::{CString, OsString, c_char};
use std::io;
use std::os::fd::AsFd;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use rustix::ioctl::{NoArg, Opcode, Updater, ioctl, opcode};
use rustix::rand::{GetRandomFlags, getrandom};

/// BLKRRPART, `_IO(0x12, 95)` (linux/fs.h).
const READ_PARTITIONS: Opcode = opcode::none(0x12, 95);

/// Asks the kernel to read the partition table of the block device `disk` again. Fails on what is
/// no disk, and while a partition of it is in use.
pub fn read_partitions_again(disk: impl AsFd) -> io::Result<()> {
    #[expect(unsafe_code, reason = "rustix has no safe form of this ioctl")]
    // SAFETY: BLKRRPART takes no argument, so the kernel touches no memory of ours.
    let done = unsafe { ioctl(disk, NoArg::<READ_PARTITIONS>::new()) };
    Ok(done?)
}

/// Bytes of a drive's health log page.
const HEALTH_BYTES: usize = 512;
/// NVME_IOCTL_ADMIN_CMD, `_IOWR('N', 0x41, struct nvme_admin_cmd)` (linux/nvme_ioctl.h).
const NVME_ADMIN: Opcode = opcode::read_write::<NvmeCommand>(b'N', 0x41);

/// `struct nvme_passthru_cmd` (linux/nvme_ioctl.h): 72 bytes.
#[repr(C)]
#[derive(Default)]
struct NvmeCommand {
    opcode: u8,
    flags: u8,
    reserved: u16,
    namespace: u32,
    words_2_3: [u32; 2],
    metadata: u64,
    data: u64,
    metadata_bytes: u32,
    data_bytes: u32,
    words_10_15: [u32; 6],
    timeout_ms: u32,
    result: u32,
}

const _: () = assert!(size_of::<NvmeCommand>() == 72);

/// Reads the SMART / Health Information log page of the NVMe drive `disk`, for which it only reads. Fails on
/// what is no NVMe drive, and without the right to ask.
pub fn nvme_health(disk: impl AsFd) -> io::Result<[u8; HEALTH_BYTES]> {
    const GET_LOG_PAGE: u8 = 0x02;
    const HEALTH: u32 = 0x02;
    const ALL_NAMESPACES: u32 = 0xFFFF_FFFF;
    // The length is given in 32-bit words, less one.
    const WORDS: u32 = 127;
    let mut page = [0_u8; HEALTH_BYTES];
    let mut command = NvmeCommand {
        opcode: GET_LOG_PAGE,
        namespace: ALL_NAMESPACES,
        data: page.as_mut_ptr() as u64,
        data_bytes: 512,
        words_10_15: [HEALTH | WORDS << 16, 0, 0, 0, 0, 0],
        timeout_ms: 5000,
        ..NvmeCommand::default()
    };
    #[expect(unsafe_code, reason = "rustix has no safe form of this ioctl")]
    // SAFETY: the command has the layout that the kernel expects (asserted above), and names `page`, which
    // lives until the call returns and is as long as the command says. The drive writes nothing else.
    let done = unsafe { ioctl(disk, Updater::<NVME_ADMIN, NvmeCommand>::new(&mut command)) };
    done?;
    Ok(page)
}

/// Fills `bytes` with random numbers, from the kernel itself: no file in `/dev` is needed.
pub fn random(bytes: &mut [u8; 16]) -> io::Result<()> {
    // The kernel gives so few bytes whole or not at all.
    getrandom(bytes, GetRandomFlags::empty())?;
    Ok(())
}

/// From now on Ctrl-C, and the signals of a closing terminal or a shutdown, set `stop`; a file that may not grow any
/// more is an error of that write, and ends nothing half-way.
pub fn heed_stops(stop: &Arc<AtomicBool>) {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
    signal_hook::flag::register(SIGXFSZ, Arc::default()).ok();
    for signal in [SIGINT, SIGTERM, SIGHUP] {
        // Without the handler the program ends at once, which a job survives as well.
        signal_hook::flag::register(signal, Arc::clone(stop)).ok();
    }
}

/// From now on this program leaves no image of its memory when it crashes, no other program of its user reads it, and what
/// it holds so far is not swapped out where the system lets it be locked.
pub fn keep_secrets() {
    use rustix::mm::{MlockAllFlags, mlockall};
    use rustix::process::{DumpableBehavior, Resource, Rlimit, set_dumpable_behavior, setrlimit};
    let none = Rlimit {
        current: Some(0),
        maximum: Some(0),
    };
    // Each is one more lock on a door: where one is refused, the others hold.
    setrlimit(Resource::Core, none).ok();
    set_dumpable_behavior(DumpableBehavior::NotDumpable).ok();
    mlockall(MlockAllFlags::CURRENT | MlockAllFlags::ONFAULT).ok();
}

/// Takes a variable out of this program's environment, where other programs of the same user and children could read it:
/// its value is overwritten in place. To be called before any other thread is there.
pub fn take_variable(name: &str) -> Option<OsString> {
    let value = std::env::var_os(name)?;
    #[expect(unsafe_code, reason = "the environment is one for all threads")]
    // SAFETY: the program has no other thread yet. The value that `getenv` gives ends with a zero, is the program's own to
    // write, and nothing else holds a reference to it.
    unsafe {
        if let Ok(name) = CString::new(name) {
            let mut at = getenv(name.as_ptr());
            while !at.is_null() && at.read() != 0 {
                at.write_volatile(0);
                at = at.add(1);
            }
        }
        std::env::remove_var(name);
    }
    Some(value)
}

#[expect(unsafe_code, reason = "the C library's function")]
unsafe extern "C" {
    fn getenv(name: *const c_char) -> *mut c_char;
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_program_with_secrets_leaves_no_image_of_its_memory() {
        super::keep_secrets();
        let core = rustix::process::getrlimit(rustix::process::Resource::Core);
        assert_eq!(core.current, Some(0));
        let dumpable = rustix::process::dumpable_behavior();
        assert_eq!(
            dumpable.expect("every Linux tells"),
            rustix::process::DumpableBehavior::NotDumpable
        );
    }

    #[test]
    fn what_is_no_disk_is_refused() {
        let file = std::fs::File::open("/dev/null").expect("every Linux has it");
        assert!(super::read_partitions_again(&file).is_err());
        assert!(super::nvme_health(&file).is_err());
    }
}
