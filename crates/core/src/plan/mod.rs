//! What a requested change would do, target by target, before an engine is called.
//!
//! Pure: from a request and the state of the fleet to steps, consequences, errors and refusals. The runner
//! in the server carries out what is here and nothing else. Requests are in [`request`], steps in
//! [`steps`]. Each kind has one function here: what is done to containers in [`lifecycle`], new ones and replacements in
//! [`make`], other objects in [`objects`], what is unused in [`crate::tidy`]. [`digest`] tells whether a
//! preview still holds.

pub mod digest;
pub mod lifecycle;
pub mod make;
pub mod objects;
mod order;
pub mod request;
mod retry;
mod signals;
pub mod steps;

use serde::{Deserialize, Serialize};

pub use order::{After, Until};
pub use request::{
    Kind, MAX_AT_ONCE, MAX_GRACE_SECONDS, MAX_PIECES, MAX_WATCH_SECONDS, NetworkSettings, Request,
    RequestError, Rolling, TidyPiece, VolumeSettings,
};
pub use retry::retry;
pub use signals::signal_name;
pub use steps::{Pass, Step};

use crate::definition::check::{Finding, Weight};
use crate::definition::difference::Difference;

/// The label that holds a container on the image that it runs.
pub const PINNED_LABEL: &str = "gubernum.pinned";
/// The grace period engines use when none is given, in seconds.
pub const DEFAULT_GRACE_SECONDS: u32 = 10;
/// Seconds that a new container without a health check must stay up, unless told otherwise.
pub const DEFAULT_WATCH_SECONDS: u32 = 10;

/// The kind of object.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum ObjectKind {
    /// A container.
    #[default]
    Container,
    /// An image.
    Image,
    /// A volume.
    Volume,
    /// A network.
    Network,
    /// The engine's build cache.
    Cache,
}

impl ObjectKind {
    /// The word used everywhere.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// What would happen to one target.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TargetPlan {
    /// Its host.
    pub host: String,
    /// What it is.
    #[serde(default)]
    pub object: ObjectKind,
    /// The id; empty for a new object.
    pub id: String,
    /// Its name.
    pub name: String,
    /// What has to happen before it in the same operation.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub after: Vec<After>,
    /// The steps in order; none when refused.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub steps: Vec<Step>,
    /// The steps in words.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub steps_in_words: Vec<String>,
    /// The effect for its users, in one sentence.
    pub consequence: String,
    /// What is created.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub creates: Vec<String>,
    /// What is kept.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub keeps: Vec<String>,
    /// What is recreated.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub recreates: Vec<String>,
    /// What is removed.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub removes: Vec<String>,
    /// Data that is or may be lost.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub data_at_risk: Vec<String>,
    /// The downtime in words; absent without one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub downtime: Option<String>,
    /// Changed settings.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub differences: Vec<Difference>,
    /// Bytes freed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bytes: Option<u64>,
    /// Errors and warnings by field.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub findings: Vec<Finding>,
    /// Why nothing needs to be done, which counts as success.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub unchanged: Option<String>,
    /// Why it is refused.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub refused: Option<String>,
    /// Refused because another operation is changing the target or is ahead in the queue; this one can queue behind it.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub busy: bool,
    /// Refused only because another part of the stack is; fix that one first.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub dependent: bool,
}

impl TargetPlan {
    /// `host/name`.
    pub fn reference(&self) -> String {
        format!("{}/{}", self.host, self.name)
    }

    /// Refuses it: nothing is done.
    pub fn refuse(&mut self, why: impl Into<String>) {
        self.refused = Some(why.into());
        self.steps.clear();
        self.steps_in_words.clear();
    }

    /// Nothing needs to be done, and nothing failed.
    pub fn nothing_to_do(&mut self, why: impl Into<String>) {
        self.unchanged = Some(why.into());
        self.steps.clear();
        self.steps_in_words.clear();
    }

    /// Refuses it when a finding is an error, and writes the steps out in words.
    #[must_use]
    pub(crate) fn finished(mut self) -> Self {
        let errors: Vec<&Finding> = self.findings.iter().filter(|f| f.weight == Weight::Error).collect();
        if self.refused.is_none()
            && let Some(first) = errors.first()
        {
            let more = match errors.len() {
                0 | 1 => String::new(),
                2 => " (and 1 more error)".to_owned(),
                all => format!(" (and {} more errors)", all - 1),
            };
            let why = format!("{}{more}", first.sentence);
            self.refuse(why);
        }
        let replaces = self.steps.contains(&Step::CreateBeside);
        let words = |step: &Step| match step {
            Step::StartNew if !replaces => "Start it.".to_owned(),
            Step::WaitForEnd if replaces => {
                "Wait until it exits with code 0; otherwise roll back.".to_owned()
            }
            Step::Watch { seconds } if !replaces => {
                let makes = self.steps.contains(&Step::Create);
                let end = if makes { "; otherwise remove it again." } else { "." };
                format!("Wait until it is healthy (without a check: up for {seconds} s){end}")
            }
            step => step.words(&self.name),
        };
        self.steps_in_words = self.steps.iter().map(words).collect();
        self
    }
}
