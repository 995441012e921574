//! Finds the emulator, the programs that confine it, and the firmware.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use schwelle_core::firmware::BootMode;

const PROGRAM: &str = "qemu-system-x86_64";
/// Lets the emulator die with its parent, however that dies, and takes root's rights from it.
pub(super) const HELPER: &str = "setpriv";
/// Starts a program in namespaces of its own, which root may make where the kernel allows it: no network device, no mount
/// that others see, no shared memory.
const SEPARATOR: &str = "unshare";
pub(super) const NAMESPACES: [&str; 5] = ["--net", "--ipc", "--uts", "--mount", "--"];

/// Where distributions put the firmware: code, and the variables that go with it.
const FIRMWARE: [(&str, &str); 6] = [
    ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd"),
    ("OVMF_CODE.4m.fd", "OVMF_VARS.4m.fd"),
    ("OVMF_CODE.fd", "OVMF_VARS.fd"),
    ("ovmf-x86_64-code.bin", "ovmf-x86_64-vars.bin"),
    ("ovmf-x86_64-4m-code.bin", "ovmf-x86_64-4m-vars.bin"),
    ("edk2-x86_64-code.fd", "edk2-i386-vars.fd"),
];
const FIRMWARE_FOLDERS: [&str; 5] = [
    "/usr/share/OVMF",
    "/usr/share/edk2/ovmf",
    "/usr/share/edk2/x64",
    "/usr/share/ovmf/x64",
    "/usr/share/qemu",
];

/// What is missing on this machine.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Missing {
    /// The emulator.
    #[error("{PROGRAM} is not on this machine")]
    Program,
    /// The UEFI firmware for it.
    #[error("there is no UEFI firmware for the emulator in {0}")]
    Firmware(String),
}

/// The emulator and its firmware.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Emulator {
    pub(super) program: PathBuf,
    pub(super) helper: Option<PathBuf>,
    separator: Option<PathBuf>,
    /// Code and variables; `None` for a start in BIOS mode.
    pub(super) firmware: Option<(PathBuf, PathBuf)>,
}

impl Emulator {
    /// Looks for the emulator in the folders of programs, those that are named from the root on, and for the firmware
    /// that `mode` needs in `firmware`, or where distributions put it.
    pub fn find(
        programs: &[PathBuf],
        firmware: Option<&Path>,
        mode: BootMode,
    ) -> Result<Self, Missing> {
        let find = |name: &str| {
            let folders = programs.iter().filter(|folder| folder.is_absolute());
            let mut paths = folders.map(|folder| folder.join(name));
            paths.find(|path| path.is_file())
        };
        let program = find(PROGRAM).ok_or(Missing::Program)?;
        let firmware = match mode {
            BootMode::Bios => None,
            BootMode::Uefi | BootMode::Both => Some(find_firmware(firmware)?),
        };
        Ok(Self {
            program,
            helper: find(HELPER),
            separator: find(SEPARATOR),
            firmware,
        })
    }

    /// What starts the helper in namespaces of its own; `None` if that is not possible here.
    pub(super) fn separator(&self) -> Option<(&Path, &Path)> {
        let (separator, helper) = self.separator.as_deref().zip(self.helper.as_deref())?;
        let mut tried = Command::new(separator);
        let tried = tried
            .args(NAMESPACES)
            .arg(helper)
            .arg("--version")
            .env_clear();
        let tried = tried
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        // Whatever keeps it from starting keeps the namespaces from being made.
        let is_possible = tried.status().is_ok_and(|status| status.success());
        is_possible.then_some((separator, helper))
    }
}

fn find_firmware(folder: Option<&Path>) -> Result<(PathBuf, PathBuf), Missing> {
    let usual: Vec<&Path> = FIRMWARE_FOLDERS.iter().map(Path::new).collect();
    let folders = folder.map_or(usual, |folder| vec![folder]);
    for folder in &folders {
        for (code, variables) in FIRMWARE {
            let pair = (folder.join(code), folder.join(variables));
            if pair.0.is_file() && pair.1.is_file() {
                return Ok(pair);
            }
        }
    }
    let names: Vec<String> = folders
        .iter()
        .map(|folder| folder.display().to_string())
        .collect();
    Err(Missing::Firmware(names.join(", ")))
}
