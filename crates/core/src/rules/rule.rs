//! Each rule: what it is about, its values as text, which of two is tighter, what it means in words.

use crate::keeping::ladder::Ladder;
use crate::rules::*;
use crate::schedule::{Schedule, ScheduleError};
use std::collections::BTreeSet;

/// Every rule there is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Rule {
    /// The fewest characters of a password.
    PasswordLength,
    /// How hard a password must be to guess, 0 to 4.
    PasswordStrength,
    /// From which day on nobody signs in without a second factor.
    SecondFactor,
    /// After how many hours without use a browser is signed out.
    BrowsersIdle,
    /// After how many days without a word a computer's sign-in ends.
    DevicesIdle,
    /// Whom one sees in the list of people.
    PeopleSeen,
    /// Whether people from outside may be invited.
    GuestsInvited,
    /// After how many days without a sign-in a guest is disabled.
    GuestsIdle,
    /// Mail domains whose people may ask for an account.
    SignUpDomains,
    /// Whether an administrator approves each sign-up.
    SignUpApproval,
    /// Doors that are closed.
    DoorsClosed,
    /// Whether somebody is told when an administrator looks as them.
    LooksTold,
    /// Whether a link must have a password.
    LinksPassword,
    /// The most days that a link may live.
    LinksDays,
    /// Which groups may make links.
    LinksMadeBy,
    /// The most days that an intake may live.
    IntakesDays,
    /// Which groups may make intakes.
    IntakesMadeBy,
    /// Whether folders are not kept the same on computers.
    SyncClosed,
    /// Whether nothing is given to strangers and guests.
    KeptInside,
    /// Which versions are kept.
    Versions,
    /// Files above a size have no versions.
    VersionsLargest,
    /// How long removed things are kept.
    TrashDays,
    /// After how long past states are gone for good.
    EraseDays,
    /// Nothing of it goes.
    Hold,
    /// What gives way when the disk is nearly full.
    MakeRoom,
    /// When snapshots are taken by themselves.
    Snapshots,
    /// What happens when a device changes a great many files at once.
    MassChange,
    /// From which share of a quota on people are warned.
    QuotaWarns,
    /// What counts beside live files.
    QuotaCounts,
}

/// A value of a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// On or off.
    Switch(bool),
    /// A number, or none.
    Number(Option<u32>),
    /// A day, or none.
    Day(Option<jiff::civil::Date>),
    /// One word of the rule's own.
    Choice(&'static str),
    /// Words, in order.
    Words(BTreeSet<String>),
    /// Which versions are kept.
    Ladder(Ladder),
    /// A size in bytes, or none.
    Size(Option<u64>),
    /// When space is short, and what then gives way; or nothing does.
    Room(Option<Room>),
    /// When snapshots are taken.
    Schedules(Vec<Schedule>),
}

/// Why a value is refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// It is none.
    #[error("{rule} cannot be \"{value}\": {wanted}")]
    Malformed {
        /// The rule.
        rule: &'static str,
        /// What was sent.
        value: String,
        /// What can be.
        wanted: String,
    },
    /// A wider scope says otherwise.
    #[error("{rule} may be tightened here, not widened: further up it is \"{above}\"")]
    Widens {
        /// The rule.
        rule: &'static str,
        /// What holds further up.
        above: String,
    },
    /// A schedule in it makes no sense.
    #[error("{rule}: \"{part}\" is no schedule: {source}")]
    Schedule {
        /// The rule.
        rule: &'static str,
        /// Which.
        part: String,
        /// Why.
        source: ScheduleError,
    },
    /// It promises to keep what another rule erases.
    #[error("{rule} would promise to keep things for {kept}, and {other} takes them after {gone}")]
    Contradicts {
        /// The rule.
        rule: &'static str,
        /// The one that erases.
        other: &'static str,
        /// How long it would keep.
        kept: String,
        /// When they go.
        gone: String,
    },
    /// It is not set there.
    #[error("{rule} is not set for a {scope}")]
    NotThere {
        /// The rule.
        rule: &'static str,
        /// What it is not set for.
        scope: &'static str,
    },
}

impl Rule {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Rule; 29] = [
        Rule::PasswordLength,
        Rule::PasswordStrength,
        Rule::SecondFactor,
        Rule::BrowsersIdle,
        Rule::DevicesIdle,
        Rule::SyncClosed,
        Rule::DoorsClosed,
        Rule::PeopleSeen,
        Rule::LooksTold,
        Rule::GuestsInvited,
        Rule::GuestsIdle,
        Rule::SignUpDomains,
        Rule::SignUpApproval,
        Rule::KeptInside,
        Rule::LinksMadeBy,
        Rule::LinksPassword,
        Rule::LinksDays,
        Rule::IntakesMadeBy,
        Rule::IntakesDays,
        Rule::Versions,
        Rule::VersionsLargest,
        Rule::TrashDays,
        Rule::EraseDays,
        Rule::Hold,
        Rule::MakeRoom,
        Rule::Snapshots,
        Rule::MassChange,
        Rule::QuotaWarns,
        Rule::QuotaCounts,
    ];

    /// Its name in commands, plans and the API.
    pub fn word(self) -> &'static str {
        match self {
            Rule::PasswordLength => "password-length",
            Rule::PasswordStrength => "password-strength",
            Rule::SecondFactor => "second-factor-from",
            Rule::BrowsersIdle => "browsers-idle-hours",
            Rule::DevicesIdle => "devices-idle-days",
            Rule::PeopleSeen => "people-seen",
            Rule::GuestsInvited => "guests-invited",
            Rule::GuestsIdle => "guests-idle-days",
            Rule::SignUpDomains => "sign-up-domains",
            Rule::SignUpApproval => "sign-up-approval",
            Rule::DoorsClosed => "doors-closed",
            Rule::LooksTold => "looks-told",
            Rule::LinksPassword => "links-password",
            Rule::LinksDays => "links-longest-days",
            Rule::LinksMadeBy => "links-made-by",
            Rule::IntakesDays => "intakes-longest-days",
            Rule::IntakesMadeBy => "intakes-made-by",
            Rule::KeptInside => "kept-inside",
            Rule::SyncClosed => "sync-closed",
            other => kept::word(other),
        }
    }

    /// Reads its name.
    pub fn from_word(word: &str) -> Option<Rule> {
        Rule::ALL.into_iter().find(|r| r.word() == word)
    }

    /// What it is about, in a few words.
    pub fn title(self) -> &'static str {
        match self {
            Rule::PasswordLength => "Shortest password",
            Rule::PasswordStrength => "Strength of passwords",
            Rule::SecondFactor => "Second factor demanded",
            Rule::BrowsersIdle => "Idle browsers",
            Rule::DevicesIdle => "Computers that are away",
            Rule::PeopleSeen => "Who sees whom",
            Rule::GuestsInvited => "Guests may be invited",
            Rule::GuestsIdle => "Idle guests",
            Rule::SignUpDomains => "Who may sign up",
            Rule::SignUpApproval => "Sign-ups are approved",
            Rule::DoorsClosed => "Closed doors",
            Rule::LooksTold => "Looking as somebody is told",
            Rule::LinksPassword => "Links need a password",
            Rule::LinksDays => "Longest life of a link",
            Rule::LinksMadeBy => "Who may make links",
            Rule::IntakesDays => "Longest life of an intake",
            Rule::IntakesMadeBy => "Who may make intakes",
            Rule::KeptInside => "Nothing leaves the house",
            Rule::SyncClosed => "No copies kept on computers",
            other => kept::title(other),
        }
    }

    /// What holds where nothing is set.
    pub fn default_value(self) -> Value {
        match self {
            Rule::PasswordLength => Value::Number(Some(10)),
            Rule::PasswordStrength => Value::Number(Some(3)),
            Rule::SecondFactor => Value::Day(None),
            Rule::PeopleSeen => Value::Choice("everyone"),
            Rule::GuestsInvited => Value::Switch(true),
            Rule::GuestsIdle => Value::Number(Some(90)),
            Rule::SignUpDomains | Rule::DoorsClosed => Value::Words(BTreeSet::new()),
            Rule::SignUpApproval | Rule::LooksTold => Value::Switch(true),
            Rule::LinksPassword | Rule::KeptInside | Rule::SyncClosed => Value::Switch(false),
            Rule::LinksDays | Rule::IntakesDays | Rule::BrowsersIdle | Rule::DevicesIdle => {
                Value::Number(None)
            }
            Rule::LinksMadeBy | Rule::IntakesMadeBy => Value::Words(BTreeSet::from([EVERYONE.to_string()])),
            other => kept::default_value(other),
        }
    }

    /// What can be said, in words.
    pub fn wanted(self) -> String {
        match self {
            Rule::PasswordLength => "a number from 8 to 64".into(),
            Rule::PasswordStrength => "a number from 0 (anything) to 4 (very hard to guess)".into(),
            Rule::SecondFactor => "a day such as 2026-12-01, or none".into(),
            Rule::PeopleSeen => "everyone, groups (those one shares a group with), or nobody".into(),
            Rule::GuestsIdle | Rule::DevicesIdle | Rule::LinksDays | Rule::IntakesDays => {
                "a number of days from 1 to 3650, or none".into()
            }
            Rule::BrowsersIdle => "a number of hours from 1 to 720, or none".into(),
            Rule::LinksMadeBy | Rule::IntakesMadeBy => {
                "everyone (every member), nobody, or names of groups with commas between them".into()
            }
            Rule::SignUpDomains => "domains such as museum.example, with commas between them, or none".into(),
            Rule::DoorsClosed => {
                let words: Vec<_> = Door::ALL.iter().map(|d| d.word()).collect();
                format!("some of {}, with commas between them, or none", words.join(", "))
            }
            Rule::GuestsInvited
            | Rule::SignUpApproval
            | Rule::LooksTold
            | Rule::LinksPassword
            | Rule::SyncClosed
            | Rule::KeptInside => "on or off".into(),
            other => kept::wanted(other),
        }
    }

    /// The words to choose from, where there is a choice.
    pub fn choices(self) -> Vec<&'static str> {
        match self {
            Rule::PeopleSeen => vec!["everyone", "groups", "nobody"],
            Rule::DoorsClosed => Door::ALL.iter().map(|d| d.word()).collect(),
            Rule::GuestsInvited
            | Rule::SignUpApproval
            | Rule::LooksTold
            | Rule::LinksPassword
            | Rule::SyncClosed
            | Rule::KeptInside => vec!["on", "off"],
            other => kept::choices(other),
        }
    }

    /// Whether a group can have a value of its own.
    pub fn for_groups(self) -> bool {
        !matches!(
            self,
            Rule::SignUpDomains
                | Rule::SignUpApproval
                | Rule::GuestsIdle
                | Rule::LinksMadeBy
                | Rule::IntakesMadeBy
                | Rule::KeptInside
        ) && !self.is_kept()
    }

    /// Whether a shelf can have a value of its own.
    pub fn for_shelves(self) -> bool {
        matches!(
            self,
            Rule::GuestsInvited
                | Rule::SyncClosed
                | Rule::LinksPassword
                | Rule::LinksDays
                | Rule::IntakesDays
                | Rule::KeptInside
        ) || kept::for_shelves(self)
    }

    /// Whether it is about what strangers reach by an address.
    pub fn for_strangers(self) -> bool {
        matches!(
            self,
            Rule::LinksPassword
                | Rule::LinksDays
                | Rule::LinksMadeBy
                | Rule::IntakesDays
                | Rule::IntakesMadeBy
                | Rule::KeptInside
        )
    }

    /// Reads a value.
    pub fn read(self, text: &str) -> Result<Value, RuleError> {
        let text = text.trim();
        if self.is_kept() {
            return kept::read(self, text);
        }
        let none = text == "none" || text.is_empty();
        let malformed =
            || RuleError::Malformed { rule: self.word(), value: text.to_string(), wanted: self.wanted() };
        let number = |least: u32, most: u32| {
            text.parse::<u32>().ok().filter(|n| (least..=most).contains(n)).ok_or_else(malformed)
        };
        match self {
            Rule::PasswordLength => Ok(Value::Number(Some(number(8, 64)?))),
            Rule::PasswordStrength => Ok(Value::Number(Some(number(0, 4)?))),
            Rule::GuestsIdle
            | Rule::LinksDays
            | Rule::IntakesDays
            | Rule::BrowsersIdle
            | Rule::DevicesIdle
                if none =>
            {
                Ok(Value::Number(None))
            }
            Rule::BrowsersIdle => Ok(Value::Number(Some(number(1, 720)?))),
            Rule::GuestsIdle | Rule::DevicesIdle | Rule::LinksDays | Rule::IntakesDays => {
                Ok(Value::Number(Some(number(1, 3650)?)))
            }
            Rule::SecondFactor if none => Ok(Value::Day(None)),
            Rule::SecondFactor => text.parse().map(|d| Value::Day(Some(d))).map_err(|_| malformed()),
            Rule::PeopleSeen => {
                let found = self.choices().into_iter().find(|c| *c == text);
                found.map(Value::Choice).ok_or_else(malformed)
            }
            Rule::GuestsInvited
            | Rule::SignUpApproval
            | Rule::LooksTold
            | Rule::LinksPassword
            | Rule::SyncClosed
            | Rule::KeptInside => match text {
                "on" => Ok(Value::Switch(true)),
                "off" => Ok(Value::Switch(false)),
                _ => Err(malformed()),
            },
            Rule::LinksMadeBy | Rule::IntakesMadeBy => {
                // Names of groups, as they are written.
                let words: BTreeSet<String> = text.split(',').map(|w| w.trim().to_string()).collect();
                let alone = [EVERYONE, NOBODY].iter().any(|w| words.contains(*w)) && words.len() > 1;
                if alone || words.iter().any(|w| w.is_empty() || w.chars().any(char::is_control)) {
                    return Err(malformed());
                }
                Ok(Value::Words(if words.contains(NOBODY) { BTreeSet::new() } else { words }))
            }
            Rule::SignUpDomains | Rule::DoorsClosed => {
                let words: BTreeSet<String> = match none {
                    true => BTreeSet::new(),
                    false => text.split(',').map(|w| w.trim().to_lowercase()).collect(),
                };
                let good = |word: &String| match self {
                    Rule::DoorsClosed => Door::from_word(word).is_some(),
                    _ => {
                        word.contains('.')
                            && !word.starts_with('.')
                            && !word.ends_with('.')
                            && word.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '.')
                    }
                };
                if words.iter().all(good) { Ok(Value::Words(words)) } else { Err(malformed()) }
            }
            _ => Err(malformed()),
        }
    }

    /// The tighter of two values; of doors, all that one of them closes.
    pub fn tighter(self, a: &Value, b: &Value) -> Value {
        if self.is_kept() {
            return kept::tighter(self, a, b);
        }
        match (a, b) {
            (Value::Switch(a), Value::Switch(b)) => Value::Switch(match self {
                Rule::GuestsInvited => *a && *b,
                _ => *a || *b,
            }),
            (Value::Number(a), Value::Number(b)) => Value::Number(match (a, b) {
                (None, other) | (other, None) => *other,
                (Some(a), Some(b))
                    if matches!(
                        self,
                        Rule::GuestsIdle
                            | Rule::LinksDays
                            | Rule::IntakesDays
                            | Rule::BrowsersIdle
                            | Rule::DevicesIdle
                    ) =>
                {
                    Some(*a.min(b))
                }
                (Some(a), Some(b)) => Some(*a.max(b)),
            }),
            (Value::Day(a), Value::Day(b)) => Value::Day(match (a, b) {
                (None, other) | (other, None) => *other,
                (Some(a), Some(b)) => Some(*a.min(b)),
            }),
            (Value::Choice(a), Value::Choice(b)) => {
                let choices = self.choices();
                let place = |word| choices.iter().position(|c| *c == word).unwrap_or(0);
                Value::Choice(choices[place(*a).max(place(*b))])
            }
            (Value::Words(a), Value::Words(b)) if self == Rule::DoorsClosed => {
                Value::Words(a.union(b).cloned().collect())
            }
            (Value::Words(a), Value::Words(b)) if self.by_groups() => {
                Value::Words(match (a.contains(EVERYONE), b.contains(EVERYONE)) {
                    (true, _) => b.clone(),
                    (_, true) => a.clone(),
                    _ => a.intersection(b).cloned().collect(),
                })
            }
            (Value::Words(a), Value::Words(b)) => Value::Words(a.intersection(b).cloned().collect()),
            (a, _) => a.clone(),
        }
    }

    /// Whether its words are names of groups.
    pub fn by_groups(self) -> bool {
        matches!(self, Rule::LinksMadeBy | Rule::IntakesMadeBy)
    }

    /// How a value is written.
    pub fn word_of(self, value: &Value) -> String {
        match value {
            Value::Words(words) if words.is_empty() && self.by_groups() => NOBODY.into(),
            value => kept::word_of(value).unwrap_or_else(|| word(value)),
        }
    }

    /// What a value does, in one plain sentence.
    pub fn sentence(self, value: &Value) -> String {
        if let Some(sentence) = kept::sentence(self, value) {
            return sentence;
        }
        match (self, value) {
            (Rule::PasswordLength, Value::Number(Some(n))) => {
                format!("A password has at least {n} characters.")
            }
            (Rule::PasswordStrength, Value::Number(Some(n))) => match n {
                0 => "A password may be as easy to guess as one likes.".into(),
                1 => "A password may not be among the very first guesses.".into(),
                2 => "A password must resist somebody who guesses at the sign-in page.".into(),
                3 => "A password must resist somebody who guesses fast, for hours.".into(),
                _ => "A password must resist somebody who guesses very fast, for years.".into(),
            },
            (Rule::SecondFactor, Value::Day(None)) => "A second factor is everybody's own choice.".into(),
            (Rule::SecondFactor, Value::Day(Some(day))) => {
                format!("From {day} on nobody gets further than setting up a second factor without one.")
            }
            (Rule::PeopleSeen, Value::Choice(word)) => match *word {
                "everyone" => "Members see all people and groups when they give something.".into(),
                "groups" => "Members see those with whom they share a group, and these groups.".into(),
                _ => "Members see nobody; they give by a sign-in name or mail address that they know.".into(),
            },
            (Rule::GuestsInvited, Value::Switch(true)) => {
                "Whoever manages a folder may invite a guest to it by mail address.".into()
            }
            (Rule::GuestsInvited, _) => "Nobody may invite guests.".into(),
            (Rule::GuestsIdle, Value::Number(Some(days))) => {
                format!("A guest who has not signed in for {days} days is disabled.")
            }
            (Rule::GuestsIdle, _) => "Guests are never disabled for being away.".into(),
            (Rule::BrowsersIdle, Value::Number(Some(1))) => {
                "A browser that was left alone for an hour is signed out.".into()
            }
            (Rule::BrowsersIdle, Value::Number(Some(hours))) => {
                format!("A browser that was left alone for {hours} hours is signed out.")
            }
            (Rule::BrowsersIdle, _) => {
                "A browser stays signed in for 30 days, however long it is left alone.".into()
            }
            (Rule::DevicesIdle, Value::Number(Some(days))) => {
                format!("A computer that was away for more than {days} days is connected again by hand.")
            }
            (Rule::DevicesIdle, _) => "A computer stays connected, however long it is away.".into(),
            (Rule::SignUpDomains, Value::Words(words)) if words.is_empty() => {
                "Nobody can sign up; administrators make accounts.".into()
            }
            (Rule::SignUpDomains, value) => {
                format!("Whoever has a mail address at {} may sign up.", word(value))
            }
            (Rule::SignUpApproval, Value::Switch(true)) => {
                "Whoever signs up waits until an administrator enables the account.".into()
            }
            (Rule::SignUpApproval, _) => "Whoever signs up can work at once.".into(),
            (Rule::DoorsClosed, Value::Words(words)) => doors(words),
            (Rule::LooksTold, Value::Switch(true)) => {
                "Whoever an administrator looks as is told of it.".into()
            }
            (Rule::LooksTold, _) => "Nobody is told that an administrator looked as them.".into(),
            (Rule::LinksPassword, Value::Switch(true)) => {
                "A link without a password does not open; a new one must have one.".into()
            }
            (Rule::LinksPassword, _) => "A link may do without a password.".into(),
            (Rule::LinksDays, Value::Number(Some(n))) => {
                format!("A link ends {n} days after it was made, at the latest.")
            }
            (Rule::LinksDays, _) => "A link may live for as long as its maker likes.".into(),
            (Rule::IntakesDays, Value::Number(Some(n))) => {
                format!("An intake ends {n} days after it was made, at the latest.")
            }
            (Rule::IntakesDays, _) => "An intake may live for as long as its maker likes.".into(),
            (Rule::LinksMadeBy | Rule::IntakesMadeBy, Value::Words(words)) => {
                let what = if self == Rule::LinksMadeBy { "links" } else { "intakes" };
                if words.is_empty() {
                    format!("Nobody may make {what}, and none opens.")
                } else if words.contains(EVERYONE) {
                    format!("Every member may make {what} for what they manage.")
                } else {
                    let names: Vec<_> = words.iter().map(String::as_str).collect();
                    format!(
                        "Only these groups may make {what}: {}. Those of others do not open.",
                        names.join(", ")
                    )
                }
            }
            (Rule::SyncClosed, Value::Switch(true)) => {
                "Folders of it are not kept the same on computers: what lies there already stays there, and is carried no more."
                    .into()
            }
            (Rule::SyncClosed, _) => "Folders of it may be kept the same on computers.".into(),
            (Rule::KeptInside, Value::Switch(true)) => {
                "Nothing of it is given out by a link, and no guest is invited to it.".into()
            }
            (Rule::KeptInside, _) => "What is on it may be given out, if its maker manages it.".into(),
            (rule, value) => format!("{}: {}.", rule.title(), rule.word_of(value)),
        }
    }
}

/// How a value is written, where it is not names of groups (see [`Rule::word_of`]).
pub fn word(value: &Value) -> String {
    match value {
        Value::Switch(true) => "on".into(),
        Value::Switch(false) => "off".into(),
        Value::Number(Some(n)) => n.to_string(),
        Value::Day(Some(day)) => day.to_string(),
        Value::Number(None) | Value::Day(None) => "none".into(),
        Value::Choice(word) => (*word).to_string(),
        Value::Words(words) if words.is_empty() => "none".into(),
        Value::Words(words) => words.iter().cloned().collect::<Vec<_>>().join(", "),
        other => kept::word_of(other).unwrap_or_default(),
    }
}

/// Which doors are closed, in one sentence.
fn doors(words: &BTreeSet<String>) -> String {
    let ways: Vec<_> = words.iter().filter_map(|w| Door::from_word(w)).map(Door::what).collect();
    match ways.is_empty() {
        true => "All doors are open.".into(),
        false => format!("Closed: {}.", ways.join(", and ")),
    }
}
