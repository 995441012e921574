//! `schwelle firmware`: facts, the simulated PC, the switch sheet, boot entries.

use std::fs;

use efivar::boot::{BootEntry, FilePathList};
use schwelle_core::firmware::{GLOBAL, Variable, Variables};

use crate::support::{Lab, peek};
use schwelle_testkit::{Run, hash};

/// A lab with the demo's PC and a converted disk in it.
fn bench() -> Lab {
    let lab = Lab::new();
    lab.converted("disk.img", 512);
    schwelle_demo::make_pc(&lab.path(""), "pc", "disk.img").unwrap();
    lab
}

fn firmware(lab: &Lab, args: &[&str]) -> Run {
    lab.run(&[&["firmware", "--machine", "pc.toml"], args].concat())
}

fn variables(lab: &Lab) -> Variables {
    Variables::open(&lab.path("pc.variables")).unwrap()
}

#[test]
fn facts_name_their_source_and_what_is_not_told_says_how_to_find_out() {
    let lab = bench();
    let facts = firmware(&lab, &["--json"]).json();
    for (key, value) in [
        ("manufacturer", "\"Skerry Works\""),
        ("uefi", "true"),
        ("bits", "64"),
        ("mode", "\"bios\""),
        ("setup_mode", "true"),
        ("power", "\"mains\""),
        ("session", "null"),
    ] {
        assert_eq!(facts[key]["value"].to_string(), value, "{key}");
        assert_eq!(facts[key]["how"].is_null(), value != "null", "{key}");
        assert_ne!(facts[key]["evidence"]["text"], "", "{key}");
    }
    assert_eq!(
        facts["factory_keys"]["value"]["allowed"][0],
        "Lighthouse Boot Programs 2024"
    );
    assert_eq!(facts["entries"]["value"][0]["description"], "Harbour Shell");
    // Copies of a PC's own table and variables tell as well; a key counts more than they do.
    let mut table = vec![0, 0x18, 0, 0, 1, 1];
    table.resize(0x18, 0);
    table[0x13] = 8;
    table.extend(b"Northpier \x1b[2J\0\0");
    table.extend([127, 4, 1, 0, 0, 0]);
    fs::write(lab.path("table"), table).unwrap();
    fs::write(
        lab.path("copied.toml"),
        "[pc]\nmodel = \"M\"\nsmbios = \"table\"\n[firmware]\nvariables = \"pc.variables\"\n",
    )
    .unwrap();
    let run = lab.run(&["firmware", "--machine", "copied.toml"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    for shown in [
        "UEFI mode               supported   [its firmware says so (SMBIOS)]",
        "M   [the machine",
    ] {
        assert!(run.stdout.contains(shown), "{shown}: {}", run.stdout);
    }
    // Texts of the firmware do not command the terminal.
    assert!(
        !run.stdout.contains('\x1b') && run.stdout.contains("\\u{1b}[2J"),
        "{}",
        run.stdout
    );
    // This machine tells what it can.
    let run = lab.run(&["firmware"]);
    assert_eq!(run.code, 0);
    assert!(run.stdout.contains("This session"), "{}", run.stdout);
    // Variables of wrong sizes are reported, and stop nothing else.
    for (name, data) in [
        ("SetupMode", vec![0; 2]),
        ("BootOrder", vec![0; 3]),
        ("PKDefault", vec![9; 30]),
    ] {
        let variable = Variable {
            attributes: 7,
            data,
        };
        variables(&lab).write(name, GLOBAL, &variable).unwrap();
    }
    let facts = firmware(&lab, &["--json"]).json();
    for (key, evidence) in [
        (
            "setup_mode",
            "variable SetupMode: its content has 2 bytes, not 1",
        ),
        (
            "entries",
            "variable BootOrder: its content has 3 bytes, not an even number",
        ),
        ("factory_keys", "variable PKDefault: damaged signature list"),
    ] {
        assert!(facts[key]["value"].is_null(), "{key}");
        let shown = facts[key]["evidence"]["text"].as_str().unwrap();
        assert!(shown.contains(evidence), "{shown}");
    }
}

#[test]
fn the_simulated_pc_keeps_its_settings_and_refuses_what_a_setup_refuses() {
    let lab = bench();
    let before = hash(&lab.path("disk.img"));
    let run = firmware(&lab, &["start"]);
    assert_eq!(run.code, 1);
    assert!(run.stdout.contains("Nothing starts."), "{}", run.stdout);
    let file = fs::read_to_string(lab.path("pc.toml")).unwrap();
    // Refused: the file stays as it is, and so does what comes after it in the same command.
    let run = firmware(&lab, &["set", "secure-boot=on", "mode=uefi"]);
    assert_eq!(run.code, 1);
    assert!(
        run.stderr.contains("greyed out: the CSM is on"),
        "{}",
        run.stderr
    );
    assert_eq!(fs::read_to_string(lab.path("pc.toml")).unwrap(), file);
    let steps = ["csm=off", "keys=factory", "secure-boot=on"];
    let run = firmware(&lab, &[&["set"], &steps[..]].concat());
    assert_eq!(run.code, 0, "{}", run.stderr);
    let changed = fs::read_to_string(lab.path("pc.toml")).unwrap();
    assert!(
        changed.starts_with("# A simulated PC: "),
        "comments stay: {changed}"
    );
    assert_eq!(
        variables(&lab).read_flag("SecureBoot", GLOBAL).unwrap(),
        Some(true)
    );
    let run = firmware(&lab, &["start", "--json"]).json();
    assert_eq!(
        (&run["started"], &run["disk"]),
        (&"uefi".into(), &"disk.img".into())
    );
    assert_eq!(
        hash(&lab.path("disk.img")),
        before,
        "a start writes nothing"
    );
    for (args, code, expected) in [
        (&["set", "mode=fast"][..], 2, "mode=fast is no setting"),
        (&["set", "mode"], 2, "mode= is no setting"),
        (&["set"], 2, "required"),
        (
            &["set", "csm=on"],
            1,
            "Secure Boot is on; switch it off first",
        ),
    ] {
        let run = firmware(&lab, args);
        assert_eq!(run.code, code, "{args:?}");
        assert!(run.stderr.contains(expected), "{args:?}: {}", run.stderr);
    }
    // Without a file there is no PC to set or start.
    let run = lab.run(&["firmware", "start"]);
    run.refuses(2, "needs a simulated PC");
    // A disk that it names and that is not there.
    fs::remove_file(lab.path("disk.img")).unwrap();
    let run = firmware(&lab, &["start"]);
    run.refuses(3, "disk.img");
}

#[test]
fn the_sheet_says_go_only_when_disk_and_pc_are_ready() {
    let lab = bench();
    lab.standard("old.img", 512);
    fs::write(lab.path("silent.toml"), "").unwrap();
    fs::write(lab.path("old.toml"), "[firmware]\nuefi = false\n").unwrap();
    fs::write(
        lab.path("narrow.toml"),
        "[firmware]\nuefi = true\nbits = 32\n",
    )
    .unwrap();
    for (machine, disk, code, expected) in [
        ("pc.toml", "disk.img", 0, "GO. The disk has passed"),
        (
            "pc.toml",
            "old.img",
            1,
            "would not start: its rehearsal ends at protective-mbr",
        ),
        (
            "silent.toml",
            "disk.img",
            1,
            "It is not known whether this PC can start in UEFI mode",
        ),
        (
            "old.toml",
            "disk.img",
            1,
            "This PC cannot start in UEFI mode",
        ),
        (
            "narrow.toml",
            "disk.img",
            1,
            "does not start 64-bit loaders",
        ),
    ] {
        let run = lab.run(&["firmware", "sheet", disk, "--machine", machine]);
        assert_eq!(run.code, code, "{machine} {disk}");
        assert!(run.stdout.contains(expected), "{expected}: {}", run.stdout);
        assert_eq!(run.stdout.contains("NOT YET."), code == 1);
    }
    // The steps follow what is known of the PC.
    let steps = |machine: &str| {
        let sheet = lab.run(&[
            "firmware",
            "sheet",
            "disk.img",
            "--machine",
            machine,
            "--json",
        ]);
        let sheet = sheet.json();
        let steps = sheet["steps"].as_array().unwrap().iter();
        let steps = steps.map(|step| step["what"].as_str().unwrap().to_owned());
        steps.collect::<Vec<_>>()
    };
    let has = |steps: &[String], text: &str| steps.iter().position(|step| step.contains(text));
    let all = steps("pc.toml");
    let places: Vec<_> = [
        "boot mode to UEFI",
        "schwelle confirm disk.img",
        "CSM off",
        "switch it on now",
    ]
    .map(|text| has(&all, text))
    .to_vec();
    assert!(
        places.is_sorted() && places[0].is_some(),
        "in this order: {places:?} {all:?}"
    );
    fs::write(
        lab.path("set.toml"),
        "[firmware]\nuefi = true\nmode = \"uefi\"\ncsm = false\nsecure_boot = true\n",
    )
    .unwrap();
    let few = steps("set.toml");
    assert_eq!(has(&few, "boot mode to UEFI"), None);
    assert_eq!(has(&few, "CSM"), None);
    assert!(
        has(&few, "Switch Secure Boot off") < has(&few, "Put the UEFI entry"),
        "{few:?}"
    );
    // The key for the setup comes from the policy, by the beginning of the manufacturer's name.
    fs::write(
        lab.path("policy.toml"),
        "[setup_keys]\n\"skerry\" = \"F11\"\n",
    )
    .unwrap();
    let run = lab.run(&[
        "firmware",
        "sheet",
        "disk.img",
        "--machine",
        "pc.toml",
        "--policy",
        "policy.toml",
    ]);
    assert!(run.stdout.contains("press F11 at once"), "{}", run.stdout);
    fs::write(lab.path("policy.toml"), "[setup_kys]\n").unwrap();
    let run = lab.run(&[
        "firmware",
        "sheet",
        "disk.img",
        "--machine",
        "pc.toml",
        "--policy",
        "policy.toml",
    ]);
    run.refuses(2, "line 1, column 2");
}

#[test]
fn the_sheet_on_paper_holds_no_markup_of_others() {
    let lab = bench();
    fs::write(
        lab.path("evil.toml"),
        "[pc]\nmanufacturer = \"<script>alert(1)</script>\"\nmodel = \"[x](http://y) \\u202E\\u001b *b*\"\n\
         [firmware]\nuefi = true\n",
    )
    .unwrap();
    let args = ["firmware", "sheet", "disk.img", "--machine", "evil.toml"];
    let run = lab.run(&[&args[..], &["--html", "s.html", "--markdown", "s.md"]].concat());
    assert_eq!(run.code, 0, "{}", run.stderr);
    let (html, markdown) = (lab.path("s.html"), lab.path("s.md"));
    let page = fs::read_to_string(&html).unwrap();
    assert!(
        page.contains("&#60;script&#62;") && !page.contains("<script"),
        "{page}"
    );
    let outside = ["src=", "href=", "url(", "@import"];
    assert!(
        !outside.iter().any(|word| page.contains(word)),
        "nothing from outside: {page}"
    );
    assert!(page.contains("<b>GO</b>"), "{page}");
    let text = fs::read_to_string(markdown).unwrap();
    assert!(
        text.contains("\\<script\\>") && text.contains("\\[x\\](http"),
        "{text}"
    );
    for text in [&page, &text, &run.stdout] {
        assert!(!text.contains(['\u{202E}', '\x1b']));
    }
    // Nothing is overwritten, and a folder that is not there is reported.
    let before = hash(&html);
    for path in ["s.html", "no/such/folder.html"] {
        let run = lab.run(&[&args[..], &["--html", path]].concat());
        run.refuses(3, path);
    }
    assert_eq!(hash(&html), before);
}

#[test]
fn a_boot_entry_is_read_back_by_a_library_for_firmware_variables() {
    let lab = bench();
    let disk = hash(&lab.path("disk.img"));
    let run = firmware(&lab, &["entry", "disk.img", "--name", "Türme", "--json"]).json();
    assert_eq!(
        (&run["entry"], &run["was_there"]),
        (&"Boot0001".into(), &false.into())
    );
    assert_eq!(run["order"], serde_json::json!(["Boot0001", "Boot0000"]));
    let written = variables(&lab).read("Boot0001", GLOBAL).unwrap().unwrap();
    assert_eq!(written.attributes, 7);
    let entry = BootEntry::parse(written.data).unwrap();
    assert_eq!(entry.description, "Türme");
    let FilePathList {
        file_path,
        hard_drive,
    } = entry.file_path_list.unwrap();
    assert_eq!(file_path.path, "\\EFI\\Microsoft\\Boot\\bootmgfw.efi");
    // The third partition, as its entry in the table has it.
    let table = peek(&lab.path("disk.img"), 1024 + 2 * 128, 128);
    let number = |at: usize| u64::from_le_bytes(table[at..at + 8].try_into().unwrap());
    assert_eq!(hard_drive.partition_number, 3);
    assert_eq!(hard_drive.partition_start, number(32));
    assert_eq!(hard_drive.partition_size, number(40) - number(32) + 1);
    assert_eq!(hard_drive.partition_sig.to_bytes_le(), table[16..32]);
    assert_eq!(variables(&lab).boot_order().unwrap(), [1, 0]);
    // A second time: nothing to write. After it lost its place: the same entry, first again.
    let file = lab.path("pc.variables").join(format!("BootOrder-{GLOBAL}"));
    let run = firmware(&lab, &["entry", "disk.img"]);
    assert!(run.stdout.contains("Nothing was written"), "{}", run.stdout);
    fs::write(&file, [7, 0, 0, 0, 0, 0, 1, 0]).unwrap();
    let run = firmware(&lab, &["entry", "disk.img", "--json"]).json();
    assert_eq!(
        (&run["entry"], &run["was_there"]),
        (&"Boot0001".into(), &false.into())
    );
    assert_eq!(variables(&lab).boot_order().unwrap(), [1, 0]);
    // An entry whose partition is gone is named and left.
    let mut dead = variables(&lab).read("Boot0001", GLOBAL).unwrap().unwrap();
    let at = dead
        .data
        .windows(16)
        .position(|id| *id == table[16..32])
        .unwrap();
    dead.data[at] ^= 1;
    variables(&lab).write("Boot0004", GLOBAL, &dead).unwrap();
    let run = firmware(&lab, &["entry", "disk.img"]);
    assert!(
        run.stdout.contains("Boot0004 \"Türme\" leads nowhere"),
        "{}",
        run.stdout
    );
    assert!(variables(&lab).read("Boot0004", GLOBAL).unwrap().unwrap() == dead);
    // The rehearsal goes by it first, and what is wrong with its loader is reported there.
    let rehearse = || {
        lab.run(&["rehearse", "disk.img", "--machine", "pc.toml", "--json"])
            .json()
    };
    let json = rehearse();
    let by_order = &json["by_boot_order"];
    assert_eq!(
        (&by_order["entry"], &by_order["path"], &by_order["answer"]),
        (
            &1.into(),
            &"\\EFI\\Microsoft\\Boot\\bootmgfw.efi".into(),
            &"starts".into()
        ),
        "{json}"
    );
    let shown = lab
        .run(&["rehearse", "disk.img", "--machine", "pc.toml"])
        .stdout;
    let at = |text: &str| {
        shown
            .find(text)
            .unwrap_or_else(|| panic!("{text}: {shown}"))
    };
    assert!(
        at("Boot0001 \"Türme\"") < at("From sector 0 to the kernel"),
        "{shown}"
    );
    // The simulated PC starts by it.
    firmware(&lab, &["set", "mode=uefi"]);
    let run = firmware(&lab, &["start"]);
    assert!(
        run.stdout.contains("Boot0001 \"Türme\": \\EFI\\Microsoft"),
        "{}",
        run.stdout
    );
    assert_eq!(hash(&lab.path("disk.img")), disk);
    // To the setup screen: what else was asked for stays asked for.
    let asked = Variable {
        attributes: 7,
        data: vec![4, 0, 0, 0, 0, 0, 0, 0],
    };
    variables(&lab)
        .write("OsIndications", GLOBAL, &asked)
        .unwrap();
    assert_eq!(firmware(&lab, &["setup"]).code, 0);
    assert_eq!(variables(&lab).read_bits("OsIndications").unwrap(), Some(5));
    let none = Variable {
        attributes: 6,
        data: vec![0; 8],
    };
    variables(&lab)
        .write("OsIndicationsSupported", GLOBAL, &none)
        .unwrap();
    let run = firmware(&lab, &["setup"]);
    run.refuses(3, "cannot be asked");
}

#[test]
fn an_images_pc_is_not_this_one() {
    let lab = bench();
    let run = lab.run(&["firmware", "entry", "disk.img"]);
    run.refuses(2, "is an image");
    let run = lab.run(&["firmware", "sheet", "disk.img"]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("the disk is an image, so the PC"),
        "{}",
        run.stdout
    );
    for name in ["", "a\u{1b}b", &"x".repeat(65)] {
        let run = firmware(&lab, &["entry", "disk.img", "--name", name]);
        run.refuses(2, "1 to 64 characters");
    }
}

#[test]
fn an_entry_is_not_written_for_what_does_not_start_or_where_nothing_keeps_it() {
    let lab = bench();
    lab.standard("old.img", 512);
    let before = variables(&lab).boot_order().unwrap();
    let run = firmware(&lab, &["entry", "old.img"]);
    run.refuses(1, "no EFI system partition");
    assert_eq!(variables(&lab).boot_order().unwrap(), before);
    fs::write(lab.path("silent.toml"), "").unwrap();
    let run = lab.run(&["firmware", "--machine", "silent.toml", "entry", "disk.img"]);
    run.refuses(3, "names no folder");
    // The folder cannot be written: the entry is not there, and that is reported.
    let folder = lab.path("pc.variables");
    fs::create_dir(folder.join(format!("Boot0001-{GLOBAL}"))).unwrap();
    let run = firmware(&lab, &["entry", "disk.img"]);
    run.refuses(3, "variable Boot0001");
    assert_eq!(variables(&lab).boot_order().unwrap(), before);
    // Files without an end are not read to their end.
    fs::write(lab.path("endless.toml"), "[pc]\nsmbios = \"/dev/zero\"\n").unwrap();
    assert_eq!(lab.run(&["firmware", "--machine", "endless.toml"]).code, 0);
    for args in [
        &["firmware", "--machine", "/dev/zero"][..],
        &["check", "disk.img", "--policy", "/dev/zero"],
    ] {
        let run = lab.run(args);
        run.refuses(2, "longer than");
    }
    for (text, expected) in [
        ("[firmware]\nmode = \"fast\"", "line 2, column 8"),
        (
            "[firmware]\nvariables = \"gone\"",
            "gone is named in it and is not there",
        ),
    ] {
        fs::write(lab.path("wrong.toml"), text).unwrap();
        let run = lab.run(&["firmware", "--machine", "wrong.toml"]);
        run.refuses(2, expected);
    }
}
