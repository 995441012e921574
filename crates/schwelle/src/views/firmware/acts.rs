//! What the commands below `firmware` show of what they did: `set`, `start`, `entry`, `setup`.

#[cfg(feature = "schema")]
use schemars::JsonSchema;
use schwelle_core::firmware::{AttachedDisk, BootMode, EntryPlan};
use schwelle_core::switch::{Event, Outcome, Settings, Start};
use serde::Serialize;

use super::not_read;
use crate::screen::{Tone, toned};
use crate::text::safe;
use crate::views::common::{answer, paragraph};
use crate::views::worded::Worded;
use crate::words;

/// `firmware set`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct SettingsDoc {
    mode: BootMode,
    csm: bool,
    secure_boot: bool,
    has_platform_key: bool,
    setup_password: bool,
}

impl SettingsDoc {
    pub(crate) fn of(settings: &Settings) -> Self {
        Self {
            mode: settings.mode,
            csm: settings.csm,
            secure_boot: settings.secure_boot,
            has_platform_key: settings.has_platform_key,
            setup_password: settings.setup_password,
        }
    }
}

/// `firmware start`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct Started {
    /// In which mode; null when nothing started
    started: Option<BootMode>,
    /// The disk it started from
    disk: Option<String>,
    /// What was tried, in order
    events: Vec<Worded<Event>>,
}

impl Started {
    pub(crate) fn of(start: &Start, disks: &[AttachedDisk<'_>]) -> Self {
        let found = match start.outcome {
            Outcome::Started(mode, disk) => Some((mode, disk)),
            Outcome::Nothing => None,
        };
        Self {
            started: found.map(|(mode, _)| mode),
            disk: found.and_then(|(_, disk)| Some(disks.get(disk)?.name.to_owned())),
            events: start
                .events
                .iter()
                .map(|event| Worded::of(event.clone(), words::simulated::event))
                .collect(),
        }
    }
}

/// What happens when a simulated PC is switched on.
pub(crate) fn render_start(
    name: &str,
    settings: &Settings,
    start: &Start,
    disks: &[AttachedDisk<'_>],
    columns: usize,
) -> String {
    let switch = |on| if on { "on" } else { "off" };
    let mut text = format!(
        "{}\n  boot mode {}, CSM {}, Secure Boot {}, disks: {}\n\n",
        toned(
            Tone::Heading,
            &format!("{} is switched on (simulated)", safe(name))
        ),
        settings.mode.name().to_uppercase(),
        switch(settings.csm),
        switch(settings.secure_boot),
        disks.len()
    );
    for event in &start.events {
        let (tone, mark) = if event.started() {
            (Tone::Good, "+")
        } else {
            (Tone::Faint, "-")
        };
        let body = paragraph("", &words::simulated::event(event), 4, columns);
        text += &format!("  {} {}", toned(tone, mark), body.trim_start());
    }
    match start.outcome {
        Outcome::Started(mode, disk) => {
            let mode = mode.name().to_uppercase();
            let name = disks.get(disk).map_or("", |disk| disk.name);
            let rest = format!("The disk: {}", safe(name));
            text + &answer(Tone::Good, &format!("Starts in {mode} mode"), &rest)
        }
        Outcome::Nothing => {
            let rest = "The PC says that there is no device to start from.";
            text + &answer(Tone::Bad, "Nothing starts", rest)
        }
    }
}

/// `firmware entry`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct EntryWritten {
    /// "Boot0001"
    entry: String,
    description: String,
    /// It was there and first before; nothing was written
    was_there: bool,
    /// The whole boot order now
    order: Vec<String>,
    /// Entries that lead nowhere; left as they are
    dead: Vec<String>,
}

impl EntryWritten {
    pub(crate) fn of(plan: &EntryPlan) -> Self {
        let name = |number: &u16| format!("Boot{number:04X}");
        Self {
            entry: name(&plan.number),
            description: plan.option.description.clone(),
            was_there: plan.is_there,
            order: plan.order.iter().map(name).collect(),
            dead: plan.dead.iter().map(|(number, _)| name(number)).collect(),
        }
    }
}

/// What was written into the firmware; `sheet` is the command for the switch sheet.
pub(crate) fn render_entry(
    plan: &EntryPlan,
    sheet: &str,
    unreadable: &[String],
    columns: usize,
) -> String {
    let name = format!("Boot{:04X} \"{}\"", plan.number, plan.option.description);
    let done = if plan.is_there {
        format!("{name} leads to this disk already and stands first. Nothing was written.")
    } else {
        let loader = plan.option.file().unwrap_or_default();
        format!("{name} leads to {loader} on this disk now and stands first in the boot order.")
    };
    let mut text = paragraph("", &done, 0, columns);
    for (number, description) in &plan.dead {
        let line = format!(
            "Boot{number:04X} \"{description}\" leads nowhere on the attached disks. It is left as it is; \
             firmware goes on to the next."
        );
        text += &paragraph("", &line, 0, columns);
    }
    text += &not_read(unreadable, columns);
    text + &format!("\nNext: the switch sheet: {sheet}\n")
}

/// `firmware setup`
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct SetupAsked {
    pub(crate) setup_at_next_start: bool,
}
