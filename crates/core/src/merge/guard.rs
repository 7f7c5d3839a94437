//! Many removals at once wait until a person has looked.

use super::{Facets, Held, Item, Pair, TOP};

/// So few removals are never many.
const MANY: usize = 50;

/// Many removals at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mass {
    /// Files that are to go here, because they went on the service.
    pub here: usize,
    /// Files that are to go on the service, because they went here.
    pub there: usize,
    /// Files that both had.
    pub of: usize,
}

impl Pair {
    /// Removals that are not done before a person allows them: a great part of all that both sides had. That more came since does
    /// not make them less.
    pub fn asks(&self) -> Option<Mass> {
        if self.index.until_allowed.is_empty() { None } else { Some(self.all_that_goes()) }
    }

    /// Whether removals wait for a person: those that did, or so many that they have to.
    pub(super) fn removals_wait(&self) -> bool {
        !self.allowed && !self.never_asks && (!self.index.until_allowed.is_empty() || self.mass().is_some())
    }

    /// Nobody is asked about removals, however many they are: what goes here was removed by a program, and no disk can be missing.
    pub fn never_ask(&mut self) {
        self.never_asks = true;
    }

    /// What is to be removed now is removed, however much it is.
    fn allow_removals(&mut self) {
        self.allowed = true;
        self.changed.insert(TOP);
        let held = std::mem::take(&mut self.index.until_allowed);
        self.index.dirty.extend(held);
    }

    /// A person has looked: what is to be removed now is removed.
    pub fn allow(&mut self) {
        let waits: Vec<Item> = self
            .held()
            .filter(|(.., why)| matches!(why, Held::RolledBack | Held::Copies))
            .map(|(item, ..)| item)
            .collect();
        for item in waits {
            self.at_mut(item).rolled_back = false;
            self.at_mut(item).copied = None;
            self.free(item);
        }
        self.allow_removals();
    }

    /// What is to be removed on either side, if it is a great part of what both have.
    fn mass(&self) -> Option<Mass> {
        let mass = self.all_that_goes();
        let most = mass.there.max(mass.here);
        (most >= MANY && most * 2 > mass.of).then_some(mass)
    }

    fn all_that_goes(&self) -> Mass {
        let is_file = |f: &Facets| f.common.as_ref().is_some_and(|c| c.hash.is_some());
        let goes = |item: &&Item, there: bool| {
            self.items.get(item).is_some_and(|f| {
                is_file(f)
                    && !f.removing
                    && if there {
                        f.here.is_none() && f.there.is_some()
                    } else {
                        f.there.is_none() && f.here.is_some() && !f.out_of_sight && !f.rolled_back
                    }
            })
        };
        let there = self.index.gone.iter().filter(|item| goes(item, true)).count();
        let here = self.index.was.values().filter(|item| goes(item, false)).count();
        let few = there.max(here) < MANY && self.index.until_allowed.is_empty();
        // Counting all of them is for those who ask.
        let of = if few { 0 } else { self.items.values().filter(|f| is_file(f)).count() };
        Mass { here, there, of }
    }
}
