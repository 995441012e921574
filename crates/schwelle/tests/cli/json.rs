//! The documents of `--json` fit their schemas, and the keys that scripts lean on are there.

use std::fs;

use serde_json::Value;

use crate::support::Lab;

fn schema(name: &str) -> Value {
    let path = format!(
        "{}/../../docs/schema/{name}.json",
        env!("CARGO_MANIFEST_DIR")
    );
    serde_json::from_str(&fs::read_to_string(path).unwrap()).unwrap()
}

pub(crate) fn fits(name: &str, document: &Value) {
    let validator = jsonschema::validator_for(&schema(name)).unwrap();
    let faults: Vec<String> = validator
        .iter_errors(document)
        .map(|error| error.to_string())
        .collect();
    assert_eq!(faults, Vec::<String>::new(), "{name}");
}

#[test]
fn every_document_fits_its_schema() {
    let lab = Lab::new();
    let (ready, _) = lab.standard("ready.img", 512);
    let blank = lab.image("blank.img", 512, 4, |_| {});
    let (ready, blank) = (ready.to_str().unwrap(), blank.to_str().unwrap());
    let document = |args: &[&str]| lab.run(args).json();
    fits("survey", &document(&["survey", ready, "--json"]));
    fits("rules", &document(&["rules", "--json"]));
    for disk in [ready, blank] {
        fits("check", &document(&["check", disk, "--json"]));
        fits("plan", &document(&["plan", disk, "--json"]));
        fits("rehearse", &document(&["rehearse", disk, "--json"]));
    }
    fits(
        "convert",
        &document(&["convert", blank, "--job", "no-job", "--yes", "--json"]),
    );
    let plan = document(&["plan", ready, "--json"]);
    for key in [
        "answer",
        "placement",
        "before",
        "after",
        "stages",
        "bytes_written",
        "files_edited",
    ] {
        assert!(!plan[key].is_null(), "{key}");
    }
    for key in ["first_lba", "last_lba", "type", "role", "label"] {
        assert!(
            !plan["after"][0].get(key).is_none_or(Value::is_null) || key == "role",
            "{key}"
        );
    }
    let converted = document(&["convert", ready, "--job", "job", "--yes", "--json"]);
    fits("convert", &converted);
    assert_eq!(converted["job"], "job");
    let record = fs::read_to_string(lab.path("job/job.json")).unwrap();
    fits("job", &serde_json::from_str(&record).unwrap());
    fits("rehearse", &document(&["rehearse", ready, "--json"]));
    fits(
        "rehearse",
        &document(&["rehearse", ready, "--emulate", "--json"]),
    );
    let pc = schwelle_demo::make_pc(&lab.path(""), "pc", "ready.img").unwrap();
    let pc = pc.to_str().unwrap();
    for (name, action) in [
        ("firmware", &[][..]),
        ("firmware-set", &["set", "mode=uefi"]),
        ("firmware-start", &["start"]),
        ("firmware-sheet", &["sheet", ready]),
        ("firmware-entry", &["entry", ready]),
        ("firmware-setup", &["setup"]),
    ] {
        let args = [&["firmware", "--machine", pc, "--json"], action].concat();
        fits(name, &document(&args));
    }
}
