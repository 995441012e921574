//! The schemas of the documents, in `docs/schema/`.

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use schwelle_core::switch::{Already, Event, Missing, SheetStep};
use serde_json::{Map, Value, json};

use super::json::{self, ConsideredDoc};
use super::recovered;
use super::worded::{FindingDoc, FixDoc, StepDoc, Worded};
use crate::events::Line;
use crate::views;
use crate::views::sheet::LinesDoc;

/// The answers that several documents have, whose definitions stand in a file of their own.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "only its schema is used")]
struct Answers {
    finding: FindingDoc,
    step: StepDoc,
    fix: FixDoc,
    considered: ConsideredDoc,
    event: Worded<Event>,
    missing: LinesDoc<Missing>,
    sheet_step: LinesDoc<SheetStep>,
    already: Worded<Already>,
}

fn schema<T: JsonSchema>() -> Value {
    // As they are written, not as they may be read.
    let settings = SchemaSettings::draft2020_12().for_serialize();
    settings
        .into_generator()
        .into_root_schema_for::<T>()
        .to_value()
}

/// Takes the shared definitions out, and refers to their file.
fn share(schema: &mut Value, shared: &Map<String, Value>) {
    fn refer(value: &mut Value, shared: &Map<String, Value>) {
        match value {
            Value::Object(map) => {
                let name = map.get("$ref").and_then(Value::as_str);
                let name = name.and_then(|name| name.strip_prefix("#/$defs/"));
                if let Some(name) = name.filter(|name| shared.contains_key(*name)) {
                    let there = format!("answers.json#/$defs/{name}");
                    map.insert("$ref".to_owned(), there.into());
                }
                map.values_mut().for_each(|value| refer(value, shared));
            }
            Value::Array(list) => list.iter_mut().for_each(|value| refer(value, shared)),
            _ => {}
        }
    }
    let definitions = schema.get_mut("$defs");
    if let Some(definitions) = definitions.and_then(Value::as_object_mut) {
        definitions.retain(|name, definition| {
            let there = shared.get(name);
            assert!(
                there.is_none_or(|there| there == definition),
                "two are called {name}"
            );
            there.is_none()
        });
    }
    refer(schema, shared);
}

/// The schemas in `docs/schema/` are made from the types. To renew them: `SCHWELLE_RENEW=1
/// cargo test`.
#[test]
fn schemas_in_docs_are_those_of_the_types() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema");
    let answers = schema::<Answers>();
    let shared = answers["$defs"].as_object().unwrap().clone();
    let answers = json!({ "$schema": answers["$schema"], "$defs": shared });
    let documents = [
        ("survey", schema::<views::survey::Surveyed>()),
        ("check", schema::<json::Check>()),
        ("rules", schema::<views::rules::Rules>()),
        ("plan", schema::<json::Plan>()),
        ("rehearse", schema::<json::Rehearsed>()),
        ("mend", schema::<views::mend::Mended>()),
        ("confirm", schema::<views::confirm::Confirmed>()),
        ("firmware", schema::<views::firmware::Firmware>()),
        ("firmware-set", schema::<views::firmware::SettingsDoc>()),
        ("firmware-start", schema::<views::firmware::Started>()),
        ("firmware-entry", schema::<views::firmware::EntryWritten>()),
        ("firmware-setup", schema::<views::firmware::SetupAsked>()),
        ("firmware-sheet", schema::<views::sheet::Sheet>()),
        ("convert", schema::<json::Converted>()),
        ("recover", schema::<recovered::Recovered>()),
        ("job", schema::<views::job::JobRecord>()),
        ("outcome", schema::<views::job::Outcome>()),
        ("report", schema::<views::report::Report>()),
        ("jobs", schema::<views::jobs::Jobs>()),
        ("confirmation", schema::<views::job::KeptConfirmation>()),
        ("event", schema::<Line<'static>>()),
    ];
    let documents = documents.into_iter().map(|(name, mut schema)| {
        share(&mut schema, &shared);
        (name, schema)
    });
    for (name, mut schema) in documents.chain([("answers", answers)]) {
        schema.sort_all_objects();
        let path = format!("{folder}/{name}.json");
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        schwelle_testkit::is_up_to_date(path.as_ref(), &text);
    }
}
