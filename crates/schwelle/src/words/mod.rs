//! The room for words: from the values that the program's answers are to the sentences that people read. One
//! file per family of rules and of steps, and for what is planned, mended, started and to be done in a setup.
//! Nothing else in the program turns an answer into words, and nothing reads these words back.

pub(crate) mod confirm;
pub(crate) mod emulated;
pub(crate) mod facts;
pub(crate) mod here;
pub(crate) mod jobs;
pub(crate) mod mend;
pub(crate) mod overview;
pub(crate) mod places;
pub(crate) mod plan;
pub(crate) mod rules;
pub(crate) mod secure_boot;
pub(crate) mod sheet;
pub(crate) mod simulated;
pub(crate) mod starts;
pub(crate) mod steps;

use schwelle_core::device::{Extent, Retried};
use schwelle_core::gpt::TableCopy;
use schwelle_core::pe::ProgramFault;
use schwelle_core::profile::Titled;

/// "partition 2 (Leuchtturm)": number and label.
pub(crate) fn titled(partition: &Titled) -> String {
    match partition.label.as_str() {
        "" => format!("partition {}", partition.number),
        label => format!("partition {} ({label})", partition.number),
    }
}

/// What transfers that succeeded only when they were repeated say of the disk; `None` if there were none.
pub(crate) fn retried(retried: &[Retried]) -> Option<String> {
    let first = retried.first()?;
    let count = match retried.len() {
        1 => "A transfer".to_owned(),
        several => format!("{several} transfers"),
    };
    Some(format!(
        "{count} failed and succeeded when repeated (first a {} at {}). Disk, cable or port may be failing: make a \
         copy of the disk soon.",
        first.operation, first.sectors.first
    ))
}

/// Several partitions, in a list.
fn titles(partitions: &[Titled]) -> String {
    let titles: Vec<String> = partitions.iter().map(titled).collect();
    titles.join(", ")
}

/// "LBA 5 to 9".
pub(crate) fn lba_range(extent: &Extent) -> String {
    format!("LBA {} to {}", extent.first.0, extent.last().0)
}

/// A program and why it does not start here.
fn unfit(path: &str, why: &ProgramFault) -> String {
    match why {
        ProgramFault::Missing => format!("{path} is missing"),
        why => format!("{path}: {why}"),
    }
}

/// A copy of the GPT.
fn copy_name(copy: TableCopy) -> &'static str {
    match copy {
        TableCopy::Primary => "primary",
        TableCopy::Backup => "backup",
    }
}

/// The nth command of an advice.
fn nth(next: &[String], n: usize) -> &str {
    next.get(n).map_or("", String::as_str)
}

/// Mebibytes with tenths cut off; kibibytes below one.
fn mebibytes(bytes: u64) -> String {
    const MIB: u64 = 1 << 20;
    if bytes < MIB {
        return format!("{} KiB", bytes.div_ceil(1024));
    }
    let tenths = bytes.saturating_mul(10) / MIB;
    format!("{}.{} MiB", tenths / 10, tenths % 10)
}

#[cfg(test)]
mod tests {
    use schwelle_core::host::System;
    use std::collections::BTreeSet;
    use std::fmt::Debug;

    #[cfg(feature = "schema")]
    use schemars::JsonSchema;
    use schwelle_core::mend::{FixKind, NotMended};
    use schwelle_core::placement::Place;
    use schwelle_core::{confirm as core_confirm, firmware, rehearse, rules as core_rules, switch};
    use serde::Serialize;
    use serde::de::DeserializeOwned;
    use serde_json::{Map, Value, json};

    use super::*;

    /// Values of every form that a schema knows. What contains itself is followed once.
    struct Samples<'s> {
        definitions: &'s Value,
        inside: Vec<String>,
    }

    impl Samples<'_> {
        fn of(&mut self, schema: &Value) -> Vec<Value> {
            if let Some(name) = schema["$ref"].as_str() {
                let name = name.trim_start_matches("#/$defs/").to_owned();
                if self.inside.iter().filter(|inside| **inside == name).count() > 1 {
                    return Vec::new();
                }
                let definition = self.definitions[&name].clone();
                self.inside.push(name);
                let mut samples = self.of(&definition);
                self.inside.pop();
                // A tag beside it.
                if schema.get("properties").is_some() {
                    let tag = self.of_object(schema).swap_remove(0);
                    for sample in samples.iter_mut().filter_map(Value::as_object_mut) {
                        sample.extend(tag.as_object().unwrap().clone());
                    }
                }
                return samples;
            }
            if let Some(forms) = schema.get("oneOf").or(schema.get("anyOf")) {
                let forms = forms.as_array().unwrap();
                return forms.iter().flat_map(|form| self.of(form)).collect();
            }
            if let Some(value) = schema.get("const") {
                return vec![value.clone()];
            }
            if let Some(values) = schema["enum"].as_array() {
                return values.clone();
            }
            let types: Vec<&str> = match &schema["type"] {
                Value::Array(types) => types.iter().filter_map(Value::as_str).collect(),
                one => one.as_str().into_iter().collect(),
            };
            types
                .iter()
                .flat_map(|one| self.of_type(one, schema))
                .collect()
        }

        fn of_type(&mut self, name: &str, schema: &Value) -> Vec<Value> {
            match name {
                "null" => vec![Value::Null],
                "boolean" => vec![false.into(), true.into()],
                "integer" => vec![7.into()],
                "string" if schema["format"] == "uuid" => {
                    vec!["0f1e2d3c-0000-4000-8000-00000000abcd".into()]
                }
                "string" => vec!["a sample of text".into()],
                "array" if schema.get("prefixItems").is_some() => {
                    let items = schema["prefixItems"].as_array().unwrap();
                    let first = |item: &Value| self.of(item).swap_remove(0);
                    vec![items.iter().map(first).collect()]
                }
                "array" => {
                    let items = self.of(&schema["items"]);
                    vec![Value::Array(items)]
                }
                "object" => self.of_object(schema),
                other => panic!("a type without samples: {other}"),
            }
        }

        /// The first sample of each property; then each property's others.
        fn of_object(&mut self, schema: &Value) -> Vec<Value> {
            let empty = Map::new();
            let properties = schema["properties"].as_object().unwrap_or(&empty);
            let mut base = Map::new();
            let mut others = Vec::new();
            for (name, property) in properties {
                let mut samples = self.of(property).into_iter();
                let Some(first) = samples.next() else {
                    return Vec::new();
                };
                base.insert(name.clone(), first);
                others.extend(samples.map(|sample| (name.clone(), sample)));
            }
            let changed = others.into_iter().map(|(name, sample)| {
                let mut object = base.clone();
                object.insert(name, sample);
                object
            });
            let changed: Vec<Map<String, Value>> = changed.collect();
            let all = [base].into_iter().chain(changed);
            all.map(Value::Object).collect()
        }
    }

    fn samples<T: JsonSchema + DeserializeOwned + Serialize + PartialEq + Debug>() -> Vec<T> {
        let schema = serde_json::to_value(schemars::schema_for!(T)).unwrap();
        let definitions = schema.get("$defs").cloned().unwrap_or(json!({}));
        let mut samples = Samples {
            definitions: &definitions,
            inside: Vec::new(),
        };
        let values = samples.of(&schema);
        let read = |value: Value| {
            let read: T = serde_json::from_value(value.clone())
                .unwrap_or_else(|error| panic!("{value}: {error}"));
            // What was stored is read back as what it was: kinds are unique.
            let again = serde_json::to_value(&read).unwrap();
            assert_eq!(serde_json::from_value::<T>(again).unwrap(), read);
            read
        };
        values.into_iter().map(read).collect()
    }

    /// Every kind of an answer, each with words of its own.
    fn all_are_shown<T>(tell: impl Fn(&T) -> String) -> usize
    where
        T: JsonSchema + DeserializeOwned + Serialize + PartialEq + Debug,
    {
        let samples = samples::<T>();
        let mut kinds = BTreeSet::new();
        for sample in &samples {
            let text = tell(sample);
            assert!(!text.trim().is_empty(), "{sample:?}");
            // Nothing is left of how a value looks in the program.
            assert!(!text.contains("Some(") && !text.contains('{'), "{text}");
            let value = serde_json::to_value(sample).unwrap();
            kinds.insert(value.get("kind").unwrap_or(&value).to_string());
        }
        kinds.len()
    }

    #[test]
    fn every_answer_has_words() {
        let found = |evidence: &core_rules::Evidence| rules::found(evidence, None);
        assert!(all_are_shown(found) > 120);
        assert!(all_are_shown(steps::found) > 50);
        assert_eq!(all_are_shown(rules::subject), 10);
        assert!(all_are_shown(places::verdict) > 10);
        assert!(all_are_shown(|place: &Place| places::place(*place)) > 5);
        assert!(all_are_shown::<FixKind>(mend::fix) > 5);
        assert!(all_are_shown::<NotMended>(mend::not_mended) > 10);
        assert!(all_are_shown(simulated::event) > 10);
        assert_eq!(all_are_shown(secure_boot::reason), 3);
        assert_eq!(all_are_shown(secure_boot::advice), 3);
        let both = |(what, check): sheet::Lines| what + &check;
        let missing = |missing: &switch::Missing| both(sheet::missing(missing, "disk"));
        assert_eq!(all_are_shown(missing), 5);
        let step = |step: &switch::SheetStep| both(sheet::step(step, "disk", "known as"));
        assert!(all_are_shown(step) > 8);
        let already = |already: &switch::Already| sheet::already(*already).to_owned();
        assert!(all_are_shown(already) > 3);
        assert_eq!(all_are_shown(plan::edit), 3);
        assert_eq!(all_are_shown(plan::not_updated), 5);
        assert!(all_are_shown(facts::ground) > 20);
        assert_eq!(
            all_are_shown(|how: &firmware::How| facts::how(*how).to_owned()),
            6
        );
        assert!(all_are_shown(emulated::seen) > 10);
        let ending = |ending: &schwelle_emulator::Ending| emulated::ending(*ending).to_owned();
        assert_eq!(all_are_shown(ending), 3);
        assert_eq!(all_are_shown(confirm::found), 10);
        let reason = |reason: &core_confirm::Reason| confirm::reason(*reason);
        assert_eq!(all_are_shown(reason), 11);
        for rule in core_rules::RuleId::ALL {
            let asked = rules::questions::of(*rule);
            assert!(
                asked.question.ends_with('?') && asked.why.len() > 80,
                "{rule}"
            );
        }
    }

    /// What is typed or done on one system is not named on the other.
    #[test]
    fn each_system_has_words_of_its_own() {
        for (system, others) in [
            (System::Linux, ["PhysicalDrive", "administrator", "%"]),
            (System::Windows, ["/dev/", " root", "Unmount"]),
        ] {
            let words = format!("{:?}", here::of(system));
            for other in others {
                assert!(!words.contains(other), "{system:?}: {other}");
            }
        }
    }

    #[test]
    fn every_remedy_has_words_and_names_its_commands() {
        fn check<T>(next: impl Fn(&T) -> usize, tell: impl Fn(&T, &[String]) -> String)
        where
            T: JsonSchema + DeserializeOwned + Serialize + PartialEq + Debug,
        {
            for remedy in samples::<T>() {
                let next: Vec<String> =
                    (0..next(&remedy)).map(|n| format!("command {n}")).collect();
                let text = tell(&remedy, &next);
                assert!(text.len() > 10, "{remedy:?}: {text}");
                for command in &next {
                    assert!(text.contains(command), "{remedy:?}: {text}");
                }
                let shown = text.matches("command ").count();
                assert_eq!(shown, next.len(), "{remedy:?}: {text}");
            }
        }
        check(
            |remedy: &core_rules::Remedy| remedy.next().len(),
            rules::remedy,
        );
        check(
            |remedy: &rehearse::Remedy| remedy.next().len(),
            steps::remedy,
        );
    }
}
