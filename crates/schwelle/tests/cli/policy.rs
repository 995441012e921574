//! What a workshop has decided counts for all its jobs.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use serde_json::Value;

use crate::support::Lab;
use schwelle_testkit::hash;

/// A lab with a standard disk.
fn bench() -> (Lab, PathBuf) {
    let lab = Lab::new();
    let (image, _) = lab.standard("disk.img", 512);
    (lab, image)
}

fn outcome(document: &Value, rule: &str) -> String {
    let findings = document["findings"].as_array().unwrap();
    let finding = findings.iter().find(|finding| finding["rule"] == rule);
    finding.unwrap()["outcome"].as_str().unwrap().to_owned()
}

#[test]
fn severities_change_what_is_open_and_never_a_block() {
    let (lab, _) = bench();
    lab.image("blank.img", 512, 4, |_| {});
    let check = |disk: &str, severity: &str| {
        let text = format!(
            "[severity]\n\"firmware.uefi\" = \"{severity}\"\n\"table.mbr\" = \"{severity}\"\n"
        );
        fs::write(lab.path("policy.toml"), text).unwrap();
        lab.run(&["check", disk, "--policy", "policy.toml", "--json"])
    };
    for (disk, severity, code, uefi) in [
        ("disk.img", "normal", 0, "unknown"),
        ("disk.img", "strict", 1, "block"),
        ("disk.img", "known", 0, "pass"),
        ("blank.img", "known", 1, "pass"),
    ] {
        let run = check(disk, severity);
        assert_eq!(run.code, code, "{disk} {severity}: {}", run.stderr);
        assert_eq!(
            outcome(&run.json(), "firmware.uefi"),
            uefi,
            "{disk} {severity}"
        );
    }
    assert_eq!(
        outcome(&check("blank.img", "known").json(), "table.mbr"),
        "block"
    );
    let known = check("disk.img", "known").stdout;
    assert!(known.contains("(by itself: unknown; known by the policy)"));
}

#[test]
fn a_policy_that_others_can_change_is_refused() {
    let (lab, _) = bench();
    let folder = lab.path("settings");
    fs::create_dir(&folder).unwrap();
    let policy = folder.join("policy.toml");
    fs::write(&policy, "").unwrap();
    let mode = |path: &std::path::Path, mode| {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    };
    for (of_folder, of_file, code) in [(0o755, 0o644, 0), (0o755, 0o666, 2), (0o777, 0o644, 2)] {
        mode(&folder, of_folder);
        mode(&policy, of_file);
        let run = lab.run(&["check", "disk.img", "--policy", policy.to_str().unwrap()]);
        assert_eq!(run.code, code, "{of_folder:o} {of_file:o}: {}", run.stderr);
        assert_eq!(
            run.stderr.contains("other users can change this policy"),
            code != 0
        );
    }
}

#[test]
fn placements_sizes_and_confirmations_are_the_workshops() {
    let (lab, image) = bench();
    let before = hash(&image);
    let policy = |text: &str| fs::write(lab.path("policy.toml"), text).unwrap();
    let run =
        |args: &[&str], stdin| lab.run_with(&[args, &["--policy", "policy.toml"]].concat(), stdin);
    policy("[efi_system_partition]\nsize = \"120M\"\nplaces = [\"gap\"]\n");
    let plan = run(&["plan", "disk.img", "--json"], "").json();
    assert_eq!(plan["placement"]["size_bytes"], 120 << 20);
    let refused = run(&["plan", "disk.img", "--place", "shrink"], "");
    assert_eq!(refused.code, 2);
    assert!(
        refused
            .stderr
            .contains("does not allow the placement shrink")
    );
    // Nothing that is decided for system disks makes a partition on a data disk.
    lab.image("blank.img", 512, 400, |_| {});
    let blank = run(&["plan", "blank.img", "--data-disk", "--json"], "").json();
    assert_eq!(
        (&blank["placement"], blank["after"].as_array().map(Vec::len)),
        (&Value::Null, Some(1)),
        "{blank}"
    );

    policy("[confirmations]\nyes_option = false\nquestions = [\"Has the customer signed?\"]\n");
    let convert = ["convert", "disk.img", "--job", "job"];
    let yes = run(&[&convert[..], &["--yes"]].concat(), "");
    assert_eq!(
        (yes.code, lab.path("job").exists()),
        (2, false),
        "{}",
        yes.stderr
    );
    let no = run(&convert, "yes\nno\n");
    assert_eq!((no.code, hash(&image)), (2, before));
    assert!(
        no.stderr
            .contains("not answered with yes: Has the customer signed?")
    );
    let done = run(&convert, "yes\nyes\nSIGNAL-MAST\n");
    assert_eq!(done.code, 0, "{}", done.stderr);
    let record = fs::read_to_string(lab.path("job/job.json")).unwrap();
    let record: Value = serde_json::from_str(&record).unwrap();
    assert_eq!(record["questions"][0], "Has the customer signed?");
    assert_eq!(run(&["undo", "--job", "job", "--yes"], "").code, 2);
}

#[test]
fn job_folders_are_made_where_the_policy_says() {
    let (lab, _) = bench();
    let without = lab.run(&["convert", "disk.img", "--yes"]);
    assert_eq!(without.code, 2);
    assert!(
        without
            .stderr
            .contains("Next: schwelle convert disk.img --job DIR")
    );
    let root = lab.path("jobs");
    let text = format!("job_root = {:?}\n", root.to_str().unwrap());
    // Found in the first of the usual places.
    for folder in ["config/schwelle", "home/.config/schwelle"] {
        fs::create_dir_all(lab.path(folder)).unwrap();
    }
    fs::write(lab.path("config/schwelle/policy.toml"), text).unwrap();
    fs::write(lab.path("home/.config/schwelle/policy.toml"), "wrong = 1\n").unwrap();
    let (config, home) = (lab.path("config"), lab.path("home"));
    let (config, home) = (config.to_str().unwrap(), home.to_str().unwrap());
    let both = [("XDG_CONFIG_HOME", config), ("HOME", home)];
    let run = lab.run_env(&both, &["convert", "disk.img", "--yes"], "");
    assert_eq!(run.code, 0, "{}", run.stderr);
    let mut jobs = fs::read_dir(&root).unwrap();
    let name = jobs.next().unwrap().unwrap().file_name();
    assert!(
        name.to_str().unwrap().starts_with("SIGNAL-MAST-20"),
        "{name:?}"
    );
    let run = lab.run_env(&both[1..], &["check", "disk.img"], "");
    assert_eq!(run.code, 2);
    assert!(
        run.stderr
            .contains("line 1, column 1: unknown field `wrong`"),
        "{}",
        run.stderr
    );
}

#[test]
fn rules_show_what_a_policy_decides() {
    let lab = Lab::new();
    fs::write(
        lab.path("policy.toml"),
        "shop = \"Bay\\u001b[2J Repairs\"\n[severity]\n\"table.alignment\" = \"strict\"\n[setup_keys]\nSkerry = \"F11\"\n",
    )
    .unwrap();
    let shown = lab.run(&["rules", "--policy", "policy.toml"]).stdout;
    for line in [
        "Bay\\u{1b}[2J Repairs",
        "table.alignment strict",
        "Skerry: F11",
        "[strict]",
        "gap, shrink, takeover",
    ] {
        assert!(shown.contains(line), "{line}: {shown}");
    }
    let rules = lab
        .run(&[
            "rules",
            "table.alignment",
            "--policy",
            "policy.toml",
            "--json",
        ])
        .json();
    assert_eq!(rules["rules"][0]["severity"], "strict");
    assert_eq!(rules["policy"]["setup_keys"]["Skerry"], "F11");
    let one = lab
        .run(&["rules", "table.alignment", "--policy", "policy.toml"])
        .stdout;
    assert!(one.contains("are blocks."), "{one}");
}
