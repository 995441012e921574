//! Answers in documents: the value for scripts, and its text for people.

#[cfg(feature = "schema")]
use std::borrow::Cow;

#[cfg(feature = "schema")]
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use schwelle_core::mend::FixKind;
use schwelle_core::next::Next;
use schwelle_core::rehearse::{self, Step, StepId, StepOutcome};
use schwelle_core::rules::{ByPolicy, Evidence, Finding, Outcome, Remedy, RuleId, Subject};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
#[cfg(feature = "schema")]
use serde_json::{Map, Value, json};

use crate::disk::Disk;
use crate::words;

/// A value with its sentence.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(bound(serialize = "T: Serialize", deserialize = "T: DeserializeOwned"))]
pub(crate) struct Worded<T> {
    /// `None` in a document of a newer version, if this version does not know the answer.
    #[serde(flatten, with = "known")]
    pub(crate) value: Option<T>,
    /// The same in words
    pub(crate) text: String,
}

/// The value in a document that also contains its text. It is converted through [`serde_json::Value`], so that the compiler
/// generates one serialiser for each kind of answer.
pub(super) mod known {
    use serde::de::DeserializeOwned;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use serde_json::{Map, Value};

    use crate::document;

    pub(crate) fn serialize<T: Serialize, S: Serializer>(
        value: &Option<T>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let fields = value.as_ref().map(document::value);
        fields.unwrap_or(Map::new().into()).serialize(serializer)
    }

    /// `None` if this version does not know the value; its text is then all that is shown.
    pub(crate) fn deserialize<'de, T: DeserializeOwned, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<T>, D::Error> {
        let fields = Value::deserialize(deserializer)?;
        Ok(serde_json::from_value(fields).ok())
    }
}

/// Derived, the schema would contain the whole schema of the value at each use.
#[cfg(feature = "schema")]
impl<T: JsonSchema> JsonSchema for Worded<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("Worded{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        beside_schema::<T>(generator, [("text", "The same in words")])
    }
}

/// Schema of a document with the fields of a value and texts, each text with its description.
#[cfg(feature = "schema")]
pub(super) fn beside_schema<T: JsonSchema>(
    generator: &mut SchemaGenerator,
    texts: impl IntoIterator<Item = (&'static str, &'static str)> + Clone,
) -> Schema {
    let required: Vec<&str> = texts.clone().into_iter().map(|(key, _)| key).collect();
    let text = |(key, description): (&str, &str)| {
        let schema = json!({ "description": description, "type": "string" });
        (key.to_owned(), schema)
    };
    let properties: Map<String, Value> = texts.into_iter().map(text).collect();
    json_schema!({
        "allOf": [
            generator.subschema_for::<T>(),
            { "type": "object", "properties": properties, "required": required },
        ],
    })
}

impl<T> Worded<T> {
    pub(crate) fn of(value: T, words: impl Fn(&T) -> String) -> Self {
        let text = words(&value);
        Self {
            value: Some(value),
            text,
        }
    }

    /// Says it anew, since the value has been changed. A sentence without one may name anything.
    pub(crate) fn retell(&mut self, words: impl Fn(&T) -> String) {
        self.text = match &self.value {
            Some(value) => words(value),
            None => "[left out]".to_owned(),
        };
    }
}

/// A command that can follow.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct NextDoc {
    #[serde(flatten)]
    pub(crate) next: Next,
    /// As it is typed
    pub(crate) command: String,
}

/// A remedy and its text.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(bound(serialize = "T: Serialize", deserialize = "T: DeserializeOwned"))]
pub(crate) struct Advice<T> {
    #[serde(flatten)]
    pub(crate) worded: Worded<T>,
    /// The commands that it names, in order
    pub(crate) next: Vec<NextDoc>,
}

#[cfg(feature = "schema")]
impl<T: JsonSchema> JsonSchema for Advice<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("Advice{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "allOf": [
                generator.subschema_for::<Worded<T>>(),
                {
                    "type": "object",
                    "properties": {
                        "next": {
                            "description": "The commands that it names, in order",
                            "type": "array",
                            "items": generator.subschema_for::<NextDoc>(),
                        },
                    },
                    "required": ["next"],
                },
            ],
        })
    }
}

impl<T> Advice<T> {
    pub(crate) fn of(
        disk: &Disk,
        value: T,
        next: Vec<Next>,
        words: impl Fn(&T, &[String]) -> String,
    ) -> Self {
        let next = next.into_iter().map(|next| NextDoc {
            command: disk.typed_next(&next),
            next,
        });
        let next: Vec<NextDoc> = next.collect();
        let commands = commands(&next);
        Self {
            worded: Worded::of(value, |value| words(value, &commands)),
            next,
        }
    }

    /// Says it anew, where the value or a command has been changed.
    pub(crate) fn retell(&mut self, words: impl Fn(&T, &[String]) -> String) {
        let commands = commands(&self.next);
        self.worded.retell(|value| words(value, &commands));
    }
}

fn commands(next: &[NextDoc]) -> Vec<String> {
    next.iter().map(|next| next.command.clone()).collect()
}

/// A rule's answer.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct FindingDoc {
    pub(crate) rule: RuleId,
    pub(crate) outcome: Outcome,
    pub(crate) subject: Worded<Subject>,
    pub(crate) evidence: Worded<Evidence>,
    /// What to do; null where nothing is to be done
    pub(crate) remedy: Option<Advice<Remedy>>,
    /// What a policy made of the rule's own answer; null where it says nothing of it
    pub(crate) by_policy: Option<ByPolicy>,
}

impl FindingDoc {
    pub(crate) fn of(disk: &Disk, finding: &Finding) -> Self {
        let advice =
            |remedy: &Remedy| Advice::of(disk, remedy.clone(), remedy.next(), words::rules::remedy);
        let (evidence, by_policy) = (finding.evidence.clone(), finding.by_policy);
        Self {
            rule: finding.rule,
            outcome: finding.outcome,
            subject: Worded::of(finding.subject.clone(), words::rules::subject),
            evidence: Worded::of(evidence, |evidence| {
                words::rules::found(evidence, by_policy)
            }),
            remedy: finding.remedy.as_ref().map(advice),
            by_policy,
        }
    }

    /// Says it anew, where values have been changed.
    pub(crate) fn retell(&mut self) {
        let by_policy = self.by_policy;
        self.subject.retell(words::rules::subject);
        self.evidence
            .retell(|evidence| words::rules::found(evidence, by_policy));
        if let Some(remedy) = &mut self.remedy {
            remedy.retell(words::rules::remedy);
        }
    }

    /// True for a rule that passed and has nothing to tell.
    pub(crate) fn is_silent(&self) -> bool {
        self.evidence
            .value
            .as_ref()
            .is_some_and(Evidence::is_silent)
    }

    /// What was found, with what it is about; "disk" says no more than the head of every view.
    pub(crate) fn text(&self) -> String {
        match self.subject.value {
            Some(Subject::Disk) => self.evidence.text.clone(),
            _ => format!("{}: {}", self.subject.text, self.evidence.text),
        }
    }
}

/// A step of the walk.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct StepDoc {
    pub(crate) step: StepId,
    /// With "caution" it starts all the same
    pub(crate) outcome: StepOutcome,
    pub(crate) evidence: Worded<rehearse::Evidence>,
    /// What to do; null where the step holds
    pub(crate) remedy: Option<Advice<rehearse::Remedy>>,
}

impl StepDoc {
    pub(crate) fn of(disk: &Disk, step: &Step) -> Self {
        let advice = |remedy: &rehearse::Remedy| {
            Advice::of(disk, remedy.clone(), remedy.next(), words::steps::remedy)
        };
        Self {
            step: step.id,
            outcome: step.outcome,
            evidence: Worded::of(step.evidence.clone(), words::steps::found),
            remedy: step.remedy.as_ref().map(advice),
        }
    }

    /// Says it anew, where values have been changed.
    pub(crate) fn retell(&mut self) {
        self.evidence.retell(words::steps::found);
        if let Some(remedy) = &mut self.remedy {
            remedy.retell(words::steps::remedy);
        }
    }
}

/// Something that is mended.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(JsonSchema))]
pub(crate) struct FixDoc {
    /// The step of the rehearsal that failed, or cautioned about it
    pub(crate) step: StepId,
    /// What is done about it
    pub(crate) what: Worded<FixKind>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn an_answer_of_a_newer_version_keeps_its_text() {
        let known = json!({"kind": "disk", "text": "disk"});
        let newer = json!({"kind": "of-a-newer-version", "number": 5, "text": "disk", "next": []});
        let read: Worded<Subject> = serde_json::from_value(known.clone()).unwrap();
        assert_eq!(read.value, Some(Subject::Disk));
        assert_eq!(serde_json::to_value(&read).unwrap(), known);
        let read: Advice<Remedy> = serde_json::from_value(newer).unwrap();
        assert_eq!(read.worded.value, None);
        let again = serde_json::to_value(&read).unwrap();
        assert_eq!(again, json!({"text": "disk", "next": []}));
        // A document without the text is damaged.
        let damaged = serde_json::from_value::<Worded<Subject>>(json!({"kind": "disk"}));
        assert!(damaged.is_err());
    }
}
