//! Rules that a test may switch off, to see that something fails without them.

/// A rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Rule {
    /// What was read is known of a file only as long as it looks the same.
    LooksTheSame,
    /// What is gone because it was being removed from here, nobody here did away with.
    OwnRemovals,
    /// An answer may be older than what is known.
    LateAnswers,
    /// What is in a folder that comes into sight is told before anything is decided.
    IntoSight,
    /// A removal never takes an edit.
    EditsStay,
    /// Two edits are both kept.
    BothEdits,
    /// What the service has in a slot is not written over.
    SlotsAreFree,
}

#[cfg(test)]
thread_local! {
    pub(super) static OFF: std::cell::Cell<Option<Rule>> = const { std::cell::Cell::new(None) };
}

/// Whether a rule is in force: always, but in its own test.
#[cfg(test)]
pub(super) fn holds(rule: Rule) -> bool {
    OFF.get() != Some(rule)
}

/// Whether a rule is in force: always.
#[cfg(not(test))]
pub(super) fn holds(_: Rule) -> bool {
    true
}
