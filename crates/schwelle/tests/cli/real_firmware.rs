//! Real UEFI firmware in an emulator, apart from the program's own way of starting it, which these tests judge.
//!
//! Nearly all of a start is the firmware's own preparation, which is the same for all disks of one size. So a machine is
//! started once up to its first read of a disk and its state saved; every other start goes on from there, with the disks
//! that are meant.

mod variables;

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use schwelle_testkit::{hash, tool};

pub(crate) use variables::{put, unpack};

use crate::support::Lab;

const FOLDER: &str = "/usr/share/OVMF";
const EMULATOR: &str = "qemu-system-x86_64";
/// Where the first disk is plugged in.
const FIRST_SLOT: usize = 8;
/// How long a start may take on a busy machine.
const PATIENCE: Duration = Duration::from_secs(180);
/// What is added to the console of a firmware that works on and says nothing more.
pub(crate) const HANGS: &str = "the firmware hangs";
/// The processor time after which one hangs: many times what a start takes, from a saved state and from power on.
const SAVED_MOST: Duration = Duration::from_secs(6);
const POWER_ON_MOST: Duration = Duration::from_secs(60);

/// One state is made at a time.
static MAKING: Mutex<()> = Mutex::new(());

/// A firmware with its variables.
pub(crate) struct Firmware {
    is_secure: bool,
    variables: PathBuf,
}

impl Firmware {
    /// Without Secure Boot.
    pub(crate) fn plain() -> Self {
        let variables = Path::new(FOLDER).join("OVMF_VARS_4M.fd");
        Self {
            is_secure: false,
            variables,
        }
    }

    /// With the keys in this file of variables, and Secure Boot on.
    pub(crate) fn with_keys(variables: &Path) -> Self {
        let variables = variables.to_owned();
        Self {
            is_secure: true,
            variables,
        }
    }

    /// Starts `image`, whose content stays as it is, until it ends or the firmware has said its last. What the serial
    /// console says.
    pub(crate) fn start(&self, lab: &Lab, image: &Path, sector: u32) -> String {
        let state = self.state(lab, image, sector);
        let mut command = self.machine(lab, &readable(&[image]), sector);
        command.args(["-incoming", &format!("exec:cat {}", state.display())]);
        until_the_last(lab, command, SAVED_MOST)
    }

    /// The same without a saved state, with several disks, which the firmware tries in this order. Each is named in what
    /// it says by [`device`].
    pub(crate) fn start_from_power_on(&self, lab: &Lab, images: &[&Path], sector: u32) -> String {
        let machine = self.machine(lab, &readable(images), sector);
        until_the_last(lab, machine, POWER_ON_MOST)
    }

    /// The saved state of a machine with a disk of this size. It is kept for later runs, under all that it depends on.
    fn state(&self, lab: &Lab, image: &Path, sector: u32) -> PathBuf {
        let len = fs::metadata(image).unwrap().len();
        let mut name = blake3::Hasher::new();
        name.update(include_bytes!("real_firmware.rs"));
        name.update(tool(EMULATOR, &["--version"]).stdout.as_bytes());
        for file in [&Path::new(FOLDER).join(self.code()), &self.variables] {
            name.update(hash(file).as_bytes());
        }
        name.update(format!("{len} {sector}").as_bytes());
        let states = Path::new(env!("CARGO_TARGET_TMPDIR")).join("firmware-states");
        let state = states.join(name.finalize().to_string());

        let _making = MAKING.lock().unwrap_or_else(PoisonError::into_inner);
        if !state.exists() {
            fs::create_dir_all(&states).unwrap();
            let new = lab.path("state");
            self.save_state(lab, len, sector, &new);
            // Whole before it has its name.
            let beside = state.with_extension(std::process::id().to_string());
            fs::copy(&new, &beside).unwrap();
            fs::rename(&beside, &state).unwrap();
            fs::remove_file(&new).unwrap();
        }
        state
    }

    /// Starts a machine with a disk of this size that cannot be read. The first read stops it, and is made anew when it
    /// goes on.
    fn save_state(&self, lab: &Lab, len: u64, sector: u32, state: &Path) {
        let fails = "inject-error.0.event=none,inject-error.0.iotype=read";
        let disk = format!(
            "driver=blkdebug,node-name=disk0,image.driver=null-co,image.size={len},{fails}"
        );
        let disk = ["-blockdev".to_owned(), disk];
        let mut command = self.machine(lab, &[disk], sector);
        command.args(["-qmp", "stdio"]).stdout(Stdio::piped());
        let mut emulator = Emulator::start(command);
        let mut lines = BufReader::new(emulator.0.stdout.take().unwrap()).lines();
        let mut wait_for = |word: &str| {
            let said = lines.find(|line| line.as_ref().unwrap().contains(word));
            assert!(said.is_some(), "the emulator ended before {word}");
        };
        let orders = emulator.0.stdin.as_mut().unwrap();
        writeln!(orders, r#"{{"execute": "qmp_capabilities"}}"#).unwrap();
        wait_for("STOP");
        let events = r#"{"capabilities": [{"capability": "events", "state": true}]}"#;
        writeln!(
            orders,
            r#"{{"execute": "migrate-set-capabilities", "arguments": {events}}}"#
        )
        .unwrap();
        let target = format!(r#"{{"uri": "exec:cat > {}"}}"#, state.display());
        writeln!(orders, r#"{{"execute": "migrate", "arguments": {target}}}"#).unwrap();
        wait_for("completed");
    }

    /// The firmware's program.
    fn code(&self) -> &'static str {
        match self.is_secure {
            true => "OVMF_CODE_4M.secboot.fd",
            false => "OVMF_CODE_4M.fd",
        }
    }

    /// The machine with these disks.
    fn machine(&self, lab: &Lab, disks: &[[String; 2]], sector: u32) -> Command {
        let variables = lab.path("variables.fd");
        fs::copy(&self.variables, &variables)
            .expect("tools/install-test-tools.sh brings the firmware");
        let mut command = Command::new(EMULATOR);
        let machine = if self.is_secure {
            "q35,smm=on,accel=tcg"
        } else {
            "q35,accel=tcg"
        };
        command.args(["-machine", machine, "-m", "256", "-nodefaults"]);
        command.args(["-display", "none", "-net", "none", "-no-reboot"]);
        // Without the countdown before a start.
        command.args(["-boot", "menu=on,splash-time=0"]);
        let code = format!(
            "if=pflash,format=raw,readonly=on,file={FOLDER}/{}",
            self.code()
        );
        let variables = format!("if=pflash,format=raw,file={}", variables.display());
        command.args(["-drive", &code, "-drive", &variables]);
        for (index, disk) in disks.iter().enumerate() {
            let slot = FIRST_SLOT + index;
            let device = format!(
                "virtio-blk-pci,drive=disk{index},bootindex={index},addr={slot:#x},rerror=stop"
            );
            let sizes = format!("logical_block_size={sector},physical_block_size={sector}");
            command
                .args(disk)
                .args(["-device", &format!("{device},{sizes}")]);
        }
        if self.is_secure {
            // Only the firmware itself may write its variables.
            command.args(["-global", "driver=cfi.pflash01,property=secure,value=on"]);
        }
        command.args(["-serial", &format!("file:{}", lab.path(SERIAL).display())]);
        command
    }
}

/// The file of the serial console.
const SERIAL: &str = "serial.txt";

/// The emulator; it ends when this goes out of sight.
struct Emulator(Child);

impl Emulator {
    fn start(mut command: Command) -> Self {
        let child = command.stdin(Stdio::piped()).spawn();
        Self(child.unwrap_or_else(|error| {
            panic!("{EMULATOR}: {error} (tools/install-test-tools.sh brings it)")
        }))
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

/// The options for disks with the content of these images. What is written to them is forgotten.
fn readable(images: &[&Path]) -> Vec<[String; 2]> {
    let disk = |(index, image): (usize, &&Path)| {
        let disk = format!(
            "if=none,id=disk{index},format=raw,snapshot=on,file={}",
            image.display()
        );
        ["-drive".to_owned(), disk]
    };
    images.iter().enumerate().map(disk).collect()
}

/// Runs the emulator until it ends, the firmware has said its last, or it has used so much processor time; what the
/// serial console says.
fn until_the_last(lab: &Lab, mut command: Command, most: Duration) -> String {
    let serial = lab.path(SERIAL);
    // What an earlier start said must not be taken for this one's.
    fs::remove_file(&serial).ok();
    command.args(["-monitor", "stdio"]).stdout(Stdio::null());
    let mut emulator = Emulator::start(command);
    let begun = Instant::now();
    loop {
        let said = fs::read(&serial).unwrap_or_default();
        let said = String::from_utf8_lossy(&said).into_owned();
        let ended = emulator.0.try_wait().unwrap();
        if ended.is_some() || said.lines().any(is_the_last) {
            assert!(
                ended.is_none_or(|status| status.success()),
                "{EMULATOR}: {ended:?}: {said}"
            );
            return said;
        }
        if used(emulator.0.id()) > most {
            return format!("{said}\n{HANGS}\n");
        }
        assert!(
            begun.elapsed() < PATIENCE,
            "the emulator did not end: {said}"
        );
        // A saved state that has been loaded stands still, as it was saved; to a running machine this is nothing.
        writeln!(emulator.0.stdin.as_mut().unwrap(), "cont").ok();
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// The processor time that a process has used; proc(5) counts it in hundredths of a second.
fn used(process: u32) -> Duration {
    let stat = fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    // The name, in brackets, may hold anything; utime and stime are the twelfth and thirteenth field after it.
    let fields = stat.rsplit_once(')').map_or("", |(_, fields)| fields);
    let ticks = fields.split_whitespace().skip(11).take(2);
    let ticks: u64 = ticks.filter_map(|ticks| ticks.parse::<u64>().ok()).sum();
    Duration::from_millis(ticks * 10)
}

/// True for the line that the firmware says when no disk is left: it starts a program of its own, or says that there is
/// nothing. A program that crashes takes it along.
fn is_the_last(line: &str) -> bool {
    line.contains("No bootable option or device was found")
        || line.contains("CPU Apic ID")
        || (line.starts_with("BdsDxe: starting") && line.contains(" from Fv("))
}

/// What the firmware calls a disk that it was started with.
pub(crate) fn device(index: usize) -> String {
    format!("/Pci({:#X},0x0)", FIRST_SLOT + index).replace("0X", "0x")
}
