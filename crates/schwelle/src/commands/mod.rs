//! The commands, one file each.

mod carry_out;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod confirm;
pub(crate) mod convert;
pub(crate) mod demo;
pub(crate) mod firmware;
pub(crate) mod manual;
pub(crate) mod mend;
pub(crate) mod plan;
mod recover;
pub(crate) mod rehearse;
pub(crate) mod report;
pub(crate) mod resume;
pub(crate) mod rules;
pub(crate) mod survey;
pub(crate) mod undo;
