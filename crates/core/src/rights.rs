//! Levels, and who may do what on a shelf.

use crate::ids::AccountId;
use serde::{Deserialize, Serialize};

/// What somebody may do, each including the ones before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// See and download.
    View,
    /// Put new things in, without changing what is there.
    Add,
    /// Change, move, rename and remove.
    Edit,
    /// Also decide who else may.
    Manage,
}

impl Level {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Level::View => "view",
            Level::Add => "add",
            Level::Edit => "edit",
            Level::Manage => "manage",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Level> {
        [Level::View, Level::Add, Level::Edit, Level::Manage].into_iter().find(|l| l.word() == word)
    }
}

/// To whom a grant is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Subject {
    /// One account.
    Account(AccountId),
    /// Everybody in the organisation.
    Everyone,
}

/// A level given on a whole shelf.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Grant {
    /// To whom.
    pub subject: Subject,
    /// What.
    pub level: Level,
}

/// What an account may do on a shelf: its owner manages it, the rest is the highest grant
/// that reaches the account. `None` is nothing at all, not even its name.
pub fn level_on_shelf(owner: Option<AccountId>, grants: &[Grant], account: AccountId) -> Option<Level> {
    if owner == Some(account) {
        return Some(Level::Manage);
    }
    grants
        .iter()
        .filter(|grant| match grant.subject {
            Subject::Account(id) => id == account,
            Subject::Everyone => true,
        })
        .map(|grant| grant.level)
        .max()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_highest_grant_counts_and_nobody_else_has_any() {
        let (ines, tomas, oona) = (AccountId(1), AccountId(2), AccountId(3));
        let grants = [
            Grant { subject: Subject::Account(tomas), level: Level::View },
            Grant { subject: Subject::Account(tomas), level: Level::Edit },
        ];
        assert_eq!(level_on_shelf(Some(ines), &grants, ines), Some(Level::Manage));
        assert_eq!(level_on_shelf(Some(ines), &grants, tomas), Some(Level::Edit));
        assert_eq!(level_on_shelf(Some(ines), &grants, oona), None);
        let all = [Grant { subject: Subject::Everyone, level: Level::Add }];
        assert_eq!(level_on_shelf(None, &all, oona), Some(Level::Add));
    }

    #[test]
    fn levels_include_the_ones_before() {
        assert!(Level::View < Level::Add && Level::Add < Level::Edit && Level::Edit < Level::Manage);
        for level in [Level::View, Level::Add, Level::Edit, Level::Manage] {
            assert_eq!(Level::from_word(level.word()), Some(level));
        }
        assert_eq!(Level::from_word("deny"), None);
    }
}
