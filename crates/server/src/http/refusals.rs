//! Refusals by their kinds: [`yellow_attic_api::refusals`] is the table.

use crate::http::problem::Refusal;
pub use yellow_attic_api::refusals::*;

/// How a kind becomes a refusal.
pub trait Say {
    /// With what happened, in a sentence.
    fn of(&self, detail: &str) -> Refusal;
    /// The same, where something else helps than as a rule.
    fn with(&self, detail: &str, remedy: &str) -> Refusal;
}

impl Say for Kind {
    fn of(&self, detail: &str) -> Refusal {
        self.with(detail, self.remedy)
    }

    fn with(&self, detail: &str, remedy: &str) -> Refusal {
        Refusal::new(self.status, self.code, self.title, detail, remedy)
    }
}
