//! `schwelle demo`

use std::path::{Path, PathBuf};

use clap::Args;
use schwelle_demo::DemoDisk;

use super::{check, confirm, convert, firmware, mend, plan, rehearse, report, rules, survey};
use crate::error::{CliError, Kind, path_taken};
use crate::screen::{Screen, Tone, toned};
use crate::text::{pad, typed};
use crate::views::common::item;

/// Make the demo disks and run the whole job on them
///
/// Needs neither root nor network nor any other program. The disks stay in DIR, so that every
/// command can be tried by hand.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  schwelle demo\n  schwelle demo /tmp/lighthouse")]
pub(crate) struct DemoArgs {
    /// New or empty folder for the disks
    #[arg(value_name = "DIR", default_value = "schwelle-demo")]
    dir: PathBuf,
}

/// The machine file of the lamp room's PC.
const PC_FILE: &str = "lantern-pc.toml";
/// The simulated PCs: machine file, the disk in it, what it is.
const PCS: [(&str, &str, &str); 2] = [
    (
        PC_FILE,
        "lantern.img",
        "The lamp room's PC, simulated, with lantern.img in it.",
    ),
    (
        "beacon-pc.toml",
        "beacon.img",
        "The beacon's PC, simulated, with beacon.img in it.",
    ),
];
/// The disk that is mended.
const TO_MEND: &str = "newpilot.img";
/// The GPT disk that goes back to MBR.
const TO_GO_BACK: &str = "breakwater.img";

pub(crate) fn run(args: &DemoArgs, screen: &Screen) -> Result<u8, CliError> {
    let dir = &args.dir;
    let failed = |error: &dyn std::fmt::Display| {
        let what = format!("{}: {error}", dir.display());
        CliError::new(
            Kind::Unchanged,
            what,
            "The demo disks could not be made.",
            "Name a folder on a disk with 200 MiB free: schwelle demo DIR",
        )
    };
    std::fs::create_dir_all(dir).map_err(|error| failed(&error))?;
    if dir
        .read_dir()
        .map_err(|error| failed(&error))?
        .next()
        .is_some()
    {
        return Err(path_taken(dir.clone()));
    }
    screen.show(&heading("The disks of a lighthouse service"));
    for disk in schwelle_demo::disks() {
        schwelle_demo::make(disk, dir).map_err(|error| failed(&format!("{error:#}")))?;
        introduce(screen, disk.file, disk.story);
    }
    for (file, disk, story) in PCS {
        schwelle_demo::make_pc(dir, file.trim_end_matches(".toml"), disk)
            .map_err(|error| failed(&format!("{error:#}")))?;
        introduce(screen, file, story);
    }
    let images: Vec<PathBuf> = schwelle_demo::disks()
        .iter()
        .map(|disk| dir.join(disk.file))
        .collect();
    let ready = &images[0];
    if screen.is_json() || screen.is_quiet() {
        // For scripts: the conversion alone, as one document.
        let args = convert::ConvertArgs::of(ready.clone(), job_beside(ready));
        return convert::run(&args.in_pc(dir.join(PC_FILE)), screen);
    }

    tell(
        screen,
        "Which of them could be converted today?",
        &format!("survey {}/*.img", dir.display()),
    );
    survey::run(&survey::SurveyArgs::of(images.clone()), screen)?;
    for disk in schwelle_demo::disks()
        .iter()
        .filter(|disk| disk.blocked_by == Some("volume.hibernation"))
    {
        show_blocked(screen, dir, disk)?;
    }
    wrong_order(screen, dir)?;
    tell(
        screen,
        "The lamp room's disk is ready. What would be done?",
        &format!("plan {}", typed(ready)),
    );
    plan::run(&plan::PlanArgs::of(ready.clone()), screen)?;
    let job = job_beside(ready);
    tell(
        screen,
        "Then it is done.",
        &format!(
            "convert {} --job {} --machine {} --yes",
            typed(ready),
            typed(&job),
            typed(&dir.join(PC_FILE))
        ),
    );
    let args = convert::ConvertArgs::of(ready.clone(), job).in_pc(dir.join(PC_FILE));
    let code = convert::run(&args, screen)?;
    tell(
        screen,
        "Would firmware start it?",
        &format!("rehearse {}", typed(ready)),
    );
    let code = code.max(rehearse::run(
        &rehearse::RehearseArgs::of(ready.clone()),
        screen,
    )?);
    let code = code.max(cross(screen, dir, ready)?);
    let job = job_beside(ready);
    let why = "What goes to the customer, and into the workshop's files?";
    tell(screen, why, &format!("report --job {}", typed(&job)));
    report::run(&report::ReportArgs::of(job), screen)?;
    for disk in schwelle_demo::disks().iter().filter(|disk| disk.mib < 250) {
        let path = dir.join(disk.file);
        tell(
            screen,
            "A disk that is full to its last sector: where would the room come from?",
            &format!("plan {}", typed(&path)),
        );
        plan::run(&plan::PlanArgs::of(path), screen)?;
    }
    let code = code.max(mend_one(screen, dir)?);
    let code = code.max(take_back(screen, dir)?);
    let why = "Where do all these jobs stand?";
    tell(screen, why, &format!("report --jobs {}", typed(dir)));
    report::run(&report::ReportArgs::of_all(dir.clone()), screen)?;
    your_turn(screen, dir, &images[1]);
    Ok(code)
}

fn introduce(screen: &Screen, file: &str, story: &str) {
    screen.show(&item(&pad(file, 15), story, 2, screen.columns()));
}

/// The commands for the disk that is left.
fn your_turn(screen: &Screen, dir: &Path, disk: &Path) {
    let (job, disk) = (typed(&job_beside(disk)), typed(disk));
    let pc = typed(&dir.join(PCS[1].0));
    let commands = [
        format!("check {disk} --machine {pc}"),
        format!("plan {disk} --machine {pc}"),
        format!("convert {disk} --job {job} --machine {pc}"),
        format!("firmware sheet {disk} --machine {pc}"),
        format!("firmware set mode=uefi --machine {pc}"),
        format!("firmware start --machine {pc}"),
        format!("report --job {job}"),
        format!("undo --job {job}"),
    ];
    let lines: String = commands
        .iter()
        .map(|command| format!("  schwelle {command}\n"))
        .collect();
    screen.show(&format!(
        "\n{}All disks are in {}. The beacon's is left for you: checked, converted, its PC switched \
         over,\nand taken back. convert asks for a backup and for the disk name, which check shows.\n{lines}",
        heading("Your turn"),
        typed(dir),
    ));
}

/// The lamp room's PC, simulated.
struct Pc<'a> {
    screen: &'a Screen,
    file: PathBuf,
    typed: String,
}

impl<'a> Pc<'a> {
    fn new(screen: &'a Screen, dir: &Path) -> Self {
        let file = dir.join(PC_FILE);
        let typed = typed(&file);
        Self {
            screen,
            file,
            typed,
        }
    }

    fn set(&self, why: &str, settings: &[&str]) -> Result<u8, CliError> {
        let command = format!(
            "firmware --machine {} set {}",
            self.typed,
            settings.join(" ")
        );
        tell(self.screen, why, &command);
        let args = firmware::FirmwareArgs::set(self.file.clone(), settings);
        firmware::run(&args, self.screen)
    }

    fn start(&self, why: &str) -> Result<u8, CliError> {
        tell(
            self.screen,
            why,
            &format!("firmware --machine {} start", self.typed),
        );
        let args = firmware::FirmwareArgs::start(self.file.clone());
        firmware::run(&args, self.screen)
    }
}

/// What goes wrong where the firmware is changed before the disk.
fn wrong_order(screen: &Screen, dir: &Path) -> Result<(), CliError> {
    let pc = Pc::new(screen, dir);
    let why =
        "What if the firmware is changed first? (The PC is simulated: no Windows runs in a demo.)";
    pc.set(why, &["csm=off"])?;
    pc.start("The disk has vanished from the firmware.")?;
    pc.set(
        "So back to what it was, and the disk first.",
        &["csm=on", "mode=bios"],
    )?;
    pc.start("It starts as before.")?;
    Ok(())
}

/// The conversion in the right order; the code of the last start.
fn cross(screen: &Screen, dir: &Path, disk: &Path) -> Result<u8, CliError> {
    let pc = Pc::new(screen, dir);
    pc.start("The disk is converted, and the PC still set to BIOS mode.")?;
    let sheet = disk.with_extension("sheet.html");
    let (typed_disk, typed_sheet) = (typed(disk), typed(&sheet));
    tell(
        screen,
        "What to do in its setup, in which order?",
        &format!(
            "firmware --machine {} sheet {typed_disk} --html {typed_sheet}",
            pc.typed
        ),
    );
    let args = firmware::FirmwareArgs::sheet(pc.file.clone(), disk.to_owned(), sheet);
    let code = firmware::run(&args, screen)?;
    let refused = pc.set(
        "Secure Boot first? The setup does not let you.",
        &["secure-boot=on"],
    );
    screen.error(&refused.err().ok_or_else(not_refused)?);
    pc.set("In the order of the sheet: the boot mode.", &["mode=uefi"])?;
    pc.start("And on.")?;
    pc.set(
        "Then the CSM, the manufacturer's keys, Secure Boot.",
        &["csm=off", "keys=factory", "secure-boot=on"],
    )?;
    let code = code.max(pc.start("The boot manager is signed, and the keys fit.")?);
    tell(
        screen,
        "What does a start in UEFI mode leave on the disk? In the demo nothing has run.",
        &format!("confirm {typed_disk} --machine {}", pc.typed),
    );
    confirm::run(&confirm::ConfirmArgs::of(disk.to_owned(), pc.file), screen)?;
    Ok(code)
}

/// The disk that was made GPT by hand, and that does not start.
fn mend_one(screen: &Screen, dir: &Path) -> Result<u8, CliError> {
    let path = dir.join(TO_MEND);
    let (shown, job) = (typed(&path), job_beside(&path));
    let why = "A GPT disk that does not start: what is wrong with it?";
    tell(screen, why, &format!("rehearse {shown}"));
    rehearse::run(&rehearse::RehearseArgs::of(path.clone()), screen)?;
    let command = format!("mend {shown} --job {} --yes", typed(&job));
    tell(screen, "Exactly that is mended.", &command);
    mend::run(&mend::MendArgs::of(path, job), screen)
}

/// The disk that goes into a PC which knows BIOS mode only.
fn take_back(screen: &Screen, dir: &Path) -> Result<u8, CliError> {
    let path = dir.join(TO_GO_BACK);
    let (shown, job) = (typed(&path), job_beside(&path));
    let why = "The way back: a GPT disk for a PC that starts in BIOS mode only.";
    tell(screen, why, &format!("plan {shown} --to mbr"));
    plan::run(&plan::PlanArgs::of(path.clone()).back(), screen)?;
    let command = format!("convert {shown} --to mbr --job {} --yes", typed(&job));
    tell(screen, "Then it is done.", &command);
    let args = convert::ConvertArgs::of(path.clone(), job).back();
    let code = convert::run(&args, screen)?;
    let why = "Would a BIOS start it?";
    tell(screen, why, &format!("rehearse {shown} --to mbr"));
    let args = rehearse::RehearseArgs::of(path).back();
    Ok(code.max(rehearse::run(&args, screen)?))
}

fn not_refused() -> CliError {
    CliError::new(
        Kind::Unchanged,
        "the simulated PC did what it should have refused",
        "The demo shows a PC that refuses it.",
        "Report this.",
    )
}

fn show_blocked(screen: &Screen, dir: &Path, disk: &DemoDisk) -> Result<(), CliError> {
    let path = dir.join(disk.file);
    tell(
        screen,
        "One of the blocked ones: why, and what to do?",
        &format!("check {}", typed(&path)),
    );
    check::run(&check::CheckArgs::of(path), screen)?;
    if let Some(rule) = disk.blocked_by {
        tell(
            screen,
            "What does that rule mean?",
            &format!("rules {rule}"),
        );
        rules::run(&rules::RulesArgs::of(rule), screen)?;
    }
    Ok(())
}

fn heading(text: &str) -> String {
    format!("{}\n", toned(Tone::Heading, text))
}

fn tell(screen: &Screen, why: &str, command: &str) {
    screen.show(&format!(
        "\n{}{}\n\n",
        heading(why),
        toned(Tone::Faint, &format!("$ schwelle {command}"))
    ));
}

/// The job folder of an image, beside it.
fn job_beside(image: &Path) -> PathBuf {
    image.with_extension("job")
}
