//! Levels, grants, and who may do what where.
//!
//! A right is worked out from the top of the shelf down to the node: [`Standing`] is what somebody
//! may do at one folder, and [`Standing::enter`] goes one step further down. The same walk decides
//! and explains: a [`Witness`] is told of each grant that reaches the person on the way.

use crate::ids::{AccountId, GrantId, GroupId, NodeId};
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
    /// All, the least first.
    pub const ALL: [Level; 4] = [Level::View, Level::Add, Level::Edit, Level::Manage];

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
        Level::ALL.into_iter().find(|l| l.word() == word)
    }
}

/// What a grant gives: a level, or nothing at all, whatever else is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Gives {
    /// This level, here and beneath.
    Allow(Level),
    /// Nothing, here and beneath: it wins over every level.
    Deny,
}

impl Gives {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Gives::Allow(level) => level.word(),
            Gives::Deny => "deny",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Gives> {
        if word == "deny" { Some(Gives::Deny) } else { Level::from_word(word).map(Gives::Allow) }
    }
}

/// To whom a grant is given.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// One account.
    Account(AccountId),
    /// Everybody in a group, now and later.
    Group(GroupId),
    /// Everybody in the organisation.
    Everyone,
}

/// A grant on a node: it reaches all beneath.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Grant {
    /// Its id.
    pub id: GrantId,
    /// To whom.
    pub subject: Subject,
    /// What.
    pub gives: Gives,
    /// The moment from which it counts no more, in milliseconds.
    pub until: Option<i64>,
}

impl Grant {
    /// Whether it is over.
    pub fn ended(&self, now: i64) -> bool {
        self.until.is_some_and(|until| until <= now)
    }
}

/// Somebody, with the groups that count for them.
#[derive(Clone, Copy, Debug)]
pub struct Person<'a> {
    /// The account.
    pub account: AccountId,
    /// Its groups, in order.
    pub groups: &'a [GroupId],
    /// Whether it is somebody from outside.
    pub guest: bool,
}

impl Person<'_> {
    /// Whether a grant is to this person. What everybody in the organisation was given does not
    /// reach a guest; what everybody was denied does.
    pub fn takes(&self, grant: &Grant) -> bool {
        match grant.subject {
            Subject::Account(account) => account == self.account,
            Subject::Group(group) => self.groups.binary_search(&group).is_ok(),
            Subject::Everyone => !self.guest || grant.gives == Gives::Deny,
        }
    }
}

/// What is set on one node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Here {
    /// Levels given further up do not reach beyond this node. Denials do.
    pub afresh: bool,
    /// What is given on it.
    pub grants: Vec<Grant>,
}

impl Here {
    /// Whether somebody who may do something above may do less here.
    pub fn bars(&self) -> bool {
        self.afresh || self.grants.iter().any(|g| g.gives == Gives::Deny)
    }
}

/// Is told what a person meets on the way down.
pub trait Witness {
    /// A grant to this person that has not ended.
    fn meets(&mut self, node: NodeId, grant: &Grant);
    /// A grant to this person that is over.
    fn ended(&mut self, node: NodeId, grant: &Grant);
    /// What was given so far does not reach beyond here.
    fn starts_afresh(&mut self, node: NodeId);
}

/// Nobody asks why.
impl Witness for () {
    fn meets(&mut self, _: NodeId, _: &Grant) {}
    fn ended(&mut self, _: NodeId, _: &Grant) {}
    fn starts_afresh(&mut self, _: NodeId) {}
}

/// What a person may do at one place, and what of it goes on downwards.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    owner: bool,
    denied: bool,
    allowed: Option<Level>,
    reach: Reach,
}

/// How much of what a person may do counts: all of it, or what an address given to strangers lets through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Reach {
    /// All of it.
    All,
    /// Nothing: what the address opens lies elsewhere, or further down.
    Outside,
    /// At most this, here and below.
    Within(Level),
}

impl Standing {
    /// Above the top of a shelf. Owners may do everything, and cannot be denied.
    pub fn above(owner: bool) -> Standing {
        Standing { owner, denied: false, allowed: None, reach: Reach::All }
    }

    /// The same for whoever comes through an address: nothing counts before [`Standing::within`].
    pub fn outside(owner: bool) -> Standing {
        Standing { reach: Reach::Outside, ..Standing::above(owner) }
    }

    /// From here on downwards at most this counts.
    #[must_use]
    pub fn within(self, most: Level) -> Standing {
        Standing { reach: Reach::Within(most), ..self }
    }

    /// One step down, onto a node on which something is set. Where nothing is set, nothing changes.
    #[must_use]
    pub fn enter(
        mut self,
        person: &Person,
        node: NodeId,
        here: &Here,
        now: i64,
        witness: &mut impl Witness,
    ) -> Standing {
        if here.afresh {
            self.allowed = None;
            witness.starts_afresh(node);
        }
        for grant in here.grants.iter().filter(|g| person.takes(g)) {
            if grant.ended(now) {
                witness.ended(node, grant);
                continue;
            }
            witness.meets(node, grant);
            match grant.gives {
                Gives::Deny => self.denied = true,
                Gives::Allow(level) => self.allowed = self.allowed.max(Some(level)),
            }
        }
        self
    }

    /// What the person may do here. `None` is nothing at all, not even to know of it.
    pub fn level(&self) -> Option<Level> {
        let own = match (self.owner, self.denied) {
            (true, _) => Some(Level::Manage),
            (false, true) => None,
            (false, false) => self.allowed,
        };
        match self.reach {
            Reach::All => own,
            Reach::Outside => None,
            Reach::Within(most) => own.map(|level| level.min(most)),
        }
    }
}

/// Why a grant counts or does not.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effect {
    /// It gives what the person may do, or refuses it.
    Decides,
    /// It counts, but another one gives more, or the person owns the shelf.
    GivesLess,
    /// A denial wins over it.
    Denied,
    /// A folder further down starts afresh.
    CutOff,
    /// Its time is over.
    Ended,
}

/// One grant to a person on the way to a node, and what became of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reason {
    /// Where it is given.
    pub node: NodeId,
    /// The grant.
    pub grant: Grant,
    /// Whether it counts.
    pub effect: Effect,
}

/// What a person may do at a node, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explained {
    /// The level; none at all if `None`.
    pub level: Option<Level>,
    /// The person owns the shelf: that alone decides.
    pub owner: bool,
    /// The grants to the person, from the top down.
    pub reasons: Vec<Reason>,
}

#[derive(Default)]
struct Notes(Vec<Reason>);

impl Witness for Notes {
    fn meets(&mut self, node: NodeId, grant: &Grant) {
        self.0.push(Reason { node, grant: *grant, effect: Effect::GivesLess });
    }

    fn ended(&mut self, node: NodeId, grant: &Grant) {
        self.0.push(Reason { node, grant: *grant, effect: Effect::Ended });
    }

    fn starts_afresh(&mut self, _: NodeId) {
        for reason in &mut self.0 {
            if reason.effect != Effect::Ended && reason.grant.gives != Gives::Deny {
                reason.effect = Effect::CutOff;
            }
        }
    }
}

/// Walks from the top of a shelf down to a node. `way`: the nodes on which something is set, the
/// top first.
pub fn walk<'h>(
    owner: bool,
    person: &Person,
    way: impl Iterator<Item = (NodeId, &'h Here)>,
    now: i64,
    witness: &mut impl Witness,
) -> Standing {
    way.fold(Standing::above(owner), |standing, (node, here)| {
        standing.enter(person, node, here, now, witness)
    })
}

/// What a person may do, with the grants that say so: the same walk that decides.
pub fn explain<'h>(
    owner: bool,
    person: &Person,
    way: impl Iterator<Item = (NodeId, &'h Here)>,
    now: i64,
) -> Explained {
    let mut notes = Notes::default();
    let standing = walk(owner, person, way, now, &mut notes);
    let level = standing.level();
    for reason in &mut notes.0 {
        if reason.effect != Effect::GivesLess || owner {
            continue;
        }
        reason.effect = match reason.grant.gives {
            Gives::Deny => Effect::Decides,
            Gives::Allow(_) if standing.denied => Effect::Denied,
            Gives::Allow(given) if Some(given) == level => Effect::Decides,
            Gives::Allow(_) => Effect::GivesLess,
        };
    }
    Explained { level, owner, reasons: notes.0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NOW: i64 = 1_000;

    fn grant(subject: Subject, gives: Gives) -> Grant {
        Grant { id: GrantId(1), subject, gives, until: None }
    }

    fn level(owner: bool, person: &Person, way: &[Here]) -> Option<Level> {
        let way = way.iter().enumerate().map(|(i, h)| (NodeId(i as i64), h));
        walk(owner, person, way, NOW, &mut ()).level()
    }

    #[test]
    fn several_grants_add_up_a_denial_wins_and_nobody_else_has_any() {
        let (tomas, oona) = (AccountId(2), AccountId(3));
        let volunteers = [GroupId(7)];
        let here = Here {
            afresh: false,
            grants: vec![
                grant(Subject::Account(tomas), Gives::Allow(Level::View)),
                grant(Subject::Group(GroupId(7)), Gives::Allow(Level::Edit)),
            ],
        };
        let with = Person { account: tomas, groups: &volunteers, guest: false };
        assert_eq!(level(false, &with, std::slice::from_ref(&here)), Some(Level::Edit));
        let without = Person { account: tomas, groups: &[], guest: false };
        assert_eq!(level(false, &without, std::slice::from_ref(&here)), Some(Level::View));
        assert_eq!(
            level(false, &Person { account: oona, groups: &[], guest: false }, std::slice::from_ref(&here)),
            None
        );
        let denied = Here { afresh: false, grants: vec![grant(Subject::Group(GroupId(7)), Gives::Deny)] };
        assert_eq!(level(false, &with, &[here.clone(), denied.clone()]), None);
        assert_eq!(level(true, &with, &[here, denied]), Some(Level::Manage));
    }

    #[test]
    fn starting_afresh_drops_levels_and_keeps_denials() {
        let tomas = Person { account: AccountId(2), groups: &[], guest: false };
        let all = |gives| Here { afresh: false, grants: vec![grant(Subject::Everyone, gives)] };
        let afresh = Here { afresh: true, grants: vec![] };
        let mine = Here {
            afresh: true,
            grants: vec![grant(Subject::Account(AccountId(2)), Gives::Allow(Level::Add))],
        };
        assert_eq!(level(false, &tomas, &[all(Gives::Allow(Level::Edit)), afresh.clone()]), None);
        assert_eq!(level(false, &tomas, &[all(Gives::Allow(Level::Edit)), mine.clone()]), Some(Level::Add));
        assert_eq!(level(false, &tomas, &[all(Gives::Deny), mine]), None);
        assert_eq!(level(true, &tomas, &[afresh]), Some(Level::Manage));
    }

    #[test]
    fn the_explanation_names_what_decides_and_what_became_of_the_rest() {
        let tomas = Person { account: AccountId(2), groups: &[GroupId(7)], guest: false };
        let ended = Grant { until: Some(NOW), ..grant(Subject::Everyone, Gives::Allow(Level::Manage)) };
        let way = [
            Here { afresh: false, grants: vec![grant(Subject::Everyone, Gives::Allow(Level::Edit)), ended] },
            Here {
                afresh: true,
                grants: vec![
                    grant(Subject::Group(GroupId(7)), Gives::Allow(Level::Add)),
                    grant(Subject::Account(AccountId(2)), Gives::Allow(Level::View)),
                ],
            },
        ];
        let on = |way: &[Here]| {
            let way = way.iter().enumerate().map(|(i, h)| (NodeId(i as i64), h)).collect::<Vec<_>>();
            let told = explain(false, &tomas, way.into_iter(), NOW);
            (told.level, told.reasons.iter().map(|r| r.effect).collect::<Vec<_>>())
        };
        let effects = vec![Effect::CutOff, Effect::Ended, Effect::Decides, Effect::GivesLess];
        assert_eq!(on(&way), (Some(Level::Add), effects));
        let denied = Here { afresh: false, grants: vec![grant(Subject::Everyone, Gives::Deny)] };
        let effects = vec![Effect::CutOff, Effect::Ended, Effect::Denied, Effect::Denied, Effect::Decides];
        assert_eq!(on(&[way[0].clone(), way[1].clone(), denied]), (None, effects));
    }

    #[test]
    fn words_are_read_as_they_are_written() {
        for level in Level::ALL {
            assert_eq!(Gives::from_word(level.word()), Some(Gives::Allow(level)));
        }
        assert_eq!(Gives::from_word("deny"), Some(Gives::Deny));
        assert_eq!((Gives::from_word("own"), Level::from_word("deny")), (None, None));
    }

    fn subjects() -> impl Strategy<Value = Subject> {
        prop_oneof![
            (0..3i64).prop_map(|n| Subject::Account(AccountId(n))),
            (0..3i64).prop_map(|n| Subject::Group(GroupId(n))),
            Just(Subject::Everyone),
        ]
    }

    fn gifts() -> impl Strategy<Value = Gives> {
        prop_oneof![1 => Just(Gives::Deny), 3 => (0..4usize).prop_map(|n| Gives::Allow(Level::ALL[n]))]
    }

    prop_compose! {
        fn grants()(subject in subjects(), gives in gifts(), until in prop::option::of(NOW - 1..NOW + 2)) -> Grant {
            Grant { id: GrantId(0), subject, gives, until }
        }
    }

    prop_compose! {
        fn places()(afresh in prop::bool::weighted(0.2), grants in prop::collection::vec(grants(), 0..4)) -> Here {
            Here { afresh, grants }
        }
    }

    proptest! {
        /// Against the sentences of the design, read one after the other from the node upwards.
        #[test]
        fn the_walk_does_what_the_sentences_say(
            way in prop::collection::vec(places(), 0..8),
            account in 0..3i64,
            groups in prop::collection::btree_set(0..3i64, 0..3),
            owner in prop::bool::weighted(0.1),
        ) {
            let groups: Vec<GroupId> = groups.into_iter().map(GroupId).collect();
            let person = Person { account: AccountId(account), groups: &groups, guest: false };
            let mine: Vec<(usize, &Grant)> = way
                .iter()
                .enumerate()
                .flat_map(|(depth, here)| here.grants.iter().map(move |g| (depth, g)))
                .filter(|(_, g)| g.until.is_none_or(|until| until > NOW))
                .filter(|(_, g)| match g.subject {
                    Subject::Account(a) => a.0 == account,
                    Subject::Group(g) => groups.contains(&g),
                    Subject::Everyone => true,
                })
                .collect();
            let last_afresh = way.iter().rposition(|here| here.afresh).unwrap_or(0);
            let expected = if owner {
                Some(Level::Manage)
            } else if mine.iter().any(|(_, g)| g.gives == Gives::Deny) {
                None
            } else {
                mine.iter()
                    .filter(|(depth, _)| *depth >= last_afresh)
                    .filter_map(|(_, g)| match g.gives { Gives::Allow(l) => Some(l), Gives::Deny => None })
                    .max()
            };
            prop_assert_eq!(level(owner, &person, &way), expected);
            let steps: Vec<_> = way.iter().enumerate().map(|(i, h)| (NodeId(i as i64), h)).collect();
            let told = explain(owner, &person, steps.into_iter(), NOW);
            prop_assert_eq!(told.level, expected);
            // Whatever somebody may do or is refused, some grant is named for it.
            let decides = told.reasons.iter().any(|r| r.effect == Effect::Decides);
            let denied = mine.iter().any(|(_, g)| g.gives == Gives::Deny);
            prop_assert_eq!(decides, !owner && (expected.is_some() || denied));
        }
    }
}
