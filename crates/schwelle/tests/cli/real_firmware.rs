//! Real UEFI firmware in an emulator: starting disks under it, and the variables that it keeps in a
//! file. Apart from the program's own way of doing that, which these tests judge.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::support::Lab;

const FOLDER: &str = "/usr/share/OVMF";

/// A firmware with its variables.
pub(crate) struct Firmware {
    secure: bool,
    variables: PathBuf,
}

impl Firmware {
    /// Without Secure Boot.
    pub(crate) fn plain() -> Self {
        let variables = Path::new(FOLDER).join("OVMF_VARS_4M.fd");
        Self {
            secure: false,
            variables,
        }
    }

    /// With the keys in this file of variables, and Secure Boot on.
    pub(crate) fn with_keys(variables: &Path) -> Self {
        let variables = variables.to_owned();
        Self {
            secure: true,
            variables,
        }
    }

    /// Starts `image`, as a snapshot, until it ends or the firmware has said its last; what the
    /// serial console says.
    pub(crate) fn start(&self, lab: &Lab, image: &Path, sector: u32) -> String {
        self.start_all(lab, &[image], sector)
    }

    /// The same with several disks, which the firmware tries in this order. Each is named in what it says by
    /// [`device`].
    pub(crate) fn start_all(&self, lab: &Lab, images: &[&Path], sector: u32) -> String {
        let variables = lab.path("variables.fd");
        fs::copy(&self.variables, &variables)
            .expect("tools/install-test-tools.sh brings the firmware");
        let serial = lab.path("serial.txt");
        // What an earlier start said must not be taken for this one's.
        fs::remove_file(&serial).ok();
        let (code, machine) = if self.secure {
            ("OVMF_CODE_4M.secboot.fd", "q35,smm=on,accel=tcg")
        } else {
            ("OVMF_CODE_4M.fd", "q35,accel=tcg")
        };
        let mut command = Command::new("qemu-system-x86_64");
        command.args([
            "-machine",
            machine,
            "-m",
            "256",
            "-nodefaults",
            "-display",
            "none",
        ]);
        command.args(["-net", "none", "-no-reboot", "-monitor", "none"]);
        // Without the countdown before a start.
        command.args(["-boot", "menu=on,splash-time=0"]);
        let pflash = format!("if=pflash,format=raw,readonly=on,file={FOLDER}/{code}");
        command.args(["-drive", &pflash]);
        let pflash = format!("if=pflash,format=raw,file={}", variables.display());
        command.args(["-drive", &pflash]);
        for (index, image) in images.iter().enumerate() {
            let disk = format!(
                "if=none,id=disk{index},format=raw,snapshot=on,file={}",
                image.display()
            );
            let device = format!(
                "virtio-blk-pci,drive=disk{index},bootindex={index},addr={:#x},logical_block_size={sector},\
                 physical_block_size={sector}",
                FIRST_SLOT + index
            );
            command.args(["-drive", &disk, "-device", &device]);
        }
        if self.secure {
            // Only the firmware itself may write its variables.
            command.args(["-global", "driver=cfi.pflash01,property=secure,value=on"]);
        }
        command.args(["-serial", &format!("file:{}", serial.display())]);
        let child = command.stdin(Stdio::null()).spawn();
        let mut child = child.unwrap_or_else(|error| {
            panic!("qemu-system-x86_64: {error} (tools/install-test-tools.sh brings it)")
        });
        let begun = Instant::now();
        loop {
            let said = fs::read(&serial).unwrap_or_default();
            let said = String::from_utf8_lossy(&said).into_owned();
            // When no disk is left, it starts a program of its own, or says that there is nothing. A program that
            // crashes takes it along.
            let mut lines = said.lines();
            let is_last = |line: &str| {
                line.contains("No bootable option or device was found")
                    || line.contains("CPU Apic ID")
                    || (line.starts_with("BdsDxe: starting") && line.contains(" from Fv("))
            };
            let is_over = child.try_wait().unwrap().is_some() || lines.any(is_last);
            if is_over || begun.elapsed() > Duration::from_secs(180) {
                child.kill().unwrap();
                child.wait().unwrap();
                assert!(is_over, "the emulator did not end: {said}");
                return said;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

/// Where the first disk is plugged in.
const FIRST_SLOT: usize = 8;

/// What the firmware calls a disk that it was started with.
pub(crate) fn device(index: usize) -> String {
    format!("/Pci({:#X},0x0)", FIRST_SLOT + index).replace("0X", "0x")
}

/// A variable in the firmware's file: its header (60 bytes: signature, state, attributes, count, time, key,
/// lengths, namespace), its name, its content (EDK II, `VariableFormat.h`, authenticated form).
struct Stored {
    at: usize,
    name: String,
    space: uuid::Uuid,
    attributes: u32,
    data: Vec<u8>,
}

const HEAD: usize = 60;
const IN_USE: u8 = 0x3F;
const DELETED: u8 = 0x3D;

/// Where the variables begin: after the headers of the volume and of the store.
fn begin(file: &[u8]) -> usize {
    assert_eq!(&file[40..44], b"_FVH");
    usize::from(u16::from_le_bytes([file[48], file[49]])) + 28
}

/// The variables in use, and where the free space begins.
fn stored(file: &[u8]) -> (Vec<Stored>, usize) {
    let u32_at = |at: usize| u32::from_le_bytes(file[at..at + 4].try_into().unwrap());
    let (mut found, mut at) = (Vec::new(), begin(file));
    while file[at..at + 2] == [0xAA, 0x55] {
        let (name, data) = (u32_at(at + 36) as usize, u32_at(at + 40) as usize);
        let end = at + HEAD + name + data;
        if file[at + 2] == IN_USE {
            let units = file[at + HEAD..at + HEAD + name - 2].chunks(2);
            let units: Vec<u16> = units
                .map(|unit| u16::from_le_bytes([unit[0], unit[1]]))
                .collect();
            found.push(Stored {
                at,
                name: String::from_utf16(&units).unwrap(),
                space: uuid::Uuid::from_slice_le(&file[at + 44..at + 60]).unwrap(),
                attributes: u32_at(at + 4),
                data: file[end - data..end].to_vec(),
            });
        }
        at = end.next_multiple_of(4);
    }
    (found, at)
}

/// Puts the firmware's variables into a folder, a file each, as Linux shows them.
pub(crate) fn unpack(file: &Path, folder: &Path) {
    fs::create_dir(folder).unwrap();
    for variable in stored(&fs::read(file).unwrap()).0 {
        let name = format!("{}-{}", variable.name, variable.space);
        let content = [&variable.attributes.to_le_bytes()[..], &variable.data].concat();
        fs::write(folder.join(name), content).unwrap();
    }
}

/// Gives a variable in the firmware's file another content; one that is not there comes to be.
pub(crate) fn put(file: &Path, name: &str, space: uuid::Uuid, data: &[u8]) {
    let mut bytes = fs::read(file).unwrap();
    let (variables, mut at) = stored(&bytes);
    for old in variables
        .iter()
        .filter(|old| old.name == name && old.space == space)
    {
        bytes[old.at + 2] = DELETED;
    }
    let utf16: Vec<u8> = name
        .encode_utf16()
        .chain([0])
        .flat_map(u16::to_le_bytes)
        .collect();
    let mut head = [0; HEAD];
    head[..3].copy_from_slice(&[0xAA, 0x55, IN_USE]);
    // Lasting, readable always, written only with a signature.
    head[4] = 0x27;
    head[36..40].copy_from_slice(&u32::try_from(utf16.len()).unwrap().to_le_bytes());
    head[40..44].copy_from_slice(&u32::try_from(data.len()).unwrap().to_le_bytes());
    head[44..60].copy_from_slice(&space.to_bytes_le());
    for part in [&head[..], &utf16, data] {
        assert!(
            bytes[at..at + part.len()].iter().all(|&byte| byte == 0xFF),
            "no free space"
        );
        bytes[at..at + part.len()].copy_from_slice(part);
        at += part.len();
    }
    fs::write(file, bytes).unwrap();
}
