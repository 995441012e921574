//! What is shown: text for people, documents for scripts. Each view takes values and gives a
//! string.

pub(crate) mod check;
pub(crate) mod common;
pub(crate) mod confirm;
pub(crate) mod emulate;
pub(crate) mod firmware;
pub(crate) mod job;
pub(crate) mod jobs;
pub(crate) mod json;
pub(crate) mod map;
pub(crate) mod mend;
pub(crate) mod plan;
pub(crate) mod recovered;
pub(crate) mod rehearse;
pub(crate) mod report;
pub(crate) mod rules;
#[cfg(test)]
mod schemas;
pub(crate) mod sheet;
mod starts;
pub(crate) mod survey;
pub(crate) mod worded;
