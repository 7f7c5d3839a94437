//! Rules: settings that the service, an organisation or a group has. Of all that apply, the
//! tightest counts, and is named; a narrower scope may tighten, never widen.
//!
//! A value is written as text, the same in the catalogue, the API and plans: `on`, `12`, `none`,
//! `2026-12-01`, `console, sync`.

use crate::{AccountId, GroupId, ShelfId};
use std::collections::BTreeSet;

pub mod kept;
mod rule;
pub use kept::Room;
pub use rule::*;

/// A way in that can be open or closed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Door {
    /// The pages in a browser.
    Console,
    /// Connected computers.
    Sync,
    /// File managers and programs that speak WebDAV.
    Dav,
    /// Addresses that open something to strangers.
    Links,
    /// Pages where strangers hand files in.
    Intake,
}

impl Door {
    /// All of them.
    pub const ALL: [Door; 5] = [Door::Console, Door::Sync, Door::Dav, Door::Links, Door::Intake];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Door::Console => "console",
            Door::Sync => "sync",
            Door::Dav => "dav",
            Door::Links => "links",
            Door::Intake => "intake",
        }
    }

    /// What it is, in words.
    pub fn what(self) -> &'static str {
        match self {
            Door::Console => "the console in a browser",
            Door::Sync => "connecting computers",
            Door::Dav => "WebDAV for file managers and programs",
            Door::Links => "giving out links",
            Door::Intake => "taking files in by an intake",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Door> {
        Door::ALL.into_iter().find(|d| d.word() == word)
    }
}

/// Where a value is set.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// Everything on this machine.
    Service,
    /// The organisation.
    Organisation,
    /// One group of it.
    Group(GroupId),
    /// One shelf of it.
    Shelf(ShelfId),
}

/// Every member.
pub const EVERYONE: &str = "everyone";
/// Not even one.
pub const NOBODY: &str = "nobody";

/// What counts, and where that was decided.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decided {
    /// The value.
    pub value: Value,
    /// The widest scope that says so; none if nothing is set.
    pub by: Option<Scope>,
}

/// All values that are set.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    set: Vec<(Scope, Rule, Value)>,
}

impl Rules {
    /// From values as they are kept; one that cannot be read counts as not set.
    pub fn new(set: impl IntoIterator<Item = (Scope, Rule, Value)>) -> Rules {
        let mut set: Vec<_> = set.into_iter().collect();
        set.sort_by_key(|(scope, rule, _)| (*scope, *rule));
        Rules { set }
    }

    /// What is set at a scope.
    pub fn at(&self, scope: Scope, rule: Rule) -> Option<&Value> {
        self.set.iter().find(|(s, r, _)| *s == scope && *r == rule).map(|(_, _, v)| v)
    }

    /// Every value that is set.
    pub fn all(&self) -> impl Iterator<Item = (Scope, Rule, &Value)> {
        self.set.iter().map(|(s, r, v)| (*s, *r, v))
    }

    /// What counts for somebody in these groups. A value at the service takes the place of the
    /// default; every narrower one can only tighten it.
    pub fn decide(&self, rule: Rule, groups: &[GroupId]) -> Decided {
        self.decide_on(rule, groups, None)
    }

    /// The same for something on a shelf.
    pub fn decide_on(&self, rule: Rule, groups: &[GroupId], shelf: Option<ShelfId>) -> Decided {
        if rule.is_kept() {
            return self.decide_kept(rule, shelf);
        }
        let mut decided = match self.at(Scope::Service, rule) {
            Some(value) => Decided { value: value.clone(), by: Some(Scope::Service) },
            None => Decided { value: rule.default_value(), by: None },
        };
        for (scope, its, value) in &self.set {
            let applies = match scope {
                Scope::Service => false,
                Scope::Organisation => true,
                Scope::Group(group) => groups.contains(group),
                Scope::Shelf(its) => shelf == Some(*its),
            };
            if applies && *its == rule {
                let tighter = rule.tighter(&decided.value, value);
                if tighter != decided.value {
                    decided = Decided { value: tighter, by: Some(*scope) };
                }
            }
        }
        decided
    }

    /// These rules with one value set, or taken away. Refused if it would widen.
    pub fn with(&self, scope: Scope, rule: Rule, value: Option<Value>) -> Result<Rules, RuleError> {
        match scope {
            Scope::Group(_) if !rule.for_groups() => {
                return Err(RuleError::NotThere { rule: rule.word(), scope: "group" });
            }
            Scope::Shelf(_) if !rule.for_shelves() => {
                return Err(RuleError::NotThere { rule: rule.word(), scope: "shelf" });
            }
            _ => {}
        }
        let mut set = self.set.clone();
        set.retain(|(s, r, _)| *s != scope || *r != rule);
        if let Some(value) = value {
            if rule.is_kept() {
                self.check_kept(scope, rule, &value)?;
            } else if scope != Scope::Service {
                // What holds above: without the groups, and for the organisation without itself.
                let above = Rules::new(
                    set.iter()
                        .filter(|(s, _, _)| *s < scope && matches!(s, Scope::Service | Scope::Organisation))
                        .cloned(),
                );
                let above = above.decide(rule, &[]).value;
                if rule.tighter(&above, &value) != value {
                    return Err(RuleError::Widens { rule: rule.word(), above: rule.word_of(&above) });
                }
            }
            set.push((scope, rule, value));
        }
        let after = Rules::new(set);
        if rule.is_kept() {
            after.check_promises(rule)?;
        }
        Ok(after)
    }

    /// The doors that are closed to somebody, with who decided.
    pub fn closed(&self, groups: &[GroupId]) -> BTreeSet<Door> {
        match self.decide(Rule::DoorsClosed, groups).value {
            Value::Words(words) => words.iter().filter_map(|w| Door::from_word(w)).collect(),
            _ => BTreeSet::new(),
        }
    }

    /// A number, or none.
    pub fn number(&self, rule: Rule, groups: &[GroupId]) -> Option<u32> {
        match self.decide(rule, groups).value {
            Value::Number(n) => n,
            _ => None,
        }
    }

    /// Whether a switch is on.
    pub fn on(&self, rule: Rule, groups: &[GroupId]) -> bool {
        self.decide(rule, groups).value == Value::Switch(true)
    }
}

/// What is known of somebody when a change of rules is looked at.
#[derive(Clone, Debug)]
pub struct Facts {
    /// The account.
    pub account: AccountId,
    /// Its groups.
    pub groups: Vec<GroupId>,
    /// Whether it is a guest.
    pub guest: bool,
    /// Whether it has a second factor.
    pub factor: bool,
    /// How many computers it has connected.
    pub computers: usize,
    /// Days since it last signed in, or was made.
    pub away_days: u32,
    /// Whether it can do nothing now.
    pub disabled: bool,
}

/// What a change of rules would do to somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effect {
    /// To whom.
    pub account: AccountId,
    /// What counts for them now.
    pub before: String,
    /// What would.
    pub after: String,
    /// What that means for them at once; empty if nothing.
    pub at_once: String,
}

/// Tells for whom a change of rules changes something. `today`: for what counts from a day on.
pub fn plan_rules(
    rule: Rule,
    before: &Rules,
    after: &Rules,
    people: &[Facts],
    today: jiff::civil::Date,
) -> Vec<Effect> {
    people
        .iter()
        .filter(|p| !p.disabled && (p.guest || rule != Rule::GuestsIdle))
        // What strangers reach is told by the addresses it touches, not by people; what is kept, by
        // what would go.
        .filter(|_| !rule.for_strangers() && !rule.is_kept())
        .filter_map(|person| {
            let (was, will) =
                (before.decide(rule, &person.groups).value, after.decide(rule, &person.groups).value);
            (was != will).then(|| Effect {
                account: person.account,
                at_once: at_once(rule, &was, &will, person, today),
                before: rule.word_of(&was),
                after: rule.word_of(&will),
            })
        })
        .collect()
}

fn at_once(rule: Rule, was: &Value, will: &Value, person: &Facts, today: jiff::civil::Date) -> String {
    match (rule, was, will) {
        (Rule::SecondFactor, _, Value::Day(Some(day))) if !person.factor && *day <= today => {
            "has no second factor, and can only set one up from now on".into()
        }
        (Rule::SecondFactor, _, Value::Day(Some(_))) if !person.factor => "has no second factor yet".into(),
        (Rule::DoorsClosed, Value::Words(was), Value::Words(will)) => {
            let sync = Door::Sync.word();
            match (will.contains(sync) && !was.contains(sync), person.computers) {
                (true, 1) => "1 connected computer is refused".into(),
                (true, n) if n > 1 => format!("{n} connected computers are refused"),
                _ => String::new(),
            }
        }
        (Rule::GuestsIdle, _, Value::Number(Some(days))) if person.away_days >= *days => {
            format!("has been away for {} days, and is disabled", person.away_days)
        }
        _ => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rules(set: &[(Scope, Rule, &str)]) -> Rules {
        Rules::new(set.iter().map(|(s, r, v)| (*s, *r, r.read(v).unwrap())))
    }

    #[test]
    fn every_rule_reads_what_it_writes_and_names_what_it_wants() {
        for rule in Rule::ALL {
            assert_eq!(Rule::from_word(rule.word()), Some(rule));
            let value = rule.default_value();
            assert_eq!(rule.read(&rule.word_of(&value)).unwrap(), value, "{}", rule.word());
            assert!(rule.sentence(&value).ends_with('.'));
            let wrong: &[&str] = match rule.by_groups() {
                true => &["everyone, Board", "Board,,Staff", "nobody, everyone"],
                false => &["perhaps", "-1", "2026-13-01", "console, window", "99999"],
            };
            for wrong in wrong {
                let refused = rule.read(wrong).unwrap_err().to_string();
                assert!(refused.contains(rule.word()) && refused.contains(*wrong), "{refused}");
            }
        }
    }

    #[test]
    fn the_tightest_value_counts_and_is_named() {
        let (staff, board) = (GroupId(1), GroupId(2));
        let set = rules(&[
            (Scope::Service, Rule::PasswordLength, "12"),
            (Scope::Group(board), Rule::PasswordLength, "16"),
            (Scope::Group(staff), Rule::DoorsClosed, "sync, links, dav"),
            (Scope::Group(board), Rule::DoorsClosed, "console, intake"),
            (Scope::Organisation, Rule::SecondFactor, "2026-12-01"),
            (Scope::Group(board), Rule::SecondFactor, "2026-11-01"),
        ]);
        let by = |rule, groups: &[GroupId]| {
            let d = set.decide(rule, groups);
            (word(&d.value), d.by)
        };
        assert_eq!(by(Rule::PasswordLength, &[staff]), ("12".into(), Some(Scope::Service)));
        assert_eq!(by(Rule::PasswordLength, &[staff, board]), ("16".into(), Some(Scope::Group(board))));
        assert_eq!(by(Rule::SecondFactor, &[]), ("2026-12-01".into(), Some(Scope::Organisation)));
        assert_eq!(by(Rule::SecondFactor, &[board]), ("2026-11-01".into(), Some(Scope::Group(board))));
        assert_eq!(by(Rule::PeopleSeen, &[board]), ("everyone".into(), None));
        assert_eq!(set.closed(&[staff, board]), BTreeSet::from(Door::ALL));
        assert_eq!(set.closed(&[]), BTreeSet::new());
    }

    #[test]
    fn a_narrower_scope_may_not_widen() {
        let set = rules(&[(Scope::Service, Rule::PasswordLength, "12")]);
        let group = Scope::Group(GroupId(1));
        let tried = |rule: Rule, value: &str| set.with(group, rule, Some(rule.read(value).unwrap()));
        assert!(
            matches!(tried(Rule::PasswordLength, "10"), Err(RuleError::Widens { above, .. }) if above == "12")
        );
        assert!(tried(Rule::PasswordLength, "14").is_ok());
        assert!(tried(Rule::SecondFactor, "2026-12-01").is_ok());
        assert!(matches!(tried(Rule::SignUpDomains, "a.example"), Err(RuleError::NotThere { .. })));
        assert!(tried(Rule::LooksTold, "off").is_err(), "the default holds further up too");
    }

    #[test]
    fn a_shelf_tightens_for_what_is_on_it_alone() {
        let (quiet, other) = (ShelfId(1), ShelfId(2));
        let set = rules(&[
            (Scope::Organisation, Rule::LinksDays, "90"),
            (Scope::Organisation, Rule::LinksMadeBy, "Board, Staff"),
            (Scope::Shelf(quiet), Rule::LinksDays, "7"),
            (Scope::Shelf(quiet), Rule::KeptInside, "on"),
        ]);
        let days = |shelf| word(&set.decide_on(Rule::LinksDays, &[], shelf).value);
        assert_eq!([days(Some(quiet)), days(Some(other)), days(None)], ["7", "90", "90"]);
        let inside = |shelf| set.decide_on(Rule::KeptInside, &[], Some(shelf)).value;
        assert_eq!((inside(quiet), inside(other)), (Value::Switch(true), Value::Switch(false)));
        let tried =
            |rule: Rule, value: &str| set.with(Scope::Shelf(other), rule, Some(rule.read(value).unwrap()));
        assert!(matches!(tried(Rule::LinksDays, "91"), Err(RuleError::Widens { .. })));
        assert!(matches!(tried(Rule::PasswordLength, "20"), Err(RuleError::NotThere { scope: "shelf", .. })));
        let everyone = Rule::LinksMadeBy.read("everyone").unwrap();
        let staff = Rule::LinksMadeBy.read("Staff").unwrap();
        let nobody = Rule::LinksMadeBy.read("nobody").unwrap();
        let counts = set.decide(Rule::LinksMadeBy, &[]).value;
        assert_eq!(Rule::LinksMadeBy.tighter(&everyone, &counts), counts);
        assert_eq!(Rule::LinksMadeBy.tighter(&counts, &staff), staff);
        assert_eq!(Rule::LinksMadeBy.tighter(&staff, &nobody), nobody);
        assert_eq!(Rule::LinksMadeBy.word_of(&nobody), "nobody");
    }

    #[test]
    fn a_change_tells_whom_it_touches_and_what_happens_at_once() {
        let person = |id: i64, guest, factor, computers, away_days| Facts {
            account: AccountId(id),
            groups: vec![],
            guest,
            factor,
            computers,
            away_days,
            disabled: false,
        };
        let people = [person(1, false, true, 2, 0), person(2, true, false, 0, 40)];
        let today = jiff::civil::date(2026, 11, 23);
        let before = Rules::default();
        let tell = |rule: Rule, value: &str| {
            let after = before.with(Scope::Service, rule, Some(rule.read(value).unwrap())).unwrap();
            let told = plan_rules(rule, &before, &after, &people, today);
            told.into_iter().map(|e| (e.account.0, e.at_once)).collect::<Vec<_>>()
        };
        assert_eq!(
            tell(Rule::DoorsClosed, "sync"),
            [(1, "2 connected computers are refused".into()), (2, String::new())]
        );
        assert_eq!(
            tell(Rule::SecondFactor, "2026-11-23"),
            [(1, String::new()), (2, "has no second factor, and can only set one up from now on".into())]
        );
        assert_eq!(tell(Rule::GuestsIdle, "30"), [(2, "has been away for 40 days, and is disabled".into())]);
        assert_eq!(tell(Rule::PasswordLength, "10"), []);
    }

    proptest! {
        #[test]
        fn no_scope_can_loosen_what_another_demands(
            values in proptest::collection::vec((0usize..3, 8u32..65), 0..6),
            member in 0usize..3,
        ) {
            let scope = |n: usize| [Scope::Service, Scope::Organisation, Scope::Group(GroupId(2))][n];
            let mut set = Rules::default();
            for (n, value) in values {
                if let Ok(next) = set.with(scope(n), Rule::PasswordLength, Some(Value::Number(Some(value)))) {
                    set = next;
                }
            }
            let groups: &[GroupId] = if member == 2 { &[GroupId(2)] } else { &[] };
            let counts = set.number(Rule::PasswordLength, groups).unwrap();
            for (scope, _, value) in set.all() {
                let applies = scope != Scope::Group(GroupId(2)) || !groups.is_empty();
                if let (Value::Number(Some(least)), true) = (value, applies) {
                    prop_assert!(counts >= *least);
                }
            }
        }
    }
}
