//! The rules about what is kept and what counts: versions, trash, snapshots, quotas.
//!
//! A wider rule of these is a promise, and a narrower one may promise more, never less: keep more,
//! erase sooner, warn earlier. Where no scope says anything, everything is kept.

use super::{Decided, Rule, RuleError, Rules, Scope, Value};
use crate::ShelfId;
use crate::keeping::ladder::Ladder;
use crate::keeping::span::Span;
use crate::schedule::{Schedule, ScheduleError};
use crate::size::{human, read as read_size};
use std::collections::BTreeSet;

/// When the disk counts as nearly full, and what is then too young to give way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Room {
    /// Below so many free bytes, old states give way.
    pub below: u64,
    /// What is younger stays.
    pub floor: Span,
}

/// What can count beside live files.
pub const COUNTS: [&str; 4] = ["versions", "trash", "snapshots", "given"];

impl Rule {
    /// Whether it is about what is kept and what counts.
    pub fn is_kept(self) -> bool {
        self >= Rule::Versions
    }

    /// Whether a change of it can make something go.
    pub fn drops(self) -> bool {
        matches!(
            self,
            Rule::Versions
                | Rule::VersionsLargest
                | Rule::TrashDays
                | Rule::EraseDays
                | Rule::Hold
                | Rule::MakeRoom
        )
    }
}

pub(super) fn word(rule: Rule) -> &'static str {
    match rule {
        Rule::Versions => "versions-kept",
        Rule::VersionsLargest => "versions-largest",
        Rule::TrashDays => "trash-days",
        Rule::EraseDays => "erase-days",
        Rule::Hold => "hold",
        Rule::MakeRoom => "make-room",
        Rule::Snapshots => "snapshots-taken",
        Rule::MassChange => "mass-change",
        Rule::QuotaWarns => "quota-warns-percent",
        _ => "quota-counts",
    }
}

pub(super) fn title(rule: Rule) -> &'static str {
    match rule {
        Rule::Versions => "Which versions are kept",
        Rule::VersionsLargest => "Largest file with versions",
        Rule::TrashDays => "Days in the trash",
        Rule::EraseDays => "Gone for good after",
        Rule::Hold => "Nothing goes",
        Rule::MakeRoom => "When space is short",
        Rule::Snapshots => "Snapshots by themselves",
        Rule::MassChange => "When a device changes very much",
        Rule::QuotaWarns => "When a quota warns",
        _ => "What counts against a quota",
    }
}

pub(super) fn default_value(rule: Rule) -> Value {
    match rule {
        Rule::Versions => Value::Ladder(Ladder::all()),
        Rule::VersionsLargest => Value::Size(None),
        Rule::TrashDays | Rule::EraseDays => Value::Number(None),
        Rule::Hold => Value::Switch(false),
        Rule::MakeRoom => Value::Room(None),
        Rule::Snapshots => Value::Schedules(Vec::new()),
        Rule::MassChange => Value::Choice("tell"),
        Rule::QuotaWarns => Value::Number(Some(90)),
        _ => Value::Words(BTreeSet::new()),
    }
}

pub(super) fn wanted(rule: Rule) -> String {
    match rule {
        Rule::Versions => Ladder::WANTED.into(),
        Rule::VersionsLargest => "a size such as 500 MiB, or none (files of any size have versions)".into(),
        Rule::TrashDays => "a number of days from 1 to 3650, or none (kept for ever)".into(),
        Rule::EraseDays => "a number of days from 1 to 3650, or none (nothing is erased)".into(),
        Rule::Hold => "on or off".into(),
        Rule::MakeRoom => "SIZE free, nothing younger than TIME, such as \"20 GiB free, nothing younger than 7 days\"; or none".into(),
        Rule::Snapshots => Schedule::WANTED.into(),
        Rule::MassChange => "off, tell (administrators and owners hear of it), or close (and that computer is disconnected; without one, WebDAV is closed to that account until the alarm is settled)".into(),
        Rule::QuotaWarns => "a number from 50 to 99".into(),
        _ => "some of versions, trash, snapshots, given (what others gave one), with commas between them, or none".into(),
    }
}

pub(super) fn choices(rule: Rule) -> Vec<&'static str> {
    match rule {
        Rule::Hold => vec!["on", "off"],
        Rule::MassChange => vec!["off", "tell", "close"],
        Rule::QuotaCounts => COUNTS.to_vec(),
        _ => Vec::new(),
    }
}

pub(super) fn for_shelves(rule: Rule) -> bool {
    rule.is_kept() && !matches!(rule, Rule::MakeRoom | Rule::QuotaWarns | Rule::QuotaCounts)
}

pub(super) fn read(rule: Rule, text: &str) -> Result<Value, RuleError> {
    let malformed =
        || RuleError::Malformed { rule: rule.word(), value: text.to_string(), wanted: rule.wanted() };
    let none = text == "none";
    let number = |least: u32, most: u32| {
        text.parse::<u32>().ok().filter(|n| (least..=most).contains(n)).ok_or_else(malformed)
    };
    match rule {
        Rule::Versions => Ladder::read(text).map(Value::Ladder).ok_or_else(malformed),
        Rule::VersionsLargest if none => Ok(Value::Size(None)),
        // A bare number is more likely a slip than a count of bytes.
        Rule::VersionsLargest => match read_size(text).filter(|_| text.ends_with('B')) {
            Some(n) if n > 0 => Ok(Value::Size(Some(n))),
            _ => Err(malformed()),
        },
        Rule::TrashDays | Rule::EraseDays if none => Ok(Value::Number(None)),
        Rule::TrashDays | Rule::EraseDays => Ok(Value::Number(Some(number(1, 3650)?))),
        Rule::Hold => match text {
            "on" => Ok(Value::Switch(true)),
            "off" => Ok(Value::Switch(false)),
            _ => Err(malformed()),
        },
        Rule::MakeRoom if none => Ok(Value::Room(None)),
        Rule::MakeRoom => {
            let (below, floor) = text.split_once(',').ok_or_else(malformed)?;
            let below = below.trim().strip_suffix(" free").and_then(read_size).filter(|n| *n > 0);
            let floor = floor.trim().strip_prefix("nothing younger than ").and_then(Span::read);
            match (below, floor) {
                (Some(below), Some(floor)) => Ok(Value::Room(Some(Room { below, floor }))),
                _ => Err(malformed()),
            }
        }
        Rule::Snapshots if none || text.is_empty() => Ok(Value::Schedules(Vec::new())),
        Rule::Snapshots => {
            let read = |part: &str| {
                Schedule::read(part).map_err(|source| match source {
                    ScheduleError::Malformed => malformed(),
                    source => {
                        RuleError::Schedule { rule: rule.word(), part: part.trim().to_string(), source }
                    }
                })
            };
            Ok(Value::Schedules(text.split(',').map(read).collect::<Result<_, _>>()?))
        }
        Rule::MassChange => {
            choices(rule).into_iter().find(|c| *c == text).map(Value::Choice).ok_or_else(malformed)
        }
        Rule::QuotaWarns => Ok(Value::Number(Some(number(50, 99)?))),
        _ if none || text.is_empty() => Ok(Value::Words(BTreeSet::new())),
        _ => {
            let words: BTreeSet<String> = text.split(',').map(|w| w.trim().to_lowercase()).collect();
            match words.iter().all(|w| COUNTS.contains(&w.as_str())) {
                true => Ok(Value::Words(words)),
                false => Err(malformed()),
            }
        }
    }
}

/// The one that promises more.
pub(super) fn tighter(rule: Rule, a: &Value, b: &Value) -> Value {
    match (a, b) {
        (Value::Switch(a), Value::Switch(b)) => Value::Switch(*a || *b),
        (Value::Ladder(a), Value::Ladder(b)) => Value::Ladder(a.union(b)),
        (Value::Size(a), Value::Size(b)) => Value::Size(a.zip(*b).map(|(a, b)| a.max(b))),
        // Kept for longer, but erased and warned sooner.
        (Value::Number(a), Value::Number(b)) => Value::Number(match (rule, a, b) {
            (Rule::TrashDays, a, b) => a.zip(*b).map(|(a, b)| a.max(b)),
            (_, None, other) | (_, other, None) => *other,
            (_, Some(a), Some(b)) => Some(*a.min(b)),
        }),
        (Value::Room(a), Value::Room(b)) => Value::Room(
            a.zip(*b).map(|(a, b)| Room { below: a.below.min(b.below), floor: a.floor.max(b.floor) }),
        ),
        (Value::Schedules(a), Value::Schedules(b)) => {
            let mut both = a.clone();
            both.extend(b.iter().filter(|s| !a.contains(s)));
            Value::Schedules(both)
        }
        (Value::Choice(a), Value::Choice(b)) => {
            let all = choices(rule);
            let place = |word| all.iter().position(|c| *c == word).unwrap_or(0);
            Value::Choice(all[place(*a).max(place(*b))])
        }
        (Value::Words(a), Value::Words(b)) => Value::Words(a.union(b).cloned().collect()),
        (a, _) => a.clone(),
    }
}

pub(super) fn word_of(value: &Value) -> Option<String> {
    match value {
        Value::Ladder(ladder) => Some(ladder.word()),
        Value::Size(None) | Value::Room(None) => Some("none".into()),
        Value::Size(Some(n)) => Some(human(*n)),
        Value::Room(Some(room)) => {
            Some(format!("{} free, nothing younger than {}", human(room.below), room.floor.word()))
        }
        Value::Schedules(list) if list.is_empty() => Some("none".into()),
        Value::Schedules(list) => Some(list.iter().map(Schedule::word).collect::<Vec<_>>().join(", ")),
        _ => None,
    }
}

pub(super) fn sentence(rule: Rule, value: &Value) -> Option<String> {
    Some(match (rule, value) {
        (Rule::Versions, Value::Ladder(ladder)) => match ladder.word().as_str() {
            "all" => "Every version of every file is kept.".into(),
            "none" => "Replaced files are not kept.".into(),
            word => format!("Of each file these versions are kept: {word}."),
        },
        (Rule::VersionsLargest, Value::Size(None)) => "Files of any size have versions.".into(),
        (Rule::VersionsLargest, Value::Size(Some(n))) => format!("Files above {} have no versions.", human(*n)),
        (Rule::TrashDays, Value::Number(None)) => "Removed things stay in the trash for ever.".into(),
        (Rule::TrashDays, Value::Number(Some(n))) => format!("Removed things can be brought back for {}.", days(*n)),
        (Rule::EraseDays, Value::Number(None)) => "Nothing is erased for its age.".into(),
        (Rule::EraseDays, Value::Number(Some(n))) => format!(
            "Past states and removed things are gone for good after {}, their names too; snapshots and names that keep do not save them.",
            days(*n)
        ),
        (Rule::Hold, Value::Switch(true)) => "Nothing of the past goes, whatever else says, not even by hand.".into(),
        (Rule::Hold, _) => "The other rules decide what goes.".into(),
        (Rule::MakeRoom, Value::Room(None)) => "Nothing gives way when space is short; uploads are refused then.".into(),
        (Rule::MakeRoom, Value::Room(Some(room))) => format!(
            "When less than {} are free, the oldest past states go until they are, but none younger than {}.",
            human(room.below),
            room.floor.word()
        ),
        (Rule::Snapshots, Value::Schedules(list)) if list.is_empty() => "No snapshots are taken by themselves.".into(),
        (Rule::Snapshots, value) => format!("Snapshots are taken: {}.", word_of(value)?),
        (Rule::MassChange, Value::Choice("off")) => "Nobody is told when a device changes very much at once.".into(),
        (Rule::MassChange, Value::Choice("tell")) => {
            "When a device makes noise of a fifth of a shelf, administrators and owners are told.".into()
        }
        (Rule::MassChange, _) => {
            "When a device makes noise of a fifth of a shelf, it is shut out, and administrators and owners are told.".into()
        }
        (Rule::QuotaWarns, Value::Number(Some(n))) => {
            format!("People are told once when {n} % of a quota is used.")
        }
        (Rule::QuotaCounts, Value::Words(words)) if words.is_empty() => "Only files that are there now count.".into(),
        (Rule::QuotaCounts, Value::Words(words)) => {
            let words: Vec<_> = words.iter().map(String::as_str).collect();
            format!("Beside files that are there now these count: {}.", words.join(", "))
        }
        _ => return None,
    })
}

fn days(n: u32) -> String {
    if n == 1 { "1 day".into() } else { format!("{n} days") }
}

impl Rules {
    /// What is promised: all that any scope says together; what is usual only where none does.
    pub(super) fn decide_kept(&self, rule: Rule, shelf: Option<ShelfId>) -> Decided {
        let mut decided: Option<Decided> = None;
        for (scope, its, value) in self.all() {
            let applies = match scope {
                Scope::Service | Scope::Organisation => true,
                Scope::Group(_) => false,
                Scope::Shelf(of) => shelf == Some(of),
            };
            if !applies || its != rule {
                continue;
            }
            decided = Some(match decided {
                None => Decided { value: value.clone(), by: Some(scope) },
                Some(before) => {
                    let both = rule.tighter(&before.value, value);
                    if both == before.value { before } else { Decided { value: both, by: Some(scope) } }
                }
            });
        }
        decided.unwrap_or(Decided { value: rule.default_value(), by: None })
    }

    /// Refuses a narrower rule that would promise less than a wider one.
    pub(super) fn check_kept(&self, scope: Scope, rule: Rule, value: &Value) -> Result<(), RuleError> {
        let above = self.all().filter(|(s, its, _)| {
            *s < scope && *its == rule && !matches!(s, Scope::Shelf(_) | Scope::Group(_))
        });
        for (_, _, above) in above {
            if rule.tighter(above, value) != *value {
                return Err(RuleError::Widens { rule: rule.word(), above: rule.word_of(above) });
            }
        }
        Ok(())
    }

    /// Refuses a promise to keep what is erased sooner, wherever both count.
    pub(super) fn check_promises(&self, rule: Rule) -> Result<(), RuleError> {
        if !matches!(rule, Rule::Versions | Rule::TrashDays | Rule::EraseDays | Rule::Snapshots) {
            return Ok(());
        }
        let mut shelves: BTreeSet<Option<ShelfId>> = BTreeSet::from([None]);
        shelves.extend(
            self.all().filter_map(|(s, _, _)| if let Scope::Shelf(id) = s { Some(Some(id)) } else { None }),
        );
        for shelf in shelves {
            let said = |rule| Some(self.decide_kept(rule, shelf)).filter(|d| d.by.is_some()).map(|d| d.value);
            let Some(Value::Number(Some(erase))) = said(Rule::EraseDays) else { continue };
            let erase = Span::days(erase);
            let longest = |kept: Option<i64>| kept.is_none_or(|ms| ms > erase.0);
            let promises = [
                (
                    Rule::Versions,
                    match said(Rule::Versions) {
                        Some(Value::Ladder(l)) if longest(l.longest()) => Some(l.longest()),
                        _ => None,
                    },
                ),
                (
                    Rule::TrashDays,
                    match said(Rule::TrashDays) {
                        Some(Value::Number(n)) => {
                            let kept = n.map(|n| Span::days(n).0);
                            longest(kept).then_some(kept)
                        }
                        _ => None,
                    },
                ),
                (
                    Rule::Snapshots,
                    match said(Rule::Snapshots) {
                        Some(Value::Schedules(list)) => {
                            let kept = list.iter().map(|s| s.kept.0).max();
                            kept.filter(|ms| *ms > erase.0).map(Some)
                        }
                        _ => None,
                    },
                ),
            ];
            for (which, kept) in promises {
                if let Some(kept) = kept {
                    return Err(RuleError::Contradicts {
                        rule: which.word(),
                        other: Rule::EraseDays.word(),
                        kept: kept.map_or_else(|| "ever".into(), |ms| Span(ms).word()),
                        gone: erase.word(),
                    });
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(rules: &Rules, scope: Scope, rule: Rule, text: &str) -> Result<Rules, RuleError> {
        rules.with(scope, rule, Some(rule.read(text)?))
    }

    #[test]
    fn every_value_is_read_as_it_is_written() {
        for (rule, text) in [
            (Rule::Versions, "last 10, daily for 8 weeks"),
            (Rule::VersionsLargest, "500 MiB"),
            (Rule::TrashDays, "30"),
            (Rule::EraseDays, "none"),
            (Rule::Hold, "on"),
            (Rule::MakeRoom, "20.0 GiB free, nothing younger than 1 week"),
            (Rule::Snapshots, "daily at 02:00 kept 8 weeks, weekly on sunday at 03:00 kept 1 year"),
            (Rule::MassChange, "close"),
            (Rule::QuotaWarns, "85"),
            (Rule::QuotaCounts, "trash, versions"),
        ] {
            let value = rule.read(text).unwrap();
            assert_eq!(rule.word_of(&value), text);
            assert!(rule.sentence(&value).ends_with('.'), "{}", rule.sentence(&value));
            assert_eq!(rule.read(&rule.word_of(&rule.default_value())), Ok(rule.default_value()));
        }
        for (rule, text) in [
            (Rule::Versions, "some"),
            (Rule::VersionsLargest, "0 B"),
            (Rule::TrashDays, "0"),
            (Rule::MakeRoom, "20 GiB"),
            (Rule::Snapshots, "monthly on 40 kept 1 year"),
            (Rule::QuotaCounts, "dreams"),
        ] {
            assert!(rule.read(text).is_err(), "{text}");
        }
    }

    #[test]
    fn where_nothing_is_said_everything_is_kept_and_a_shelf_may_say_less() {
        let rules = set(&Rules::default(), Scope::Shelf(ShelfId(3)), Rule::Versions, "none").unwrap();
        let on = |shelf| rules.decide_on(Rule::Versions, &[], Some(ShelfId(shelf)));
        assert_eq!(on(3).value, Value::Ladder(Ladder::default()));
        assert_eq!((on(4).value, on(4).by), (Value::Ladder(Ladder::all()), None));
    }

    #[test]
    fn a_shelf_may_promise_more_than_the_service_never_less() {
        let rules = set(&Rules::default(), Scope::Service, Rule::TrashDays, "30").unwrap();
        let shelf = Scope::Shelf(ShelfId(1));
        assert!(matches!(set(&rules, shelf, Rule::TrashDays, "20"), Err(RuleError::Widens { .. })));
        let more = set(&rules, shelf, Rule::TrashDays, "60").unwrap();
        assert_eq!(more.decide_on(Rule::TrashDays, &[], Some(ShelfId(1))).value, Value::Number(Some(60)));
        let held = set(&Rules::default(), Scope::Service, Rule::Hold, "on").unwrap();
        assert!(set(&held, shelf, Rule::Hold, "off").is_err());
        let erased = set(&Rules::default(), Scope::Service, Rule::EraseDays, "90").unwrap();
        assert!(set(&erased, shelf, Rule::EraseDays, "120").is_err());
        assert!(set(&erased, shelf, Rule::EraseDays, "60").is_ok());
    }

    #[test]
    fn nothing_promises_to_keep_what_is_erased_sooner() {
        let erased = set(&Rules::default(), Scope::Service, Rule::EraseDays, "30").unwrap();
        let shelf = Scope::Shelf(ShelfId(1));
        for (rule, text) in [
            (Rule::TrashDays, "60"),
            (Rule::TrashDays, "none"),
            (Rule::Versions, "daily for 8 weeks"),
            (Rule::Versions, "all"),
            (Rule::Snapshots, "daily at 02:00 kept 8 weeks"),
        ] {
            let refused = set(&erased, shelf, rule, text);
            assert!(matches!(refused, Err(RuleError::Contradicts { .. })), "{} {text}", rule.word());
        }
        assert!(set(&erased, shelf, Rule::Versions, "last 10, daily for 30 days").is_ok());
        // The other way round as well: erasing sooner than a shelf has promised.
        let kept = set(&Rules::default(), shelf, Rule::TrashDays, "60").unwrap();
        assert!(matches!(
            set(&kept, Scope::Service, Rule::EraseDays, "30"),
            Err(RuleError::Contradicts { .. })
        ));
    }
}
