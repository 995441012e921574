//! The one request to the kernel that no safe interface covers.

use std::io;
use std::os::fd::AsFd;

use rustix::ioctl::{NoArg, Opcode, ioctl, opcode};

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

#[cfg(test)]
mod tests {
    #[test]
    fn what_is_no_disk_is_refused() {
        let file = std::fs::File::open("/dev/null").expect("every Linux has it");
        assert!(super::read_partitions_again(&file).is_err());
    }
}
