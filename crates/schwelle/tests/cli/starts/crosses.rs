//! A Linux that has UEFI boot loaders starts afterwards: what it gets on the EFI system partition, what the rehearsal
//! sees of it, and what keeps it from starting.

use std::fs;
use std::path::Path;

use schwelle_demo::MbrEntry;
use schwelle_testkit::{Run, extract, hash, tool};
use serde_json::{Value, json};

use super::dual::{Dual, Holds, LINUX, LINUX_UUID, core, efi_grub, embed, make_ext4};
use super::{WINDOWS_THEN_LINUX, is_sound_ext4, listed};
use crate::job_files::job_args;
use crate::support::{Lab, SIGNATURE, lba, place};

const FOLDER: &str = "/EFI/ankerplatz";
const SHIM: &str = "/usr/lib/shim/shimx64.efi.signed";

/// Puts loaders where distributions have them on a system's volume.
fn with_loaders(lab: &Lab) -> impl FnOnce(&Path) {
    let grub = efi_grub(lab, FOLDER);
    move |root| {
        let shim = fs::read(SHIM).expect("tools/install-test-tools.sh brings it");
        for (path, content) in [
            ("usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", &grub),
            ("usr/lib/shim/shimx64.efi.signed", &shim),
        ] {
            let path = root.join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
    }
}

fn record(job: &Path) -> Value {
    serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap()
}

/// A file of the EFI system partition, by a reader of FAT.
fn on_esp(lab: &Lab, image: &Path, path: &str) -> Vec<u8> {
    let (esp, out) = (lab.path("esp.img"), lab.path("file"));
    extract(image, place(&record(&lab.path("job")), "EFI system"), &esp);
    fs::remove_file(&out).ok();
    let from = format!("::{path}");
    tool(
        "mcopy",
        &["-i", esp.to_str().unwrap(), &from, out.to_str().unwrap()],
    );
    fs::read(out).unwrap()
}

fn step<'r>(run: &'r Value, name: &str) -> Option<&'r Value> {
    let mut steps = run["steps"].as_array().unwrap().iter();
    steps.find(|step| step["step"] == name)
}

#[test]
#[ignore = "needs outside programs"]
fn both_systems_start_afterwards_each_by_its_own_loader() {
    for (first, is_linux) in [(None, false), (Some(LINUX), true)] {
        let lab = Lab::new();
        let image = WINDOWS_THEN_LINUX.build_with(&lab, "disk.img", with_loaders(&lab));
        let (disk, before) = (image.to_str().unwrap(), hash(&image));
        let shown = lab.run(&["check", disk, "--json"]);
        let afterwards: Vec<String> = listed(&shown).into_iter().map(|system| system.3).collect();
        assert_eq!(
            afterwards,
            ["windows-menu", "grub-menu"],
            "{}",
            shown.stdout
        );
        let more: Vec<&str> = first
            .into_iter()
            .flat_map(|name| ["--starts-first", name])
            .collect();
        let done = lab.convert(&image, "job", &[&["--quiet"], &more[..]].concat());
        assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);

        // What is there is what the Linux has on its volume, and leads back to it.
        let (grub, shim) = (efi_grub(&lab, FOLDER), fs::read(SHIM).unwrap());
        assert!(on_esp(&lab, &image, "/EFI/ankerplatz/grubx64.efi") == grub);
        assert!(on_esp(&lab, &image, "/EFI/ankerplatz/shimx64.efi") == shim);
        let lead = String::from_utf8(on_esp(&lab, &image, "/EFI/ankerplatz/grub.cfg")).unwrap();
        assert!(
            lead.contains(LINUX_UUID) && lead.contains("'/boot/grub'"),
            "{lead}"
        );
        let removable = on_esp(&lab, &image, "/EFI/BOOT/BOOTX64.EFI");
        let windows = on_esp(&lab, &image, "/EFI/Microsoft/Boot/bootmgfw.efi");
        assert!(removable == if is_linux { shim } else { windows });
        if is_linux {
            assert!(on_esp(&lab, &image, "/EFI/BOOT/grubx64.efi") == grub);
        }
        let linux = &record(&lab.path("job"))["plan"]["linux"][0];
        assert_eq!(
            (&linux["system"], &linux["loader"], &linux["is_first"]),
            (
                &json!(LINUX),
                &json!("\\EFI\\ankerplatz\\shimx64.efi"),
                &json!(is_linux)
            )
        );
        let rehearsed = lab.run(&["rehearse", disk, "--json"]);
        assert_eq!(rehearsed.code, 0, "{}", rehearsed.stdout);
        let rehearsed = rehearsed.json();
        let other = step(&rehearsed, "other-system").unwrap();
        assert_eq!(
            (&other["outcome"], &other["evidence"]["path"]),
            (&json!("pass"), &json!("/boot/vmlinuz-7"))
        );
        assert!(
            step(&rehearsed, "kernel").is_some(),
            "Windows is walked as well"
        );
        // A boot entry for either; a folder that is not there has none.
        fs::create_dir_all(lab.path("pc.variables")).unwrap();
        fs::write(
            lab.path("pc.toml"),
            "[pc]\nmodel = \"M\"\n[firmware]\nvariables = \"pc.variables\"\n",
        )
        .unwrap();
        let entry = |more: &[&str]| -> Run {
            let args = ["firmware", "--machine", "pc.toml", "entry", disk, "--json"];
            lab.run(&[&args[..], more].concat())
        };
        for (more, name, loader) in [
            (
                &["--system", "Ankerplatz"][..],
                "ankerplatz",
                "\\EFI\\ankerplatz\\shimx64.efi",
            ),
            (
                &[],
                "Windows Boot Manager",
                "\\EFI\\Microsoft\\Boot\\bootmgfw.efi",
            ),
        ] {
            let run = entry(more);
            assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
            let variables = fs::read_dir(lab.path("pc.variables")).unwrap();
            let wide = |text: &str| -> Vec<u8> {
                text.encode_utf16().flat_map(u16::to_le_bytes).collect()
            };
            let is_written = variables
                .map(|entry| fs::read(entry.unwrap().path()).unwrap())
                .any(|data| {
                    let has =
                        |text: &str| data.windows(2 * text.len()).any(|part| part == wide(text));
                    has(name) && has(loader)
                });
            assert!(is_written, "{name}");
        }
        let refused = entry(&["--system", "gone"]);
        assert_eq!(refused.code, 2);
        assert!(
            refused
                .stderr
                .contains("These folders have one: ankerplatz"),
            "{}",
            refused.stderr
        );
        let sheet = lab.run(&["firmware", "--machine", "pc.toml", "sheet", disk]);
        let flat = sheet
            .stdout
            .split_whitespace()
            .collect::<Vec<_>>()
            .join(" ");
        assert!(
            flat.contains("--system ankerplatz") && flat.contains("/boot/efi vfat"),
            "{}",
            sheet.stdout
        );

        let back = lab.run(&job_args(
            "undo",
            &lab.path("job"),
            &["--yes", "--disk", disk],
        ));
        assert_eq!(
            (back.code, hash(&image)),
            (0, before),
            "{}{}",
            back.stdout,
            back.stderr
        );
    }
}

#[test]
#[ignore = "needs outside programs"]
fn what_keeps_a_linux_from_starting_is_seen_before_anything_is_written() {
    let menu = "boot/grub/grub.cfg";
    let replace = |root: &Path, file: &str, from: &str, to: &str| {
        let path = root.join(file);
        let text = fs::read_to_string(&path).unwrap();
        assert!(text.contains(from));
        fs::write(path, text.replace(from, to)).unwrap();
    };
    let root = format!("root=UUID={LINUX_UUID}");
    type Change<'c> = &'c dyn Fn(&Path);
    // What is changed on the Linux volume, what it starts by afterwards, and what is shown of it.
    let cases: [(&str, Change<'_>, &str, &str); 6] = [
        (
            "root by number",
            &|at| replace(at, menu, &root, "root=/dev/sda3"),
            "by-table",
            "root=/dev/sda3",
        ),
        (
            "root by table",
            &|at| replace(at, menu, &root, "root=PARTUUID=0badcafe-03"),
            "by-table",
            "0badcafe-03",
        ),
        (
            "mounts by number",
            &|at| {
                fs::write(
                    at.join("etc/fstab"),
                    "# /dev/sda9 /x\n/dev/sda2 /home ext4 defaults 0 2\n",
                )
                .unwrap();
            },
            "by-table",
            "/dev/sda2",
        ),
        (
            "no kernel",
            &|at| fs::remove_file(at.join("boot/vmlinuz-7")).unwrap(),
            "no-loader",
            "/boot/vmlinuz-7, which is not there",
        ),
        (
            "a kernel that is none",
            &|at| fs::write(at.join("boot/vmlinuz-7"), "text").unwrap(),
            "grub-menu",
            "/boot/vmlinuz-7",
        ),
        (
            "no RAM disk",
            &|at| fs::remove_file(at.join("boot/initrd.img-7")).unwrap(),
            "grub-menu",
            "/boot/initrd.img-7",
        ),
    ];
    for (name, change, afterwards, told) in cases {
        let lab = Lab::new();
        let loaders = with_loaders(&lab);
        let image = WINDOWS_THEN_LINUX.build_with(&lab, "disk.img", |at| {
            loaders(at);
            change(at);
        });
        let before = hash(&image);
        let shown = lab.run(&["check", image.to_str().unwrap(), "--json"]);
        let system = listed(&shown)
            .into_iter()
            .find(|system| system.0 == LINUX)
            .unwrap();
        assert_eq!(system.3, afterwards, "{name}: {}", shown.stdout);
        let refused = lab.convert(&image, "job", &[]);
        let whole = refused.stdout.clone() + &refused.stderr;
        let flat = whole.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(flat.contains(told), "{name}: {whole}");
        // Without a kernel it does not start today either, so there is nothing to give up.
        let expected = match (afterwards, name) {
            ("grub-menu", _) => 1,
            (_, "no kernel") => 0,
            _ => 2,
        };
        assert_eq!(refused.code, expected, "{name}: {whole}");
        assert_eq!(hash(&image) == before, expected != 0, "{name}");
    }
}

#[test]
#[ignore = "needs outside programs"]
fn loaders_that_are_given_are_for_the_system_that_they_are_made_for() {
    let lab = Lab::new();
    let image = WINDOWS_THEN_LINUX.build(&lab, "disk.img");
    let disk = image.to_str().unwrap();
    for (folder, content, told) in [
        ("gone", None, "there is no grubx64.efi"),
        ("text", Some(b"no program".to_vec()), "grubx64.efi"),
        (
            "nowhere",
            Some(schwelle_demo::BOOT_MANAGER.to_vec()),
            "does not say in which folder",
        ),
        ("own", Some(efi_grub(&lab, FOLDER)), ""),
    ] {
        let at = lab.path(folder);
        if let Some(content) = content {
            fs::create_dir(&at).unwrap();
            fs::write(at.join("grubx64.efi"), content).unwrap();
        }
        let run = lab.run(&[
            "check",
            disk,
            "--json",
            "--boot-files",
            at.to_str().unwrap(),
        ]);
        match told {
            "" => assert_eq!(listed(&run)[1].3, "grub-menu", "{}", run.stdout),
            told => assert!(
                run.code == 2 && run.stderr.contains(told),
                "{folder}: {}",
                run.stderr
            ),
        }
    }
    // Without a system of its name, or one that starts first.
    let data = lab.standard("windows.img", 512).0;
    let args = ["check", data.to_str().unwrap(), "--boot-files", "own"];
    let run = lab.run(&args);
    run.refuses(2, "no Linux on this disk");
    let run = lab.run(&["plan", disk, "--starts-first", LINUX]);
    run.refuses(2, "These do: \"Windows 10");
}

/// A disk with a Linux alone: its volume, and a swap area up to the end.
fn linux_only(lab: &Lab, swap_mib: u32) -> std::path::PathBuf {
    let dual = Dual {
        order: [Holds::Linux, Holds::Boot, Holds::Windows],
        first: 2048,
        has_grub: true,
    };
    let volume = dual.linux(lab, with_loaders(lab));
    let swap = lab.path("swap.img");
    fs::File::create(&swap)
        .unwrap()
        .set_len(u64::from(swap_mib) << 20)
        .unwrap();
    tool(
        "mkswap",
        &[
            "-q",
            "-L",
            "Tausch",
            "-U",
            "5e7ec0de-0000-4000-8000-00000000a11d",
            swap.to_str().unwrap(),
        ],
    );
    lab.image("disk.img", 512, 42 + u64::from(swap_mib), |disk| {
        let entry = |kind: u8, first: u32, sectors: u32| MbrEntry {
            active: false,
            kind,
            first,
            sectors,
        };
        let entries = [
            entry(0x83, 2048, 40 * 2048),
            entry(0x82, 41 * 2048, swap_mib * 2048),
        ];
        disk.boot_record(lba(0), SIGNATURE, &entries).unwrap();
        disk.bytes(lba(2048), &fs::read(&volume).unwrap()).unwrap();
        disk.bytes(lba(41 * 2048), &fs::read(&swap).unwrap()[..8192])
            .unwrap();
        embed(disk, &core(lab));
    })
}

#[test]
#[ignore = "needs outside programs"]
fn a_linux_alone_gets_its_room_from_the_end_of_its_swap_area() {
    let lab = Lab::new();
    let image = linux_only(&lab, 200);
    let (disk, before) = (image.to_str().unwrap(), hash(&image));
    assert_eq!(lab.run(&["rehearse", disk, "--to", "mbr"]).code, 0);
    let done = lab.convert(&image, "job", &["--quiet", "--esp-size", "100M"]);
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    // Its own tools know it by its label and UUID, and as long as its partition.
    let plan = record(&lab.path("job"));
    let after = plan["plan"]["after"].as_array().unwrap();
    let part = after.iter().find(|part| part["number"] == 2).unwrap();
    let (first, last) = (
        part["first_lba"].as_u64().unwrap(),
        part["last_lba"].as_u64().unwrap(),
    );
    let swap = lab.path("after.img");
    extract(&image, (first * 512, (last + 1 - first) * 512), &swap);
    let told = tool("swaplabel", &[swap.to_str().unwrap()]).stdout;
    assert!(
        told.contains("Tausch") && told.contains("00000000a11d"),
        "{told}"
    );
    let pages = u32::from_le_bytes(fs::read(&swap).unwrap()[1028..1032].try_into().unwrap());
    assert_eq!(u64::from(pages) + 1, (last + 1 - first) / 8);
    extract(&image, (2048 * 512, 40 << 20), &lab.path("volume.img"));
    is_sound_ext4(&lab.path("volume.img"));

    let rehearsed = lab.run(&["rehearse", disk, "--json"]);
    assert_eq!(rehearsed.code, 0, "{}", rehearsed.stdout);
    let steps = ["linux-loader", "linux-menu", "linux-kernel"];
    assert!(
        steps
            .iter()
            .all(|name| step(&rehearsed.json(), name).unwrap()["outcome"] == "pass")
    );
    // The system is used: its kernel goes, and the walk ends there.
    let job = lab.path("job");
    let undone = lab.run(&job_args("undo", &job, &["--yes", "--disk", disk]));
    assert_eq!(
        (undone.code, hash(&image)),
        (0, before),
        "{}{}",
        undone.stdout,
        undone.stderr
    );

    // Too little would be left of a small one.
    let small = linux_only(&lab, 120);
    let blocked = lab.run(&["check", small.to_str().unwrap()]);
    assert_eq!(blocked.code, 1);
    assert!(
        blocked.stdout.contains("32 MiB of the swap area"),
        "{}",
        blocked.stdout
    );
}

#[test]
#[ignore = "needs outside programs"]
fn a_linux_with_its_boot_files_on_a_volume_of_their_own_is_one_system() {
    const BOOT_UUID: &str = "5e7ec0de-0000-4000-8000-00000000b007";
    let lab = Lab::new();
    let (root, boot) = (lab.path("root"), lab.path("boot"));
    fs::create_dir_all(boot.join("grub/i386-pc")).unwrap();
    fs::create_dir_all(root.join("etc")).unwrap();
    fs::create_dir_all(root.join("boot")).unwrap();
    with_loaders(&lab)(&root);
    fs::write(
        root.join("etc/os-release"),
        format!("ID=ankerplatz\nPRETTY_NAME=\"{LINUX}\"\n"),
    )
    .unwrap();
    fs::write(
        root.join("etc/fstab"),
        format!("UUID={LINUX_UUID} / ext4 defaults 0 1\n"),
    )
    .unwrap();
    fs::write(boot.join("vmlinuz-7"), schwelle_demo::BOOT_MANAGER).unwrap();
    fs::write(boot.join("initrd.img-7"), "its first files").unwrap();
    fs::write(
        boot.join("grub/i386-pc/core.img"),
        fs::read(core(&lab)).unwrap(),
    )
    .unwrap();
    let menu = format!(
        "menuentry 'Ankerplatz' {{\n search --no-floppy --fs-uuid --set=root --hint-bios=hd0,msdos1 {BOOT_UUID}\n \
         linux /vmlinuz-7 root=UUID={LINUX_UUID} ro\n initrd /initrd.img-7\n}}\n"
    );
    fs::write(boot.join("grub/grub.cfg"), menu).unwrap();
    make_ext4(&boot, BOOT_UUID, 20, &lab.path("boot.img"));
    make_ext4(&root, LINUX_UUID, 40, &lab.path("root.img"));
    let image = lab.image("disk.img", 512, 300, |disk| {
        let entry = |first: u32, mib: u32| MbrEntry {
            active: false,
            kind: 0x83,
            first: first * 2048,
            sectors: mib * 2048,
        };
        disk.boot_record(lba(0), SIGNATURE, &[entry(1, 20), entry(21, 40)])
            .unwrap();
        for (mib, file) in [(1, "boot.img"), (21, "root.img")] {
            disk.bytes(lba(mib * 2048), &fs::read(lab.path(file)).unwrap())
                .unwrap();
        }
        embed(disk, &core(&lab));
    });
    let shown = lab.run(&["check", image.to_str().unwrap(), "--json"]);
    let expected = (
        LINUX.to_owned(),
        json!(2),
        "grub-menu".to_owned(),
        "grub-menu".to_owned(),
    );
    assert_eq!(listed(&shown), [expected], "{}", shown.stdout);
    let done = lab.convert(&image, "job", &["--quiet"]);
    assert_eq!(done.code, 0, "{}{}", done.stdout, done.stderr);
    let lead = String::from_utf8(on_esp(&lab, &image, "/EFI/ankerplatz/grub.cfg")).unwrap();
    assert!(
        lead.contains(BOOT_UUID) && lead.contains("'/grub'"),
        "{lead}"
    );
    assert_eq!(lab.run(&["rehearse", image.to_str().unwrap()]).code, 0);
}

#[test]
#[ignore = "needs outside programs"]
fn a_folder_left_over_from_a_linux_is_told_and_keeps_windows_from_nothing() {
    let lab = Lab::new();
    let image = WINDOWS_THEN_LINUX.build_with(&lab, "disk.img", with_loaders(&lab));
    let disk = image.to_str().unwrap();
    assert_eq!(lab.convert(&image, "job", &["--quiet"]).code, 0);
    // Another system takes the volume of the Linux.
    let linux = WINDOWS_THEN_LINUX.extent(Holds::Linux);
    let empty = lab.path("empty");
    fs::create_dir(&empty).unwrap();
    make_ext4(
        &empty,
        "5e7ec0de-0000-4000-8000-00000000beef",
        40,
        &lab.path("other.img"),
    );
    crate::support::poke(
        &image,
        linux.first.0 * 512,
        &fs::read(lab.path("other.img")).unwrap(),
    );
    let run = lab.run(&["rehearse", disk, "--json"]);
    let document = run.json();
    assert_eq!(
        (run.code, &document["answer"]),
        (0, &json!("starts")),
        "{}",
        run.stdout
    );
    let other = step(&document, "other-system").unwrap();
    assert_eq!(
        (&other["outcome"], &other["evidence"]["kind"]),
        (&json!("caution"), &json!("no-such-volume"))
    );
}

#[test]
#[ignore = "needs outside programs"]
fn what_is_not_looked_into_is_told_so() {
    for (program, args, name) in [
        ("mkfs.btrfs", &["-q"][..], "Btrfs on partition 3"),
        (
            "cryptsetup",
            &[
                "luksFormat",
                "-q",
                "--key-file",
                "/dev/urandom",
                "--keyfile-size",
                "32",
                "--pbkdf",
                "pbkdf2",
                "--pbkdf-force-iterations",
                "1000",
            ],
            "LUKS on partition 3",
        ),
    ] {
        let lab = Lab::new();
        let other = lab.path("other.img");
        fs::File::create(&other)
            .unwrap()
            .set_len(120 << 20)
            .unwrap();
        tool(program, &[args, &[other.to_str().unwrap()]].concat());
        let image = lab.image("disk.img", 512, 500, |disk| {
            crate::blocked::with_table(disk, |entries| {
                entries.push(MbrEntry {
                    active: false,
                    kind: 0x83,
                    first: 300 * 2048,
                    sectors: 120 * 2048,
                });
            });
            disk.bytes(lba(300 * 2048), &fs::read(&other).unwrap())
                .unwrap();
            embed(disk, &core(&lab));
        });
        let shown = lab.run(&["check", image.to_str().unwrap(), "--json"]);
        let systems = listed(&shown);
        let of = |name: &str| {
            systems
                .iter()
                .find(|system| system.0 == name)
                .map(|system| (system.2.as_str(), system.3.as_str()))
        };
        assert_eq!(
            of(name),
            Some(("not-looked-into", "not-looked-into")),
            "{}",
            shown.stdout
        );
        // GRUB's menu lies there, or nowhere: what it starts is not known, and is given up by that name.
        assert_eq!(
            of("GRUB"),
            Some(("boot-code", "bios-code")),
            "{}",
            shown.stdout
        );
        let refused = lab.convert(&image, "job", &[]);
        refused.refuses(2, "--drop \"GRUB\"");
    }
}
