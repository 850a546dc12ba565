//! A stack on a host: its desired state, its present state, and the plan from one to the other.
//!
//! Texts are read in [`crate::compose`]; here begins what an engine has to do with them. [`desired`] gives names, labels and
//! definitions, [`present`] makes what is there comparable, [`plan`] has both meet; [`remove`] plans that all of it goes. [`hidden`] is what everybody
//! may see of a text. Nothing here asks an engine.

pub mod adopt;
pub mod build;
pub mod desired;
pub mod difference;
mod files;
pub mod hidden;
pub mod hooks;
pub mod labels;
mod places;
pub mod plan;
pub mod present;
pub mod remove;
mod resources;
pub mod run;
mod service;
pub mod source;

pub use desired::{Desired, DesiredContainer, PlacedFile, StackDescription, desired};
pub use plan::{ApplySettings, PlannedPart, plan_stack, whole_or_not};
pub use present::{Present, PresentContainer};

#[cfg(test)]
#[path = "remove_tests.rs"]
mod remove_tests;
#[cfg(test)]
#[path = "plan_tests.rs"]
mod tests;
/// What tests of others take from those of stacks.
#[cfg(test)]
pub(crate) mod tests_support {
    pub(crate) use super::tests::{FROST, running, wanted};

    use super::{Desired, Present};

    pub(crate) fn wanted_of(text: &str) -> Desired {
        wanted(text).unwrap()
    }

    pub(crate) fn present_of(desired: &Desired) -> Present<'static> {
        running(desired)
    }
}
