//! Answers in documents: the value, and beside it the sentence that people read.

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
use serde_json::json;
use serde_json::{Map, Value};

use crate::disk::Disk;
use crate::document;
use crate::words;

/// A value with its sentence.
///
/// Goes through [`Value`] both ways, so that the compiler makes one serialiser for each of the many kinds of answers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(
    try_from = "Value",
    into = "Value",
    bound(
        serialize = "T: Clone + Serialize",
        deserialize = "T: DeserializeOwned"
    )
)]
pub(crate) struct Worded<T> {
    /// None in a document of a newer program, with an answer that this one does not know.
    pub(crate) value: Option<T>,
    /// The same in words
    pub(crate) text: String,
}

/// What a derive would make of it repeats the value's whole schema wherever it stands.
#[cfg(feature = "schema")]
impl<T: JsonSchema> JsonSchema for Worded<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("Worded{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        beside_schema::<T>(generator, [("text", "The same in words")])
    }
}

/// The schema of a value with texts beside it, each with its description.
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

impl<T: Serialize> From<Worded<T>> for Value {
    fn from(worded: Worded<T>) -> Self {
        beside(worded.value.as_ref(), [("text", worded.text.into())])
    }
}

impl<T: DeserializeOwned> TryFrom<Value> for Worded<T> {
    type Error = serde_json::Error;

    fn try_from(mut document: Value) -> Result<Self, Self::Error> {
        Ok(Self {
            text: take(&mut document, "text")?,
            value: serde_json::from_value(document).ok(),
        })
    }
}

/// The fields of a value, where there is one, and those beside it.
pub(crate) fn beside<const N: usize>(
    value: Option<&impl Serialize>,
    fields: [(&str, Value); N],
) -> Value {
    let mut document = match value.map(document::value) {
        Some(Value::Object(map)) => map,
        _ => Map::new(),
    };
    document.extend(fields.map(|(key, field)| (key.to_owned(), field)));
    document.into()
}

/// Takes out a field that stands beside a value.
///
/// # Errors
///
/// It is missing, or of another type.
pub(crate) fn take<F: DeserializeOwned>(document: &mut Value, key: &str) -> serde_json::Result<F> {
    serde_json::from_value(document.get_mut(key).map(Value::take).unwrap_or_default())
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

/// What to do about something.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(
    try_from = "Value",
    into = "Value",
    bound(
        serialize = "T: Clone + Serialize",
        deserialize = "T: DeserializeOwned"
    )
)]
pub(crate) struct Advice<T> {
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

impl<T: Serialize> From<Advice<T>> for Value {
    fn from(advice: Advice<T>) -> Self {
        let Worded { value, text } = advice.worded;
        let next = document::value(&advice.next);
        beside(value.as_ref(), [("text", text.into()), ("next", next)])
    }
}

impl<T: DeserializeOwned> TryFrom<Value> for Advice<T> {
    type Error = serde_json::Error;

    fn try_from(mut document: Value) -> Result<Self, Self::Error> {
        Ok(Self {
            next: take(&mut document, "next")?,
            worded: document.try_into()?,
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
