//! The switch of a PC from one mode to the other: the sheet of its steps, and a simulated PC on which they can be
//! tried.

mod order;
mod sheet;
mod simulated;

pub use order::ByBootOrder;
pub use sheet::{Already, EntryPlace, Missing, SheetFacts, SheetStep, SwitchSheet};
pub use simulated::{
    Also, Event, NoBiosStart, Outcome, Refusal, SetError, Settings, SimulatedPc, Start, Tried,
    start,
};
