//! Wrong usage and unreadable things: a plain sentence, the right exit code, nothing changed.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::support::Lab;

#[test]
fn wrong_options_exit_2() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for args in [
        vec!["check"],
        vec!["check", path, "--no-such-option"],
        vec!["check", path, "--sector-size", "520"],
        vec!["check", path, "--place", "elsewhere"],
        vec!["check", path, "--esp-size", "many"],
        vec!["convert", path],
        vec!["rules", "no.such-rule"],
        vec!["frobnicate"],
    ] {
        let run = lab.run(&args);
        assert_eq!((run.code, run.stdout.as_str()), (2, ""), "{args:?}");
        assert!(
            run.stderr.starts_with("error: "),
            "{args:?}: {}",
            run.stderr
        );
    }
}

#[test]
fn what_cannot_be_read_exits_3_with_a_plain_sentence() {
    let lab = Lab::new();
    fs::write(lab.path("empty.img"), "").unwrap();
    fs::write(lab.path("cut.img"), vec![0; 1000]).unwrap();
    for (name, sentence) in [
        ("missing.img", "cannot be opened: No such file"),
        (".", "is a directory, not a disk"),
        ("empty.img", "the image is truncated or not a disk image"),
        (
            "cut.img",
            "1000 bytes long, which is not a whole number of 512-byte sectors",
        ),
        (
            "/dev/null",
            "a pipe, socket or character device, not a disk",
        ),
    ] {
        // A folder means the images in it to `check`; to the others it is no disk.
        let commands = ["plan", "rehearse", "check"];
        let count = if name == "." { 2 } else { 3 };
        for command in &commands[..count] {
            let run = lab.run(&[command, name]);
            assert_eq!(
                (run.code, run.stdout.as_str()),
                (3, ""),
                "{command} {name}: {}",
                run.stderr
            );
            assert!(
                run.stderr.contains(sentence) && run.stderr.contains("Next: "),
                "{}",
                run.stderr
            );
        }
        let run = lab.run(&["convert", name, "--job", "job", "--yes"]);
        assert_eq!(run.code, 3, "{}", run.stderr);
        assert!(!lab.path("job").exists());
    }
}

#[test]
fn an_image_that_may_not_be_read_is_refused() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    fs::set_permissions(&image, fs::Permissions::from_mode(0o000)).unwrap();
    if fs::File::open(&image).is_ok() {
        // The superuser may read everything; run the program as another user.
        let copy = lab.path("schwelle");
        // By another process: a program that another test's process has inherited open for writing cannot be started.
        let program = assert_cmd::cargo::cargo_bin("schwelle");
        schwelle_testkit::tool("cp", &[program.to_str().unwrap(), copy.to_str().unwrap()]);
        fs::set_permissions(lab.path("."), fs::Permissions::from_mode(0o755)).unwrap();
        let (copy, path) = (copy.to_str().unwrap(), image.to_str().unwrap());
        let args = [
            "--reuid=65534",
            "--regid=65534",
            "--clear-groups",
            copy,
            "check",
            path,
        ];
        let run = schwelle_testkit::tool_any("setpriv", &args);
        run.refuses(3, "Permission denied");
    } else {
        let run = lab.run(&["check", image.to_str().unwrap()]);
        run.refuses(3, "Permission denied");
    }
}

#[test]
fn an_image_cut_short_is_blocked_by_its_own_table() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    fs::File::options()
        .write(true)
        .open(&image)
        .unwrap()
        .set_len(100 << 20)
        .unwrap();
    let run = lab.run(&["check", image.to_str().unwrap()]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("table.inside")
            && run.stdout.contains("partition 2 ends at LBA 432127"),
        "{}",
        run.stdout
    );
}

#[test]
fn the_sector_size_of_an_image_is_found_out() {
    let lab = Lab::new();
    for sector in [512, 4096] {
        let (image, _) = lab.standard(&format!("{sector}.img"), sector);
        let path = image.to_str().unwrap();
        let json = lab.run(&["survey", path, "--json"]).json();
        assert_eq!(
            (&json["sector_bytes"], &json["answer"]),
            (&sector.into(), &"ready".into())
        );
        // Named wrongly, nothing fits any more, and it is refused.
        let wrong = if sector == 512 { "4096" } else { "512" };
        assert_eq!(lab.run(&["check", path, "--sector-size", wrong]).code, 1);
        let (converted, _) = lab.converted(&format!("converted-{sector}.img"), sector);
        assert_eq!(lab.run(&["rehearse", converted.to_str().unwrap()]).code, 0);
    }
}

#[test]
fn the_program_alone_greets_with_the_next_steps() {
    let run = Lab::new().run(&[]);
    assert_eq!(run.code, 0);
    for step in [
        "schwelle survey",
        "schwelle check DISK",
        "schwelle plan DISK",
        "schwelle --help",
    ] {
        assert!(run.stdout.contains(step), "{step}: {}", run.stdout);
    }
}

#[test]
fn completions_and_manual_pages_come_from_the_definitions() {
    let lab = Lab::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let run = lab.run(&["completions", shell]);
        assert_eq!(run.code, 0);
        for word in ["rehearse", "data-disk", "survey"] {
            assert!(run.stdout.contains(word), "{shell}: {word}");
        }
    }
    // The shell itself takes it.
    let script = lab.path("completion.bash");
    fs::write(&script, lab.run(&["completions", "bash"]).stdout).unwrap();
    let asked = "source completion.bash; COMP_WORDS=(schwelle reh); COMP_CWORD=1; _schwelle schwelle reh schwelle; echo ${COMPREPLY[@]}";
    let shell = std::process::Command::new("bash")
        .args(["-c", asked])
        .current_dir(lab.path(""))
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&shell.stdout).trim(),
        "rehearse",
        "{shell:?}"
    );

    let run = lab.run(&["manual", "pages"]);
    assert_eq!(run.code, 0, "{}", run.stderr);
    let page = |name: &str| fs::read_to_string(lab.path("pages").join(name)).unwrap();
    assert!(page("schwelle.1").contains("schwelle\\-check(1)"));
    let check = page("schwelle-check.1");
    for expected in [
        "\\-\\-sector\\-size",
        "schwelle check /dev/sda",
        ".SH OPTIONS",
    ] {
        assert!(check.contains(expected), "{expected}: {check}");
    }
    assert!(page("schwelle-firmware-sheet.1").contains("GO"));
    fs::write(lab.path("file"), "").unwrap();
    assert_eq!(lab.run(&["manual", "file"]).code, 3);
}

#[test]
fn a_machine_file_tells_of_the_pc_and_a_wrong_one_is_refused_with_its_line() {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    let path = image.to_str().unwrap();
    for (text, code, answer) in [
        (
            "[firmware]\nuefi = true\n[power]\nsource = \"mains\"\n",
            0,
            "ready",
        ),
        ("[firmware]\nuefi = false\n", 1, "blocked"),
        ("[power]\nsource = \"battery\"\n", 0, "caution"),
        ("", 0, "ready"),
    ] {
        fs::write(lab.path("pc.toml"), text).unwrap();
        for command in ["check", "plan"] {
            let run = lab.run(&[command, path, "--machine", "pc.toml", "--json"]);
            assert_eq!(
                (run.code, &run.json()["answer"]),
                (code, &answer.into()),
                "{text}"
            );
        }
    }
    fs::write(lab.path("pc.toml"), "[firmware]\nufei = true\n").unwrap();
    for (file, expected) in [
        ("pc.toml", "line 2, column 1"),
        ("none.toml", "No such file"),
    ] {
        let run = lab.run(&["check", path, "--machine", file]);
        assert_eq!((run.code, run.stdout.as_str()), (2, ""));
        assert!(run.stderr.contains(expected), "{}", run.stderr);
    }
}

/// The next command has the options that this one was given, as far as it takes them; so it is typed as it stands.
#[test]
fn what_comes_next_has_what_was_given() {
    let lab = Lab::new();
    lab.standard("disk.img", 512);
    fs::write(lab.path("pc.toml"), "[firmware]\nuefi = true\n").unwrap();
    fs::write(lab.path("p.toml"), "shop = \"Nordpier\"\n").unwrap();
    let image = "--sector-size 512";
    let pc = format!("{image} --machine pc.toml");
    let looked = format!("{pc} --policy p.toml");
    let all = format!("--place gap --esp-size 120M {looked}");
    let mut command = format!("survey disk.img {looked}");
    for (lead, next) in [
        (
            "All about one: schwelle ",
            format!("check disk.img {looked}"),
        ),
        ("", format!("check disk.img {all}")),
        ("Next: schwelle ", format!("plan disk.img {all}")),
        (
            "Next: schwelle ",
            format!("convert disk.img {all} --job DIR"),
        ),
        (
            "order: schwelle ",
            format!("firmware sheet disk.img {looked}"),
        ),
        ("", format!("confirm disk.img {pc}")),
        ("", format!("rehearse disk.img {image}")),
        (
            "Next: schwelle ",
            format!("firmware sheet disk.img {image}"),
        ),
    ] {
        let yes = if command.starts_with("convert") {
            " --yes"
        } else {
            ""
        };
        let words = format!("{command}{yes}");
        let words: Vec<&str> = words.split(' ').collect();
        let run = lab.run(&words);
        assert!(
            lead.is_empty() || run.stdout.contains(&format!("{lead}{next}\n")),
            "{command}: {}",
            run.stdout
        );
        if command.starts_with("convert") {
            assert!(
                run.stdout
                    .contains(&format!("schwelle confirm disk.img {pc} --job "))
            );
        }
        command = next;
    }
}
