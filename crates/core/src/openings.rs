//! Openings: addresses that open something to anybody who has them. A *link* gives out a file or
//! folder, an *intake* takes files in. Whether one acts is a function of its terms, the time, how
//! often it was used, and the present state of its maker, target and rules.

const DAY_MS: i64 = 86_400_000;

/// What an opening is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Gives out a file or folder.
    Link,
    /// Takes files in.
    Intake,
}

impl Kind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Link => "link",
            Kind::Intake => "intake",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Kind> {
        [Kind::Link, Kind::Intake].into_iter().find(|k| k.word() == word)
    }
}

/// What a link lets a stranger do, each with all before it; below `Download` bytes are only shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Can {
    /// Look at it. No protection against copying: what is shown can be kept.
    View,
    /// Download it.
    Download,
    /// Add files and folders; for folders.
    Add,
    /// Replace, rename and remove what is in it; for folders.
    Edit,
}

impl Can {
    /// All of them.
    pub const ALL: [Can; 4] = [Can::View, Can::Download, Can::Add, Can::Edit];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Can::View => "view",
            Can::Download => "download",
            Can::Add => "add",
            Can::Edit => "edit",
        }
    }

    /// Reads the word.
    pub fn from_word(word: &str) -> Option<Can> {
        Can::ALL.into_iter().find(|c| c.word() == word)
    }

    /// The level of the maker that it lets through.
    pub fn level(self) -> crate::rights::Level {
        match self {
            Can::View | Can::Download => crate::rights::Level::View,
            Can::Add => crate::rights::Level::Add,
            Can::Edit => crate::rights::Level::Edit,
        }
    }
}

/// What was laid down when an opening was made or changed. Times are milliseconds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Terms {
    /// Link or intake.
    pub kind: Kind,
    /// Whether a password is asked for.
    pub password: bool,
    /// When it was made.
    pub made_at: i64,
    /// Before this it does not open.
    pub begins_at: Option<i64>,
    /// From this on it does not open any more.
    pub ends_at: Option<i64>,
    /// How many downloads or deliveries.
    pub most: Option<u32>,
    /// Its maker has paused it.
    pub paused: bool,
    /// Its target was removed and brought back: its maker has to confirm it.
    pub asleep: bool,
    /// Somebody has ended it.
    pub ended: bool,
}

/// How things stand with the maker.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Maker {
    /// Manages the target.
    Manages,
    /// May no longer give it out.
    LostIt,
    /// The account is disabled or gone.
    Disabled,
    /// The door for links or intakes is closed to the account.
    DoorClosed,
}

/// What decides besides the terms.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Facts {
    /// The time.
    pub now: i64,
    /// Downloads or deliveries so far, those under way included.
    pub used: u32,
    /// Whether the target is there.
    pub target: bool,
    /// How things stand with the maker.
    pub maker: Maker,
    /// Whether a rule lets the maker have such openings.
    pub makers: bool,
    /// Whether a rule keeps what is on that shelf inside.
    pub kept_inside: bool,
    /// Whether a rule demands a password.
    pub password: bool,
    /// The most days that it may live, by a rule.
    pub days: Option<u32>,
}

/// It acts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Open {
    /// Until when; none for ever.
    pub until: Option<i64>,
    /// How many downloads or deliveries are left; none if they are not counted.
    pub left: Option<u32>,
}

/// Why it does not act.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shut {
    /// Somebody has ended it.
    Ended,
    /// Its target was removed.
    Removed,
    /// The maker's account is disabled or gone.
    MakerDisabled,
    /// The maker may no longer give it out.
    MakerLostIt,
    /// The door is closed to the maker.
    DoorClosed,
    /// A rule lets only others have such openings.
    NotByMaker,
    /// A rule keeps what is on the shelf inside.
    KeptInside,
    /// A rule demands a password, and it has none.
    NeedsPassword,
    /// Its target was brought back, and its maker has not confirmed it.
    Asleep,
    /// Its time is over, since then.
    Over(i64),
    /// Its maker has paused it.
    Paused,
    /// It opens then.
    NotYet(i64),
    /// All downloads or deliveries are used.
    UsedUp,
}

/// What a stranger is told of a shut opening.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Told {
    /// The same as of an address that never was.
    Nothing,
    /// It opens then.
    NotYet(i64),
    /// Its time is over, since then.
    Over(i64),
    /// It is closed for now.
    Paused,
    /// It was used as often as it may be.
    UsedUp,
}

/// The words by which openings are listed: open, shut (whatever for), or one reason.
pub const STATES: [&str; 13] = [
    "open",
    "shut",
    "ended",
    "target removed",
    "maker disabled",
    "maker lost the right",
    "door closed",
    "against a rule",
    "asleep",
    "over",
    "paused",
    "not yet",
    "used up",
];

impl Shut {
    /// A stable word for programs.
    pub fn word(self) -> &'static str {
        match self {
            Shut::Ended => "ended",
            Shut::Removed => "target removed",
            Shut::MakerDisabled => "maker disabled",
            Shut::MakerLostIt => "maker lost the right",
            Shut::DoorClosed => "door closed",
            Shut::NotByMaker | Shut::KeptInside | Shut::NeedsPassword => "against a rule",
            Shut::Asleep => "asleep",
            Shut::Over(_) => "over",
            Shut::Paused => "paused",
            Shut::NotYet(_) => "not yet",
            Shut::UsedUp => "used up",
        }
    }

    /// Why, and what to do about it, to whoever manages it.
    pub fn sentence(self, kind: Kind) -> String {
        let what = kind.word();
        match self {
            Shut::Ended => format!("This {what} was ended. It can be opened again for ninety days."),
            Shut::Removed => "Its file or folder was removed. Bring that back, then confirm it here.".into(),
            Shut::MakerDisabled => {
                "The account that made it is disabled. Make another one in its place.".into()
            }
            Shut::MakerLostIt => {
                "Its maker no longer manages the file or folder. Give the right back, or make another one."
                    .into()
            }
            Shut::DoorClosed => format!(
                "The door \"{}\" is closed to its maker. An administrator can open it.",
                match kind {
                    Kind::Link => "links",
                    Kind::Intake => "intake",
                }
            ),
            Shut::NotByMaker => format!("A rule says who may make {what}s, and its maker is not among them."),
            Shut::KeptInside => "A rule keeps what is on this shelf inside the house.".into(),
            Shut::NeedsPassword => {
                "A rule demands a password, and it has none. Set one, and it opens.".into()
            }
            Shut::Asleep => {
                "Its file or folder was removed and brought back. Confirm it, and it opens.".into()
            }
            Shut::Over(_) => "Its time is over. Set a later end, and it opens.".into(),
            Shut::Paused => "It is paused. Go on with it, and it opens.".into(),
            Shut::NotYet(_) => "It has not begun yet.".into(),
            Shut::UsedUp => "It was used as often as it may be. Allow more, and it opens.".into(),
        }
    }

    /// What a stranger is told: no more than what its maker laid down for them.
    pub fn told(self) -> Told {
        match self {
            Shut::NotYet(at) => Told::NotYet(at),
            Shut::Over(at) => Told::Over(at),
            Shut::Paused => Told::Paused,
            Shut::UsedUp => Told::UsedUp,
            _ => Told::Nothing,
        }
    }
}

/// Until when it acts at most: its own end, or that of a rule if it comes before.
pub fn until(terms: &Terms, days: Option<u32>) -> Option<i64> {
    let longest = days.map(|d| terms.made_at.saturating_add(i64::from(d) * DAY_MS));
    match (terms.ends_at, longest) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

/// Whether it acts. Of several reasons against it the one that lasts longest is told; that it is
/// used up comes last, so that a download that has its slip already can go on.
pub fn decide(terms: &Terms, facts: &Facts) -> Result<Open, Shut> {
    let until = until(terms, facts.days);
    let against = [
        (terms.ended, Shut::Ended),
        (!facts.target, Shut::Removed),
        (facts.maker == Maker::Disabled, Shut::MakerDisabled),
        (facts.maker == Maker::LostIt, Shut::MakerLostIt),
        (facts.maker == Maker::DoorClosed, Shut::DoorClosed),
        (!facts.makers, Shut::NotByMaker),
        (facts.kept_inside && terms.kind == Kind::Link, Shut::KeptInside),
        (facts.password && !terms.password, Shut::NeedsPassword),
        (terms.asleep, Shut::Asleep),
    ];
    if let Some((_, why)) = against.iter().find(|(holds, _)| *holds) {
        return Err(*why);
    }
    if let Some(end) = until.filter(|end| *end <= facts.now) {
        return Err(Shut::Over(end));
    }
    if terms.paused {
        return Err(Shut::Paused);
    }
    if let Some(begin) = terms.begins_at.filter(|begin| facts.now < *begin) {
        return Err(Shut::NotYet(begin));
    }
    match terms.most {
        Some(most) if facts.used >= most => Err(Shut::UsedUp),
        most => Ok(Open { until, left: most.map(|most| most - facts.used) }),
    }
}

/// What an opening breaks of the rules, whether it acts or not: for looking at a stricter rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Breaks {
    /// It lives longer than allowed; it can be shortened to end then.
    Days(i64),
    /// It has no password.
    Password,
    /// Its maker may have none.
    Maker,
    /// What is on the shelf stays inside.
    Inside,
}

impl Breaks {
    /// What is broken, in a few words.
    pub fn sentence(self) -> &'static str {
        match self {
            Breaks::Days(_) => "lives longer than allowed",
            Breaks::Password => "has no password",
            Breaks::Maker => "was made by somebody who may make none",
            Breaks::Inside => "gives out what stays inside",
        }
    }
}

/// Which rule it breaks, if one; of several the one that cannot be mended by shortening.
pub fn breaks(terms: &Terms, facts: &Facts) -> Option<Breaks> {
    if terms.ended {
        return None;
    }
    if !facts.makers {
        return Some(Breaks::Maker);
    }
    if facts.kept_inside && terms.kind == Kind::Link {
        return Some(Breaks::Inside);
    }
    if facts.password && !terms.password {
        return Some(Breaks::Password);
    }
    let longest = terms.made_at.saturating_add(i64::from(facts.days?) * DAY_MS);
    terms.ends_at.is_none_or(|end| end > longest).then_some(Breaks::Days(longest))
}

// --- endings of addresses ---

const LETTERS: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
/// How many random bytes an ending is made of.
pub const ENDING_BYTES: usize = 17;
/// The shortest and longest ending of one's own.
pub const OWN_ENDING: std::ops::RangeInclusive<usize> = 3..=64;
/// Endings that would be taken for something else.
const RESERVED: [&str; 12] = [
    "admin",
    "administrator",
    "api",
    "assets",
    "help",
    "index",
    "login",
    "new",
    "null",
    "robots",
    "sign-in",
    "undefined",
];

/// An ending of 26 characters, 130 bits, from random bytes; without characters that look alike.
pub fn ending_from(random: &[u8; ENDING_BYTES]) -> String {
    (0..26)
        .map(|i| {
            let (bit, mut value) = (i * 5, 0u8);
            for b in bit..bit + 5 {
                value = value << 1 | (random[b / 8] >> (7 - b % 8) & 1);
            }
            LETTERS[usize::from(value)] as char
        })
        .collect()
}

/// Why an ending of one's own cannot be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EndingError {
    /// Shorter or longer than allowed.
    #[error("the ending has {0} characters; it needs 3 to 64")]
    Length(usize),
    /// Other characters than allowed.
    #[error("the ending holds \"{0}\"; small letters a to z, digits and hyphens between them can be")]
    Character(char),
    /// Taken for something else.
    #[error("the ending \"{0}\" is reserved")]
    Reserved(String),
}

/// Looks at an ending of one's own. It can be guessed, whatever it is.
pub fn check_ending(text: &str) -> Result<(), EndingError> {
    let bad = text.char_indices().find(|(at, c)| match c {
        'a'..='z' | '0'..='9' => false,
        '-' => *at == 0 || *at + 1 == text.len() || text[..*at].ends_with('-'),
        _ => true,
    });
    if let Some((_, c)) = bad {
        return Err(EndingError::Character(c));
    }
    if !OWN_ENDING.contains(&text.len()) {
        return Err(EndingError::Length(text.len()));
    }
    match RESERVED.contains(&text) {
        true => Err(EndingError::Reserved(text.into())),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn terms() -> Terms {
        Terms {
            kind: Kind::Link,
            password: false,
            made_at: 0,
            begins_at: None,
            ends_at: None,
            most: None,
            paused: false,
            asleep: false,
            ended: false,
        }
    }

    fn facts() -> Facts {
        Facts {
            now: 1,
            used: 0,
            target: true,
            maker: Maker::Manages,
            makers: true,
            kept_inside: false,
            password: false,
            days: None,
        }
    }

    prop_compose! {
        fn any_terms()(intake: bool, password: bool, made_at in 0i64..5, begins in proptest::option::of(0i64..30),
            ends in proptest::option::of(0i64..30), most in proptest::option::of(0u32..4), paused: bool, asleep: bool,
            ended: bool) -> Terms {
            let kind = if intake { Kind::Intake } else { Kind::Link };
            let day = |d: Option<i64>| d.map(|d| d * DAY_MS);
            Terms { kind, password, made_at, begins_at: day(begins), ends_at: day(ends), most, paused, asleep, ended }
        }
    }
    prop_compose! {
        fn any_facts()(now in 0i64..30, used in 0u32..5, target: bool, maker in 0usize..4, makers: bool,
            kept_inside: bool, password: bool, days in proptest::option::of(1u32..30)) -> Facts {
            let maker = [Maker::Manages, Maker::LostIt, Maker::Disabled, Maker::DoorClosed][maker];
            Facts { now: now * DAY_MS, used, target, maker, makers, kept_inside, password, days }
        }
    }

    /// The model: every demand by itself, in the order of the design's words.
    fn acts(t: &Terms, f: &Facts) -> bool {
        let time = t.begins_at.is_none_or(|b| b <= f.now)
            && t.ends_at.is_none_or(|e| f.now < e)
            && f.days.is_none_or(|d| f.now < t.made_at + i64::from(d) * DAY_MS);
        let count = t.most.is_none_or(|m| f.used < m);
        let owner = f.target && f.maker == Maker::Manages && !t.ended && !t.paused && !t.asleep;
        let rules = f.makers && (t.password || !f.password) && !(f.kept_inside && t.kind == Kind::Link);
        time && count && owner && rules
    }

    proptest! {
        #[test]
        fn it_acts_exactly_when_time_count_maker_target_and_rules_agree(t in any_terms(), f in any_facts()) {
            let decided = decide(&t, &f);
            prop_assert_eq!(decided.is_ok(), acts(&t, &f), "{:?} {:?}", t, f);
            if let Ok(open) = decided {
                prop_assert!(open.until.is_none_or(|u| u > f.now));
                prop_assert_eq!(open.left, t.most.map(|m| m - f.used));
                // What acts breaks no rule, but for a life that the rule ends by itself.
                prop_assert!(matches!(breaks(&t, &f), None | Some(Breaks::Days(_))));
            }
        }

        #[test]
        fn a_stranger_learns_nothing_of_maker_target_and_rules(t in any_terms(), f in any_facts()) {
            let sound = f.target && f.maker == Maker::Manages && f.makers && !t.ended && !t.asleep;
            match decide(&t, &f).map_err(Shut::told) {
                Err(Told::Nothing) | Ok(_) => {}
                Err(_) => prop_assert!(sound, "told of {:?} {:?}", t, f),
            }
        }

        #[test]
        fn a_stricter_rule_never_opens(t in any_terms(), f in any_facts()) {
            let strict = Facts { password: true, ..f.clone() };
            if decide(&t, &f).is_err() {
                prop_assert!(decide(&t, &strict).is_err());
            }
        }

        #[test]
        fn what_is_shortened_breaks_no_more(t in any_terms(), f in any_facts()) {
            if let Some(Breaks::Days(end)) = breaks(&t, &f) {
                prop_assert_eq!(breaks(&Terms { ends_at: Some(end), ..t }, &f), None);
            }
        }

        #[test]
        fn every_bit_of_randomness_counts(random: [u8; ENDING_BYTES], bit in 0usize..130) {
            let mut other = random;
            other[bit / 8] ^= 128 >> (bit % 8);
            let (a, b) = (ending_from(&random), ending_from(&other));
            prop_assert_eq!(a.len(), 26);
            prop_assert!(a != b && a.bytes().all(|c| LETTERS.contains(&c)));
        }
    }

    #[test]
    fn a_slip_goes_on_when_all_are_used_and_a_longer_rule_is_told_first() {
        let used = Facts { used: 1, ..facts() };
        let once = Terms { most: Some(1), ..terms() };
        assert_eq!(decide(&once, &used), Err(Shut::UsedUp));
        assert_eq!(decide(&Terms { ended: true, ..once.clone() }, &used), Err(Shut::Ended));
        assert_eq!(decide(&once, &Facts { target: false, ..used }), Err(Shut::Removed));
        let short = Facts { days: Some(7), now: 7 * DAY_MS, ..facts() };
        assert_eq!(decide(&terms(), &short), Err(Shut::Over(7 * DAY_MS)));
        let intake = Terms { kind: Kind::Intake, ..terms() };
        assert!(decide(&intake, &Facts { kept_inside: true, ..facts() }).is_ok());
    }

    #[test]
    fn endings_of_ones_own_are_plain() {
        for good in ["abc", "school-drawings-2026", "7th"] {
            assert_eq!(check_ending(good), Ok(()), "{good}");
        }
        for (bad, why) in [
            ("ab", "characters"),
            ("Abc", "\"A\""),
            ("a b", "\" \""),
            ("-abc", "\"-\""),
            ("abc-", "\"-\""),
            ("a--b", "\"-\""),
            ("åbc", "\"å\""),
            ("a/b", "\"/\""),
            ("api", "reserved"),
            ("", "0 characters"),
            ("a%2fb", "\"%\""),
        ] {
            let said = check_ending(bad).unwrap_err().to_string();
            assert!(said.contains(why), "{bad}: {said}");
        }
        assert!(check_ending(&"a".repeat(65)).is_err());
    }
}
