//! Tests of the domain as its users see it. One program: each of its own would be built and linked again.

mod confirm;
mod conversion;
mod direction;
mod errors;
mod mend;
mod pipeline;
mod placement;
mod rules;
mod simulated;
