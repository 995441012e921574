//! What a BIOS runs from sector 0: programs of our own. Sources beside them.

/// For someone who starts a GPT disk in BIOS mode: says what has happened and what to change, then goes
/// on to the firmware's next boot device.
const SIGNPOST: &[u8] = include_bytes!("signpost/signpost.bin");
/// Goes on to the boot record of the active partition.
const ACTIVE: &[u8] = include_bytes!("boot-code/active.bin");
/// Of a data disk, from which nothing ever started: gives back to the BIOS, which goes on to its next boot
/// device (`int 18h`), and halts where that comes back (`hlt`, in a loop).
const PASS_ON: &[u8] = &[0xCD, 0x18, 0xF4, 0xEB, 0xFD];

/// Bytes of boot code in a boot record (UEFI 2.10 table 5.1).
pub(super) const CODE_BYTES: usize = 440;

/// What a disk does when a BIOS starts it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BiosStart {
    /// Says that the disk is GPT now, and what to change.
    Signpost,
    /// Gives back to the BIOS at once.
    PassOn,
    /// Starts from the active partition.
    ActivePartition,
}

impl BiosStart {
    /// The code, as it stands at the start of sector 0.
    pub(super) fn code(self) -> [u8; CODE_BYTES] {
        let program = match self {
            Self::Signpost => SIGNPOST,
            Self::PassOn => PASS_ON,
            Self::ActivePartition => ACTIVE,
        };
        let mut code = [0; CODE_BYTES];
        code.iter_mut()
            .zip(program)
            .for_each(|(to, from)| *to = *from);
        code
    }

    /// Which of ours this code is.
    pub(super) fn of(code: &[u8; CODE_BYTES]) -> Option<Self> {
        let all = [Self::Signpost, Self::PassOn, Self::ActivePartition];
        all.into_iter().find(|start| start.code() == *code)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_program_fits_and_is_known_again() {
        for (start, program) in [
            (BiosStart::Signpost, SIGNPOST),
            (BiosStart::PassOn, PASS_ON),
            (BiosStart::ActivePartition, ACTIVE),
        ] {
            assert!(program.len() <= CODE_BYTES);
            let mut code = start.code();
            assert!(code.starts_with(program));
            assert_eq!(BiosStart::of(&code), Some(start));
            code[0] ^= 1;
            assert_eq!(BiosStart::of(&code), None);
        }
    }
}
