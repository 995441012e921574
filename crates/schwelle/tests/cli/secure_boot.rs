//! Secure Boot: our verdict on a loader, and that of real firmware with the same keys.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::thread;

use schwelle_core::firmware::{
    GLOBAL, IMAGE_SECURITY, Keys, Variable, Variables, Verdict, certificate_list, verdict,
};
use schwelle_demo::{BOOT_KEY, BOOT_MANAGER};
use uuid::{Uuid, uuid};

use crate::real_firmware::{Firmware, device, put, unpack};
use crate::signing::{OWNER, image_hash, issue, list, sign, sign_with, signed_part_hash, test_key};
use crate::support::{Lab, place};
use crate::volumes::edit_volume;
use schwelle_testkit::{copy_image, tool};

const FOLDER: &str = "/usr/share/OVMF";
const SHA256: Uuid = uuid!("c1c41626-504c-4092-aca9-41f936934328");
const X509_SHA256: Uuid = uuid!("3bd2a492-96c0-4079-b420-fcf98ef103ed");

#[test]
#[ignore = "needs outside programs"]
fn our_verdict_is_that_of_real_firmware_with_the_same_keys() {
    let lab = Lab::new();
    let (converted, record) = lab.converted("disk.img", 512);
    let esp = place(&record, "EFI system");
    let key = test_key(&lab);
    let unsigned = fs::read(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../schwelle-demo/assets/boot/bootmgfw.efi"
    ));
    let unsigned = unsigned.unwrap();
    let signed = sign(&lab, &key, &unsigned);
    let changed = |at: usize| {
        let mut program = signed.clone();
        program[at] ^= 1;
        program
    };
    // The code is changed, and the hash in the signature with it: only the attributes, which are what is
    // signed, still know the old one.
    let forged = {
        let mut program = changed(1100);
        let (old, new) = (image_hash(&lab, &signed), image_hash(&lab, &program));
        let at = program.windows(32).position(|bytes| *bytes == old).unwrap();
        program[at..at + 32].copy_from_slice(&new);
        program
    };
    // A signer whose issuer has the name of the enrolled one and another key; one issued by a
    // certificate that may issue nothing; and one properly issued through another.
    let enrolled_name = "/O=Lighthouse Service/CN=Lighthouse Boot Programs 2024";
    let namesake = issue(&lab, "namesake", enrolled_name, true, None);
    let false_signer = issue(&lab, "false-signer", "/CN=A Signer", false, Some(&namesake));
    let root = issue(&lab, "root", "/CN=A Root", true, None);
    let middle = issue(&lab, "middle", "/CN=In Between", true, Some(&root));
    let good_signer = issue(&lab, "good-signer", "/CN=A Signer", false, Some(&middle));
    let plain_signer = issue(&lab, "plain-signer", "/CN=No Authority", false, Some(&root));
    let bad_signer = issue(
        &lab,
        "bad-signer",
        "/CN=Issued By No Authority",
        false,
        Some(&plain_signer),
    );
    let with_root = certificate_list(&fs::read(&root[2]).unwrap(), OWNER);
    let by =
        |key: &[PathBuf; 3], issuer: &[PathBuf; 3]| sign_with(&lab, key, Some(issuer), &unsigned);
    let (by_false, by_good, by_bad) = (
        by(&false_signer, &namesake),
        by(&good_signer, &middle),
        by(&bad_signer, &plain_signer),
    );
    let shim = fs::read("/usr/lib/shim/shimx64.efi.signed").unwrap();
    let enrolled = fs::read(&key[2]).unwrap();
    let hash = image_hash(&lab, &signed);
    type Change<'a> = &'a [(&'a str, Vec<u8>)];
    let none: Change<'_> = &[];
    // What it is, keys, what is changed about them, the loader, accepted, why in our words.
    type Case<'a> = (&'a str, &'a str, Change<'a>, Vec<u8>, bool, &'a str);
    let cases: [Case<'_>; 19] = [
        (
            "signed by an enrolled key",
            "snakeoil",
            none,
            signed.clone(),
            true,
            "db allows",
        ),
        (
            "not signed",
            "snakeoil",
            none,
            unsigned.clone(),
            false,
            "not signed",
        ),
        (
            "code changed",
            "snakeoil",
            none,
            changed(1100),
            false,
            "changed since",
        ),
        (
            "head changed",
            "snakeoil",
            none,
            changed(140),
            false,
            "changed since",
        ),
        (
            "signature changed",
            "snakeoil",
            none,
            changed(signed.len() - 40),
            false,
            "does not verify",
        ),
        (
            "hash in the signature changed too",
            "snakeoil",
            none,
            forged,
            false,
            "does not verify",
        ),
        (
            "bytes appended",
            "snakeoil",
            none,
            [&signed[..], &[7; 8]].concat(),
            false,
            "",
        ),
        (
            "signed by another key",
            "snakeoil",
            none,
            BOOT_MANAGER.to_vec(),
            false,
            "db holds no",
        ),
        (
            "signed by both",
            "snakeoil",
            none,
            sign(&lab, &key, BOOT_MANAGER),
            true,
            "db allows",
        ),
        (
            "signer's issuer enrolled",
            "snakeoil",
            &[("db", certificate_list(BOOT_KEY, OWNER))],
            BOOT_MANAGER.to_vec(),
            true,
            "through \"Lighthouse Boot Programs 2024\"",
        ),
        (
            "an issuer of the enrolled one's name, with another key",
            "snakeoil",
            &[("db", certificate_list(BOOT_KEY, OWNER))],
            by_false,
            false,
            "db holds no",
        ),
        (
            "issued through one in between",
            "snakeoil",
            &[("db", with_root.clone())],
            by_good,
            true,
            "through \"A Root\"",
        ),
        (
            "issued by one that may not",
            "snakeoil",
            &[("db", with_root)],
            by_bad,
            false,
            "db holds no",
        ),
        (
            "hash allowed",
            "snakeoil",
            &[("db", list(SHA256, &image_hash(&lab, &unsigned)))],
            unsigned,
            true,
            "hash is in db",
        ),
        (
            "hash revoked",
            "snakeoil",
            &[("dbx", list(SHA256, &hash))],
            signed.clone(),
            false,
            "hash is in dbx",
        ),
        (
            "key revoked",
            "snakeoil",
            &[("dbx", certificate_list(&enrolled, OWNER))],
            signed.clone(),
            false,
            "dbx has revoked",
        ),
        (
            "key revoked by hash",
            "snakeoil",
            &[("dbx", list(X509_SHA256, &signed_part_hash(&lab, &enrolled)))],
            signed.clone(),
            false,
            "dbx has revoked",
        ),
        (
            "a distribution's loader, its keys",
            "ms",
            none,
            shim.clone(),
            true,
            "db allows",
        ),
        (
            "a distribution's loader, other keys",
            "snakeoil",
            none,
            shim,
            false,
            "db holds no",
        ),
    ];
    // A firmware tries its disks one after the other until one is accepted: cases with the same keys share a start, up
    // to the first that is accepted.
    let mut starts: Vec<Vec<Case<'_>>> = Vec::new();
    for case in cases {
        let shared = starts.iter_mut().find(|start| {
            let same = start
                .iter()
                .all(|other| (other.1, other.2) == (case.1, case.2));
            let goes_on = start.iter().all(|other| !other.4) && start.len() < 16;
            same && goes_on
        });
        match shared {
            Some(start) => start.push(case),
            None => starts.push(vec![case]),
        }
    }
    let start = |start: &[Case<'_>]| {
        let lab = Lab::new();
        let variables = lab.path("keys.fd");
        let (keys, changes) = (start[0].1, start[0].2);
        fs::copy(format!("{FOLDER}/OVMF_VARS_4M.{keys}.fd"), &variables).unwrap();
        for (name, data) in changes {
            put(&variables, name, IMAGE_SECURITY, data);
        }
        let mut images = Vec::new();
        for (index, (_, _, _, loader, _, _)) in start.iter().enumerate() {
            let image = lab.path(&format!("{index}.img"));
            copy_image(&converted, &image);
            let esp = format!("{}@@{}", image.display(), esp.0);
            let file = lab.path("loader.efi");
            fs::write(&file, loader).unwrap();
            let file = file.to_str().unwrap();
            let args = ["-o", "-i", &esp, file, "::/EFI/BOOT/BOOTX64.EFI"];
            tool("mcopy", &args);
            images.push(image);
        }
        let paths: Vec<&Path> = images.iter().map(PathBuf::as_path).collect();
        let console = Firmware::with_keys(&variables).start_from_power_on(&lab, &paths, 512);
        let folder = lab.path("keys");
        unpack(&variables, &folder);
        for (index, (what, _, _, _, accepted, why)) in start.iter().enumerate() {
            let device = device(index);
            let says = |word: &str| {
                let mut lines = console.lines();
                lines.any(|line| line.contains(&device) && line.contains(word))
            };
            let by_firmware = says("BdsDxe: starting Boot") && !says("Access Denied");
            assert!(says("BdsDxe: "), "{what} was not tried: {console}");
            assert_eq!(by_firmware, *accepted, "{what}, by the firmware: {console}");

            let machine = lab.path("pc.toml");
            let text = format!(
                "[firmware]\nmode = \"uefi\"\nsecure_boot = true\nvariables = \"keys\"\n\
                 [[disk]]\nimage = \"{index}.img\"\n"
            );
            fs::write(&machine, text).unwrap();
            let run = lab.run(&["firmware", "--machine", "pc.toml", "start", "--json"]);
            let events = run.json()["events"].to_string();
            let word = match accepted {
                true => "Secure Boot accepts",
                false => "Secure Boot refuses",
            };
            assert!(events.contains(word), "{what}: {events}");
            assert!(
                events.contains(&why.replace('"', "\\\"")),
                "{what}: {events}"
            );
        }
    };
    // Two at a time, as many as there are processors where this is run.
    let starts = Mutex::new(starts.into_iter());
    let next = || starts.lock().unwrap().next();
    thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(cases) = next() {
                    start(&cases);
                }
            });
        }
    });
}

#[test]
#[ignore = "needs outside programs"]
fn no_byte_of_a_signed_program_can_change_unnoticed_or_stop_the_verdict() {
    let lab = Lab::new();
    let key = test_key(&lab);
    let signed = sign(&lab, &key, BOOT_MANAGER);
    let folder = Variables::open(lab.path("").as_path()).unwrap();
    let data = certificate_list(&fs::read(&key[2]).unwrap(), OWNER);
    let enrolled = Variable {
        attributes: 7,
        data,
    };
    folder.write("db", IMAGE_SECURITY, &enrolled).unwrap();
    let keys = Keys::read(&folder).unwrap();
    assert!(verdict(&signed, &keys).accepts());
    // Every byte of the headers, some of the padding, every second of the signatures.
    let table = 38_912;
    let places = (0..512)
        .chain((512..table).step_by(997))
        .chain((table..signed.len()).step_by(2));
    let (mut changed, mut kept) = (signed.clone(), 0);
    for at in places {
        for bit in [0x01, 0x80] {
            changed[at] ^= bit;
            // The checksum and the place of the table are not signed; the first signature is not the
            // one that counts.
            if verdict(&changed, &keys).accepts() {
                kept += 1;
                let is_free = (0xD0..0xE0).contains(&(at - 0x40)) || at >= table || at < 0x140;
                assert!(is_free, "byte {at}");
            }
            changed[at] ^= bit;
        }
    }
    assert!(kept > 0, "the other signature may change");
    for len in (0..signed.len()).step_by(61) {
        assert!(!verdict(&signed[..len], &keys).accepts(), "cut at {len}");
    }
    // Damaged lists are reported, not guessed at.
    let odd = Variable {
        attributes: 7,
        data: vec![1; 40],
    };
    folder.write("dbx", IMAGE_SECURITY, &odd).unwrap();
    let error = Keys::read(&folder).unwrap_err().to_string();
    assert!(error.contains("variable dbx"), "{error}");
    folder.write("PK", GLOBAL, &odd).unwrap();
    assert!(Keys::read(&folder).is_err());
}

#[test]
#[ignore = "needs root and outside programs"]
fn of_two_signed_sets_the_one_that_the_firmware_accepts_is_placed() {
    let lab = Lab::new();
    let key = test_key(&lab);
    let second = sign(
        &lab,
        &key,
        include_bytes!("../../../schwelle-demo/assets/boot/bootmgfw.efi"),
    );
    let build = |name: &str| {
        let (image, places) = lab.standard(name, 512);
        let sector = 512;
        let windows = places.windows;
        let windows = (windows.first.0 * sector, windows.sectors() * sector);
        edit_volume(&image, windows, |mount| {
            for (folder, name, content) in [
                ("EFI_EX", "bootmgfw_EX.efi", &second[..]),
                ("Fonts_EX", "mono_boot_EX.ttf", b"a newer font"),
            ] {
                fs::create_dir(mount.path(&format!("Windows/Boot/{folder}"))).unwrap();
                fs::write(
                    mount.path(&format!("Windows/Boot/{folder}/{name}")),
                    content,
                )
                .unwrap();
            }
        });
        image
    };
    let enrolled = fs::read(&key[2]).unwrap();
    // What db holds; whether the second set is placed; the check's outcome with Secure Boot on.
    let cases: [(&str, Vec<u8>, bool, &str, &str); 3] = [
        (
            "older",
            certificate_list(BOOT_KEY, OWNER),
            false,
            "pass",
            "would be allowed to run",
        ),
        (
            "newer",
            certificate_list(&enrolled, OWNER),
            true,
            "pass",
            "the boot manager signed in 2023, which is installed",
        ),
        (
            "neither",
            list(SHA256, &[1; 32]),
            false,
            "caution",
            "Secure Boot is on",
        ),
    ];
    for (name, data, is_second, outcome, evidence) in cases {
        let image = build(&format!("{name}.img"));
        let variables = lab.path(&format!("{name}.variables"));
        fs::create_dir(&variables).unwrap();
        let folder = Variables::open(&variables).unwrap();
        folder
            .write(
                "PK",
                GLOBAL,
                &Variable {
                    attributes: 7,
                    data: data.clone(),
                },
            )
            .unwrap();
        folder
            .write(
                "db",
                IMAGE_SECURITY,
                &Variable {
                    attributes: 7,
                    data,
                },
            )
            .unwrap();
        folder
            .write(
                "SecureBoot",
                GLOBAL,
                &Variable {
                    attributes: 6,
                    data: vec![1],
                },
            )
            .unwrap();
        let machine = lab.path(&format!("{name}.toml"));
        fs::write(
            &machine,
            format!("[firmware]\nuefi = true\nvariables = \"{name}.variables\"\n"),
        )
        .unwrap();
        let machine = machine.to_str().unwrap();
        let check = lab.run(&[
            "check",
            image.to_str().unwrap(),
            "--machine",
            machine,
            "--json",
        ]);
        let check = check.json();
        let mut findings = check["findings"].as_array().unwrap().iter();
        let finding = findings
            .find(|finding| finding["rule"] == "firmware.secure-boot")
            .unwrap();
        assert_eq!(finding["outcome"], outcome, "{finding}");
        assert!(
            finding["evidence"]["text"]
                .as_str()
                .unwrap()
                .contains(evidence),
            "{finding}"
        );

        let job = lab.path(&format!("{name}.job"));
        let run = lab.convert(&image, &job, &["--machine", machine, "--quiet"]);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        let record = serde_json::from_slice(&fs::read(job.join("job.json")).unwrap()).unwrap();
        let esp = format!("{}@@{}", image.display(), place(&record, "EFI system").0);
        let read = |path: &str| {
            let to = lab.path("read");
            tool(
                "mcopy",
                &[
                    "-o",
                    "-i",
                    &esp,
                    &format!("::/EFI/{path}"),
                    to.to_str().unwrap(),
                ],
            );
            fs::read(to).unwrap()
        };
        let manager = if is_second { &second[..] } else { BOOT_MANAGER };
        for path in ["BOOT/BOOTX64.EFI", "Microsoft/Boot/bootmgfw.efi"] {
            assert!(read(path) == manager, "{name}: {path}");
        }
        let is_newer = read("Microsoft/Boot/Fonts/mono_boot.ttf") == b"a newer font";
        assert_eq!(is_newer, is_second, "{name}");
        // What the second set does not bring comes from the first.
        assert_eq!(read("Microsoft/Boot/Fonts/slab_boot.ttf").len(), 30_000);
        // The sheet says what is true of Secure Boot.
        let args = [
            "firmware",
            "--machine",
            machine,
            "sheet",
            image.to_str().unwrap(),
            "--json",
        ];
        let sheet = lab.run(&args).json();
        let said = sheet["secure_boot"]["text"].as_str().unwrap();
        let expected = if outcome == "pass" {
            "It can go on after the switch"
        } else {
            "Leave it off until the firmware has the newer certificate, \"Lighthouse Boot Programs 2024\""
        };
        assert!(said.starts_with(expected), "{name}: {said}");
    }
    let verdict = verdict(&[], &Keys::default());
    assert!(matches!(verdict, Verdict::Refused { .. }) && verdict.needs().is_none());
}
