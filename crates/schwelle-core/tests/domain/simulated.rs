//! The simulated PC: settings, disks and the order of steps, against what comes of them.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use schwelle_core::device::{BlockDevice, Draft, MIB, Memory, ReadDevice, Window};
use schwelle_core::draft::{NewTable, Plan};
use schwelle_core::fat::FatVolume;
use schwelle_core::firmware::{
    AttachedDisk, BootMode, EntryPlan, Fact, GLOBAL, Ground, Keys, LoadOption, Machine, Signature,
    Target, Variable, Variables,
};
use schwelle_core::gpt::{GptPair, type_guid};
use schwelle_core::placement::EspRequest;
use schwelle_core::profile::BOOTMGFW;
use schwelle_core::switch::{Event, Outcome, Settings, Tried, start};
use schwelle_demo::{BOOT_KEY, DiskBuilder, plan_of};

fn old_disk() -> Memory {
    let disk = Memory::new(512, 480 * MIB / 512);
    DiskBuilder::new(&disk)
        .standard(0x1234_5678, "LANTERN-ONE")
        .unwrap();
    disk
}

fn plan(disk: &Memory) -> Plan<'_> {
    plan_of(disk, EspRequest::default()).unwrap()
}

fn known<T>(value: T) -> Fact<T> {
    let source = Ground::MachineFile;
    Fact::Known { value, source }
}

/// A PC set to BIOS mode, without keys.
fn as_delivered() -> Settings {
    Settings {
        uefi: true,
        bits: 64,
        mode: BootMode::Bios,
        csm: true,
        secure_boot: false,
        has_platform_key: false,
        setup_password: false,
        needs_password: false,
    }
}

fn with_keys(allowed: &[u8]) -> Machine {
    let certificate = || vec![Signature::Certificate(allowed.to_vec())];
    let mut machine = Machine::unknown(Ground::Image);
    machine.keys = known(Keys {
        platform: certificate(),
        allowed: certificate(),
        ..Keys::default()
    });
    machine
}

/// A PC of the table.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Pc {
    Plain,
    WithKeys,
    OtherKeys,
    WantsPassword,
    OldBios,
    Narrow,
}

/// What a case ends in.
#[derive(Debug)]
enum End {
    /// The last step is refused, with these words.
    Refused(&'static str),
    /// It starts in this mode from the disk at this place, and one event says this.
    Starts(BootMode, usize, &'static str),
    /// Nothing starts, and one event says this.
    Nothing(&'static str),
}

/// The disk with zeros where a file on its EFI system partition begins.
fn with_zeros_in<'d>(disk: &'d dyn ReadDevice, path: &str) -> Draft<'d> {
    let draft = Draft::new(disk);
    let pair = GptPair::read(disk);
    let mut entries = pair.best().unwrap().entries.iter();
    let esp = entries.find(|(_, entry)| entry.kind == type_guid::EFI_SYSTEM);
    let window = Window::new(&draft, esp.unwrap().1.extent).unwrap();
    let first = {
        let volume = FatVolume::open(&window).unwrap();
        let file = volume.find(path).unwrap().unwrap();
        volume.extents_of(&file).unwrap()[0].first
    };
    window.write_at(first.0 * 512, &[0; 512]).unwrap();
    draft
}

#[test]
fn settings_disks_and_the_order_of_steps_decide_what_starts() {
    use BootMode::{Bios, Uefi};
    use End::{Nothing, Refused, Starts};
    let old = old_disk();
    let plan = plan(&old);
    let blank = Memory::new(512, 4096);
    let no_store = with_zeros_in(&plan.draft, "\\EFI\\Microsoft\\Boot\\BCD");
    let no_loader = with_zeros_in(&plan.draft, "\\EFI\\BOOT\\BOOTX64.EFI");
    let disk = |letter| -> (&'static str, &dyn ReadDevice) {
        match letter {
            'M' => ("the MBR disk", &old),
            'G' => ("the GPT disk", &plan.draft),
            'S' => ("a clone with a damaged store", &no_store),
            'L' => ("a clone with a damaged loader", &no_loader),
            _ => ("the blank disk", &blank),
        }
    };
    // The PC, the disks attached (by their letters above), the steps in its setup, the end.
    let cases: [(Pc, &str, &str, End); 33] = [
        (
            Pc::Plain,
            "M",
            "",
            Starts(
                Bios,
                0,
                "StartedBios { disk: \"the MBR disk\", title: \"Windows 10\"",
            ),
        ),
        (Pc::Plain, "G", "", Nothing("why: Gpt")),
        (Pc::Plain, "B", "", Nothing("NoTable")),
        (Pc::Plain, "", "", Nothing("")),
        (Pc::Plain, "GM", "", Starts(Bios, 1, "why: Gpt")),
        (
            Pc::Plain,
            "M",
            "mode=uefi",
            Nothing("NotOffered { disk: \"the MBR disk\", csm: true"),
        ),
        (Pc::Plain, "M", "csm=off", Nothing("csm: false")),
        (
            Pc::Plain,
            "M",
            "csm=off csm=on mode=bios",
            Starts(Bios, 0, "StartedBios"),
        ),
        (Pc::Plain, "M", "mode=both", Starts(Bios, 0, "NotOffered")),
        (Pc::Plain, "G", "mode=uefi", Starts(Uefi, 0, "StartedUefi")),
        (Pc::Plain, "G", "mode=both", Starts(Uefi, 0, "BOOTX64.EFI")),
        (Pc::Plain, "G", "csm=off", Starts(Uefi, 0, "BOOTX64.EFI")),
        (Pc::Plain, "MG", "mode=both", Starts(Uefi, 1, "NotOffered")),
        // A program that runs keeps the PC, whatever becomes of it; one that cannot be loaded does not.
        (Pc::Plain, "SG", "mode=uefi", Nothing("step: BcdStore")),
        (Pc::Plain, "SM", "mode=both", Nothing("step: BcdStore")),
        (
            Pc::Plain,
            "LG",
            "mode=uefi",
            Starts(Uefi, 1, "step: LoaderImage"),
        ),
        (
            Pc::Plain,
            "BG",
            "mode=uefi",
            Starts(Uefi, 1, "NotOffered { disk: \"the blank disk\""),
        ),
        (
            Pc::Plain,
            "G",
            "csm=off mode=bios",
            Refused("switch the module on first"),
        ),
        (
            Pc::Plain,
            "G",
            "csm=off mode=both",
            Refused("switch the module on first"),
        ),
        (
            Pc::Plain,
            "G",
            "secure-boot=on",
            Refused("switch it off first"),
        ),
        (
            Pc::WithKeys,
            "G",
            "secure-boot=on",
            Refused("switch it off first"),
        ),
        (
            Pc::Plain,
            "G",
            "csm=off secure-boot=on",
            Refused("no platform key"),
        ),
        (
            Pc::WithKeys,
            "G",
            "csm=off secure-boot=on",
            Starts(Uefi, 0, "Judged"),
        ),
        (
            Pc::WithKeys,
            "M",
            "csm=off secure-boot=on",
            Nothing("csm: false"),
        ),
        (
            Pc::WithKeys,
            "G",
            "csm=off secure-boot=on csm=on",
            Refused("Secure Boot is on"),
        ),
        (
            Pc::WithKeys,
            "G",
            "csm=off secure-boot=on secure-boot=off csm=on mode=bios",
            Nothing("why: Gpt"),
        ),
        (
            Pc::OtherKeys,
            "G",
            "csm=off secure-boot=on",
            Nothing("verdict: Refused"),
        ),
        (
            Pc::OtherKeys,
            "G",
            "csm=off",
            Starts(Uefi, 0, "BOOTX64.EFI"),
        ),
        (
            Pc::WantsPassword,
            "G",
            "csm=off secure-boot=on",
            Refused("setup password"),
        ),
        (
            Pc::WantsPassword,
            "G",
            "csm=off setup-password=on secure-boot=on",
            Starts(Uefi, 0, "verdict: Accepted"),
        ),
        (Pc::OldBios, "M", "mode=uefi", Refused("no UEFI mode")),
        (Pc::OldBios, "M", "csm=off", Refused("no UEFI mode")),
        (Pc::Narrow, "G", "mode=uefi", Nothing("OtherArchitecture")),
    ];
    for (pc, letters, steps, end) in cases {
        let case = format!("{pc:?} {letters} {steps} {end:?}");
        let mut settings = Settings {
            uefi: pc != Pc::OldBios,
            bits: if pc == Pc::Narrow { 32 } else { 64 },
            has_platform_key: !matches!(pc, Pc::Plain | Pc::OldBios | Pc::Narrow),
            needs_password: pc == Pc::WantsPassword,
            ..as_delivered()
        };
        let mut steps: Vec<&str> = steps.split_whitespace().collect();
        let refused = if matches!(end, Refused(_)) {
            steps.pop()
        } else {
            None
        };
        for step in steps {
            let (key, value) = step.split_once('=').unwrap();
            settings
                .change(key, value)
                .unwrap_or_else(|refusal| panic!("{case}: {refusal}"));
        }
        if let (Some(step), Refused(words)) = (refused, &end) {
            let (before, (key, value)) = (settings.clone(), step.split_once('=').unwrap());
            let refusal = settings.change(key, value).unwrap_err();
            assert!(refusal.to_string().contains(words), "{case}: {refusal}");
            assert_eq!(settings, before, "{case}: a refusal changes nothing");
            continue;
        }
        let machine = match pc {
            Pc::WithKeys | Pc::WantsPassword => with_keys(BOOT_KEY),
            Pc::OtherKeys => with_keys(b"no certificate"),
            _ => Machine::unknown(Ground::Image),
        };
        let disks: Vec<AttachedDisk<'_>> = letters
            .chars()
            .map(disk)
            .map(|(name, device)| AttachedDisk { name, device })
            .collect();
        let found = start(&settings, &machine, &disks);
        let (outcome, words) = match end {
            Starts(mode, at, words) => (Outcome::Started(mode, at), words),
            Nothing(words) => (Outcome::Nothing, words),
            Refused(_) => unreachable!("handled above"),
        };
        assert_eq!(found.outcome, outcome, "{case}: {:#?}", found.events);
        let shown = found
            .events
            .iter()
            .any(|event| format!("{event:?}").contains(words));
        assert!(shown || words.is_empty(), "{case}: {:#?}", found.events);
    }
    for unknown in ["mode=fast", "secure-boot=maybe", "colour=red", "keys=mine"] {
        let (key, value) = unknown.split_once('=').unwrap();
        let refusal = as_delivered().change(key, value).unwrap_err().to_string();
        assert!(
            refusal.starts_with(&format!("{unknown} is no setting")),
            "{refusal}"
        );
    }
}

#[test]
fn boot_entries_are_tried_in_their_order_and_dead_ones_are_skipped() {
    use schwelle_core::firmware::BootEntry;
    let old = old_disk();
    let plan = plan(&old);
    let name = "the GPT disk";
    let device: &dyn ReadDevice = &plan.draft;
    let disks = [AttachedDisk { name, device }];
    let NewTable::Gpt(layout) = &plan.table else {
        panic!("a conversion to GPT");
    };
    let esp = layout
        .entries
        .iter()
        .position(|entry| Some(entry.extent) == plan.placement.esp.map(|esp| esp.extent))
        .unwrap();
    let esp = &layout.entries[esp];
    let entry = |number, place, option| BootEntry {
        number,
        place,
        option: Ok(option),
    };
    let option = |id, file: &str| LoadOption::for_file("An entry", (3, esp.extent, id), file);
    let inactive = LoadOption {
        attributes: 0,
        ..option(esp.id, "\\EFI\\BOOT\\BOOTX64.EFI")
    };
    let mut machine = Machine::unknown(Ground::Image);
    machine.entries = known(vec![
        entry(7, Some(0), inactive),
        entry(
            1,
            Some(1),
            option(uuid::Uuid::nil(), "\\EFI\\BOOT\\BOOTX64.EFI"),
        ),
        entry(2, Some(2), option(esp.id, "\\EFI\\gone.efi")),
        entry(
            3,
            Some(3),
            option(esp.id, "\\efi\\microsoft\\boot\\BOOTMGFW.EFI"),
        ),
        entry(0, None, option(esp.id, "\\EFI\\never.efi")),
    ]);
    let settings = Settings {
        mode: BootMode::Uefi,
        ..as_delivered()
    };
    let found = start(&settings, &machine, &disks);
    assert_eq!(found.outcome, Outcome::Started(BootMode::Uefi, 0));
    let tried = |number| Tried::Entry(number, "An entry".to_owned());
    let expected = [
        Event::EntryInactive { entry: tried(7) },
        Event::EntryWithoutPartition { entry: tried(1) },
        Event::EntryWithoutFile {
            entry: tried(2),
            path: "\\EFI\\gone.efi".to_owned(),
        },
        Event::StartedUefi {
            by: tried(3),
            path: "\\efi\\microsoft\\boot\\BOOTMGFW.EFI".to_owned(),
        },
    ];
    assert_eq!(found.events, expected);

    let dir = tempfile::tempdir().unwrap();
    let variables = Variables::open(dir.path()).unwrap();
    let order = [7_u16, 1, 2, 3, 0x99];
    let data = order
        .iter()
        .flat_map(|number| number.to_le_bytes())
        .collect();
    let order = Variable {
        attributes: 7,
        data,
    };
    variables.write("BootOrder", GLOBAL, &order).unwrap();
    // The plan for an entry finds the one that is there, puts it first, and names the dead ones.
    let planned = EntryPlan::new(&machine, &variables, (&disks, 0), ("New", BOOTMGFW)).unwrap();
    assert_eq!((planned.number, planned.is_there), (3, false));
    assert_eq!(planned.order, [3, 7, 1, 2, 0x99]);
    let dead: Vec<u16> = planned.dead.iter().map(|(number, _)| *number).collect();
    assert_eq!(dead, [1, 2, 0]);
    // Where there is none, it takes the lowest free number, and leads to the file.
    machine.entries = known(vec![entry(0, Some(0), option(uuid::Uuid::nil(), "x"))]);
    let planned = EntryPlan::new(&machine, &variables, (&disks, 0), ("New", BOOTMGFW)).unwrap();
    assert_eq!((planned.number, planned.order[0]), (1, 1));
    let leads_to = Target::of(&planned.option, &disks);
    assert!(
        matches!(
            leads_to,
            Target::File {
                disk: 0,
                partition: 3,
                ..
            }
        ),
        "{leads_to:?}"
    );
    // An MBR disk has none; firmware that does not say gets none.
    let old_disk = AttachedDisk {
        name: "the MBR disk",
        device: &old,
    };
    assert!(EntryPlan::new(&machine, &variables, (&[old_disk], 0), ("New", BOOTMGFW)).is_err());
    let silent = Machine::unknown(Ground::Image);
    assert!(EntryPlan::new(&silent, &variables, (&disks, 0), ("New", BOOTMGFW)).is_err());
}
