//! Starting the emulator, watching it, and bringing it to an end in any case.
//!
//! It runs what may lie on anybody's disk. So it gets the disk as an opened file that it can only read, a folder of its own
//! for everything else, a user without rights where this program is root, namespaces of its own where the kernel allows
//! them, a filter for system calls, and no network; and what it leaves in its folder is read without following links.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};

use serde_json::{Value, json};

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::find::{Emulator, HELPER, NAMESPACES};
use super::qcow2::{Backing, write_overlay};
use super::screen::Picture;
use schwelle_core::device::{Extent, Lba, ReadDevice};
use schwelle_core::firmware::BootMode;
use schwelle_core::host::{HeldFolder, this_pc};

/// The system calls that it needs: no other programs, no other user.
const SANDBOX: &str = "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny";

/// Environment variables passed on to the emulator: where programs and their libraries are.
const KEPT_VARIABLES: [&str; 2] = ["PATH", "SystemRoot"];

/// Its files, in its folder.
const OVERLAY: &str = "overlay.qcow2";
const CODE: &str = "code.fd";
const VARIABLES: &str = "variables.fd";
const CONSOLE: &str = "console.log";
const READS: &str = "reads.log";
const DUMP: &str = "screen.ppm";
const ERRORS: &str = "errors.log";

/// The firmware says this on its console when it has nothing left to try.
const NOTHING_LEFT: &str = "No bootable option or device was found";
/// And this when it goes over to a program of its own: file by name, volume inside the firmware.
const OWN_PROGRAM: (&str, &str) = ("BdsDxe: starting ", " from Fv(");
/// A console log longer than this is cut.
const MAX_SERIAL: usize = 1 << 20;
/// Reads that are kept; a start takes some thousands.
const MAX_READS: usize = 1 << 20;
/// The log of reads is read up to this length.
const MAX_READS_LOG: u64 = 128 << 20;
/// How often the console is looked at.
const TICK: Duration = Duration::from_millis(200);
/// How long the emulator may take to answer.
const PATIENCE: Duration = Duration::from_secs(10);

/// The emulator did not do its work.
#[derive(Debug, thiserror::Error)]
pub enum EmulatorError {
    /// Its files could not be made or read.
    #[error("the emulator's files: {0}")]
    Io(#[from] io::Error),
    /// It would not start, or ended by itself; what it said.
    #[error("the emulator ended by itself: {0}")]
    Died(String),
    /// The disk was changed while it was started.
    #[error("the disk has been changed while the emulator ran")]
    DiskChanged,
}

/// How a start ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Ending {
    /// The guest switched itself off, or restarted.
    Off,
    /// The firmware had nothing left to start.
    NothingLeft,
    /// The time was over.
    Limit,
}

/// What happened.
#[derive(Debug, Clone)]
pub struct Record {
    /// How it ended.
    pub ending: Ending,
    /// What was on the console, without the codes that place it on a screen.
    pub console: String,
    /// Sectors that were read, in order, in the disk's own sectors.
    pub reads: Vec<Extent>,
    /// The last screen on which something was to be seen, PNG.
    pub screen: Option<Vec<u8>>,
    /// How long it took.
    pub took: Duration,
    /// The emulator ran in namespaces of its own.
    pub is_separate: bool,
}

/// A start to be made.
#[derive(Debug)]
pub struct Start<'a> {
    /// The disk, as it lies there.
    pub disk: &'a Path,
    /// What the guest shall see: the disk, or the draft above it.
    pub draft: &'a dyn ReadDevice,
    /// The sectors in which the draft differs; none for the disk itself.
    pub changed: Vec<Extent>,
    /// How it is started.
    pub mode: BootMode,
    /// When it is ended.
    pub limit: Duration,
    /// A folder for the emulator's files, empty and with room for the draft's changes.
    pub work: &'a Path,
}

impl Start<'_> {
    /// Starts the disk in the emulator and waits for its end, at most until the limit.
    pub fn run(&self, emulator: &Emulator) -> Result<Record, EmulatorError> {
        let path = self.disk.canonicalize()?;
        let disk = File::open(&path)?;
        let before = fingerprint(&disk)?;
        let geometry = self.draft.geometry();
        // What is to be seen on the guest's screen is the customer's as well.
        let folder: Arc<dyn HeldFolder> = this_pc().make_private_folder(self.work)?.into();
        let backing = Backing {
            path: &path,
            geometry,
        };
        let overlay = folder.create(OVERLAY)?;
        write_overlay(overlay, &backing, self.draft, self.changed.iter().copied())?;
        if let Some((code, variables)) = &emulator.firmware {
            for (from, name) in [(code, CODE), (variables, VARIABLES)] {
                io::copy(&mut File::open(from)?, &mut folder.create(name)?)?;
            }
        }

        let begun = Instant::now();
        let separator = emulator.separator();
        let is_separate = separator.is_some();
        let command = self.command(emulator, separator, &disk)?;
        let mut guest = Guest::start(command, folder.clone())?;
        let ending = guest.watch(begun + self.limit)?;
        let took = begun.elapsed();
        let screen = guest.shown.take().and_then(|shown| shown.png().ok());
        let console = match &emulator.firmware {
            Some(_) => console_text(&*guest.folder),
            // A BIOS has its console on the screen, in text mode.
            None => guest.text_on_screen().unwrap_or_default(),
        };
        drop(guest);
        if fingerprint(&disk)? != before {
            return Err(EmulatorError::DiskChanged);
        }
        Ok(Record {
            ending,
            console,
            reads: reads(folder.open(READS, false)?, geometry.logical_sector)?,
            screen,
            took,
            is_separate,
        })
    }

    /// The emulator's command line. Names of files are those in its folder, where it is started: it may not be able to
    /// go there by a path.
    fn command(
        &self,
        emulator: &Emulator,
        separator: Option<(&Path, &Path)>,
        disk: &File,
    ) -> io::Result<Command> {
        let mut command = match &emulator.helper {
            Some(helper) => {
                let mut command = match separator {
                    Some((separator, helper)) => {
                        let mut command = Command::new(separator);
                        command.args(NAMESPACES).arg(helper);
                        command
                    }
                    None => Command::new(helper),
                };
                command.args(["--pdeathsig", "KILL", "--no-new-privs"]);
                if let Some(user) = this_pc().give_to_powerless(self.work) {
                    let user = user.to_string();
                    command.args(["--reuid", &user, "--regid", &user, "--clear-groups"]);
                    command.args(["--inh-caps", "-all", "--bounding-set", "-all"]);
                }
                command.arg("--").arg(&emulator.program);
                command
            }
            // Only root can give the folder away: it would stay root.
            None if this_pc().give_to_powerless(self.work).is_some() => {
                return Err(io::Error::other(format!(
                    "{HELPER} is missing, without which the emulator would run as root"
                )));
            }
            None => Command::new(&emulator.program),
        };
        // A variable may hold a recovery password, and the guest is not trusted.
        command.env_clear();
        let kept = KEPT_VARIABLES.iter();
        command.envs(kept.filter_map(|name| Some((name, std::env::var_os(name)?))));
        command.current_dir(self.work);
        let machine = if emulator.firmware.is_some() {
            "q35"
        } else {
            "pc"
        };
        command.args(["-machine", &format!("{machine},accel=tcg"), "-m", "512"]);
        command.args(["-nodefaults", "-nic", "none", "-sandbox", SANDBOX]);
        command.args(["-vga", "std", "-display", "none", "-qmp", "stdio"]);
        // A guest that switches off or restarts stays, for a look at its screen.
        command.args(["-no-reboot", "-no-shutdown"]);
        if emulator.firmware.is_some() {
            // There is no one to press a key: no countdown.
            command.args(["-boot", "menu=on,splash-time=0"]);
            for (access, name) in [("readonly=on,", CODE), ("", VARIABLES)] {
                command.args([
                    "-drive",
                    &format!("if=pflash,format=raw,{access}file={name}"),
                ]);
            }
        }
        let path = match this_pc().hand_down(disk) {
            Some(number) => {
                command.args(["-add-fd", &format!("fd={number},set=1")]);
                "/dev/fdset/1".to_owned()
            }
            None => quoted(&self.disk.canonicalize()?),
        };
        let driver = match disk.metadata()?.is_file() {
            true => "file",
            false => "host_device",
        };
        command.args([
            "-blockdev",
            &format!("driver={driver},node-name=base,read-only=on,filename={path}"),
            "-blockdev",
            &format!(
                "driver=qcow2,node-name=disk,backing=base,file.driver=file,file.filename={OVERLAY}"
            ),
        ]);
        let sector = self.draft.geometry().logical_sector;
        let sizes = format!("logical_block_size={sector},physical_block_size={sector}");
        command.args([
            "-device",
            &format!("virtio-blk-pci,drive=disk,bootindex=0,{sizes}"),
        ]);
        command.args(["-serial", &format!("file:{CONSOLE}")]);
        command.args([
            "-trace",
            &format!("enable=virtio_blk_handle_read,file={READS}"),
        ]);
        Ok(command)
    }
}

/// A path in an option, in which a comma must be written twice.
fn quoted(path: &Path) -> String {
    path.display().to_string().replace(',', ",,")
}

/// The running emulator; it ends when this goes out of sight.
struct Guest {
    child: Child,
    orders: ChildStdin,
    answers: Receiver<Value>,
    /// It has said that the guest is off.
    is_off: bool,
    /// The last screen on which something was to be seen.
    shown: Option<Picture>,
    folder: Arc<dyn HeldFolder>,
}

impl Drop for Guest {
    fn drop(&mut self) {
        // Already ended is as good.
        self.child.kill().ok();
        self.child.wait().ok();
    }
}

impl Guest {
    fn start(mut command: Command, folder: Arc<dyn HeldFolder>) -> Result<Self, EmulatorError> {
        let errors = folder.create(ERRORS)?;
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(errors)
            .spawn()?;
        let pipes = child.stdin.take().zip(child.stdout.take());
        let (orders, output) = pipes.ok_or_else(|| io::Error::other("no pipes"))?;
        let (send, answers) = channel();
        std::thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                let Ok(value) = serde_json::from_str(&line) else {
                    continue;
                };
                if send.send(value).is_err() {
                    break;
                }
            }
        });
        let mut guest = Self {
            child,
            orders,
            answers,
            is_off: false,
            shown: None,
            folder,
        };
        guest.order(&json!({"execute": "qmp_capabilities"}))?;
        Ok(guest)
    }

    /// Waits until the guest is off, has nothing left, or the time is over; and looks at its screen all the
    /// while, since a firmware clears it before it goes on to the next device.
    fn watch(&mut self, until: Instant) -> Result<Ending, EmulatorError> {
        let mut answers = true;
        loop {
            let ending = if self.is_off {
                Some(Ending::Off)
            } else if is_nothing_left(&console_text(&*self.folder)) {
                Some(Ending::NothingLeft)
            } else if Instant::now() >= until {
                Some(Ending::Limit)
            } else {
                None
            };
            // One that does not answer is not asked again: each time would take all patience.
            answers = answers && self.dump_screen().is_ok();
            if let Some(ending) = ending {
                return Ok(ending);
            }
            match self.answers.recv_timeout(TICK) {
                Ok(message) => self.hear(&message),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Err(self.death()),
            }
        }
    }

    /// Takes in what the emulator says unasked.
    fn hear(&mut self, message: &Value) {
        self.is_off |= message["event"] == "SHUTDOWN";
    }

    /// The text on a screen in text mode, read from its memory (VGA: 80 by 25 cells of character and
    /// colour at B8000h).
    fn text_on_screen(&mut self) -> Result<String, EmulatorError> {
        let arguments = json!({"command-line": "xp /4000xb 0xb8000"});
        let dump =
            self.order(&json!({"execute": "human-monitor-command", "arguments": arguments}))?;
        let dump = dump.as_str().unwrap_or_default();
        let bytes = dump
            .lines()
            .filter_map(|line| line.split_once(':'))
            .flat_map(|(_, bytes)| {
                let bytes = bytes.split_whitespace();
                bytes.filter_map(|byte| u8::from_str_radix(byte.strip_prefix("0x")?, 16).ok())
            });
        let characters: Vec<char> = bytes.step_by(2).map(char::from).collect();
        let lines = characters.chunks(80).map(|line| {
            let line: String = line
                .iter()
                .map(|c| if c.is_ascii_graphic() { *c } else { ' ' })
                .collect();
            line.trim_end().to_owned()
        });
        let lines: Vec<String> = lines.filter(|line| !line.is_empty()).collect();
        Ok(lines.join("\n"))
    }

    /// Looks at the screen, and keeps what is to be seen.
    fn dump_screen(&mut self) -> Result<(), EmulatorError> {
        let arguments = json!({"filename": DUMP});
        self.order(&json!({"execute": "screendump", "arguments": arguments}))?;
        let picture = self.folder.open(DUMP, false).and_then(Picture::read).ok();
        if let Some(picture) = picture.filter(Picture::shows_something) {
            self.shown = Some(picture);
        }
        Ok(())
    }

    /// Gives an order and waits for its answer.
    fn order(&mut self, order: &Value) -> Result<Value, EmulatorError> {
        if writeln!(self.orders, "{order}").is_err() {
            return Err(self.death());
        }
        let until = Instant::now() + PATIENCE;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            match self.answers.recv_timeout(left) {
                Ok(mut answer) if answer.get("return").is_some() => {
                    return Ok(answer["return"].take());
                }
                Ok(answer) if answer.get("error").is_some() => {
                    let text = answer["error"]["desc"].as_str().unwrap_or_default();
                    return Err(EmulatorError::Died(text.to_owned()));
                }
                Ok(message) => self.hear(&message),
                Err(RecvTimeoutError::Timeout) => {
                    return Err(EmulatorError::Died("it does not answer".to_owned()));
                }
                Err(RecvTimeoutError::Disconnected) => return Err(self.death()),
            }
        }
    }

    /// The emulator has ended by itself; what it said last.
    fn death(&mut self) -> EmulatorError {
        let said = start_of(&*self.folder, ERRORS);
        let said = String::from_utf8_lossy(&said);
        let last = said.lines().rev().find(|line| !line.trim().is_empty());
        EmulatorError::Died(last.unwrap_or("it said nothing").to_owned())
    }
}

/// True when the firmware will not come back to the disk.
fn is_nothing_left(console: &str) -> bool {
    let (starting, from) = OWN_PROGRAM;
    let mut lines = console.lines();
    lines.any(|line| {
        line.contains(NOTHING_LEFT) || (line.starts_with(starting) && line.contains(from))
    })
}

/// What a disk is known by while the emulator runs: length and time of an image; of a real disk, which has
/// no such time, the content of its first and last MiB.
fn fingerprint(mut disk: &File) -> io::Result<(u64, Option<SystemTime>, Option<blake3::Hash>)> {
    const PROBE: u64 = 1 << 20;
    let about = disk.metadata()?;
    if about.is_file() {
        return Ok((about.len(), Some(about.modified()?), None));
    }
    let len = disk.seek(SeekFrom::End(0))?;
    let mut hasher = blake3::Hasher::new();
    for from in [0, len.saturating_sub(PROBE)] {
        disk.seek(SeekFrom::Start(from))?;
        hasher.update_reader(disk.take(PROBE))?;
    }
    Ok((len, None, Some(hasher.finalize())))
}

/// The beginning of one of the emulator's files; empty where it cannot be read.
fn start_of(folder: &dyn HeldFolder, name: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    if let Ok(file) = folder.open(name, false) {
        file.take(MAX_SERIAL as u64).read_to_end(&mut bytes).ok();
    }
    bytes
}

/// The console's text: lines without control sequences.
fn console_text(folder: &dyn HeldFolder) -> String {
    let bytes = start_of(folder, CONSOLE);
    let text = String::from_utf8_lossy(&bytes);
    let mut plain = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match c {
            // ESC [ parameters, up to a letter (ECMA-48 §5.4).
            '\x1b' => {
                chars.by_ref().skip(1).find(|c| ('@'..='~').contains(c));
            }
            '\n' => plain.push('\n'),
            c if c.is_control() => {}
            c => plain.push(c),
        }
    }
    let lines = plain
        .lines()
        .map(str::trim_end)
        .filter(|line| !line.is_empty());
    lines.collect::<Vec<_>>().join("\n")
}

/// The reads in the emulator's log: "... sector N nsectors M", in units of 512 bytes.
fn reads(log: File, sector_bytes: u32) -> io::Result<Vec<Extent>> {
    let units = u64::from(sector_bytes / 512).max(1);
    let mut reads = Vec::new();
    let log = BufReader::new(log.take(MAX_READS_LOG));
    for line in log.lines().take(MAX_READS) {
        let line = line?;
        let mut words = line.split_whitespace().skip_while(|word| *word != "sector");
        let mut number = |name: &str| {
            let named = words.next().filter(|word| *word == name);
            named.and_then(|_| words.next()?.parse::<u64>().ok())
        };
        if let (Some(first), Some(sectors)) = (number("sector"), number("nsectors")) {
            let end = first.saturating_add(sectors).div_ceil(units);
            reads.push(Extent::between(Lba(first / units), Lba(end)));
        }
    }
    Ok(reads)
}
