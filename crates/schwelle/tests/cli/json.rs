//! The documents of `--json` fit their schemas, and the keys that scripts lean on are there.

use std::fs;

use serde_json::Value;

use crate::support::Lab;
use schwelle_testkit::tool;

/// Reads a list of documents and says what in them does not fit a schema; the library is Debian's. Without documents it
/// looks at the schema itself.
const VALIDATOR: &str = r##"
import json, os, sys
from jsonschema import Draft202012Validator
schema = json.load(open(sys.argv[1]))
# The definitions that several documents share stand in a file of their own.
shared = "answers.json"
answers = json.load(open(os.path.join(os.path.dirname(sys.argv[1]), shared)))
schema = json.loads(json.dumps(schema).replace(shared + "#", "#"))
schema["$defs"] = {**answers["$defs"], **schema.get("$defs", {})}
documents = json.load(open(sys.argv[2]))
if not documents:
    Draft202012Validator.check_schema(schema)
for document in documents:
    for fault in Draft202012Validator(schema).iter_errors(document):
        print(fault.json_path, fault.message)
"##;

/// What does not fit.
fn faults(name: &str, documents: &[Value]) -> String {
    let root = env!("CARGO_MANIFEST_DIR");
    let schema = format!("{root}/../../docs/schema/{name}.json");
    let file = tempfile::NamedTempFile::new().unwrap();
    fs::write(&file, serde_json::to_vec(documents).unwrap()).unwrap();
    let documents = file.path().to_str().unwrap();
    tool("/usr/bin/python3", &["-c", VALIDATOR, &schema, documents]).stdout
}

pub(crate) fn fits(name: &str, document: &Value) {
    all_fit(name, std::slice::from_ref(document));
}

pub(crate) fn all_fit(name: &str, documents: &[Value]) {
    assert!(!documents.is_empty(), "{name}");
    assert_eq!(faults(name, documents), "", "{name}");
}

#[test]
fn every_schema_is_one() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema");
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        faults(path.file_stem().unwrap().to_str().unwrap(), &[]);
    }
}

#[test]
fn a_document_that_does_not_fit_is_noticed() {
    let document = serde_json::json!({"started": 5, "disk": null});
    let shown = faults("firmware-start", &[document]);
    assert!(
        shown.contains("$.started 5 is not") && shown.contains("'events' is a required"),
        "{shown}"
    );
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
