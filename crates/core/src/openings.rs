//! Openings: addresses that open something to anybody who has them. A *link* gives out a file or
//! folder, an *intake* takes files in. Whether one acts is a function of its terms, the time, how
//! often it was used, and the present state of its maker, target and rules.

use std::collections::BTreeSet;

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

// --- what an intake takes ---

/// Families of files, each with the endings of their names and what their bytes begin like (media
/// types as `infer` names them; empty: bytes that tell nothing).
type Family = (&'static str, &'static [(&'static str, &'static [&'static str])]);
const ZIPPED: &[&str] = &["application/zip"];
const OLE: &[&str] = &[
    "application/x-ole-storage",
    "application/msword",
    "application/vnd.ms-excel",
    "application/vnd.ms-powerpoint",
];
const FAMILIES: [Family; 5] = [
    (
        "pictures",
        &[
            ("png", &["image/png"]),
            ("jpg", &["image/jpeg"]),
            ("jpeg", &["image/jpeg"]),
            ("gif", &["image/gif"]),
            ("webp", &["image/webp"]),
            ("bmp", &["image/bmp"]),
            ("tif", &["image/tiff"]),
            ("tiff", &["image/tiff"]),
            ("heic", &["image/heif", "image/heic"]),
        ],
    ),
    (
        "documents",
        &[
            ("pdf", &["application/pdf"]),
            ("txt", &[]),
            ("md", &[]),
            ("csv", &[]),
            ("rtf", &["text/rtf", "application/rtf"]),
            ("doc", OLE),
            ("xls", OLE),
            ("ppt", OLE),
            (
                "docx",
                &[
                    "application/zip",
                    "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
                ],
            ),
            (
                "xlsx",
                &["application/zip", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"],
            ),
            (
                "pptx",
                &[
                    "application/zip",
                    "application/vnd.openxmlformats-officedocument.presentationml.presentation",
                ],
            ),
            ("odt", &["application/zip", "application/vnd.oasis.opendocument.text"]),
            ("ods", &["application/zip", "application/vnd.oasis.opendocument.spreadsheet"]),
            ("odp", &["application/zip", "application/vnd.oasis.opendocument.presentation"]),
        ],
    ),
    (
        "sound",
        &[
            ("mp3", &["audio/mpeg"]),
            ("wav", &["audio/x-wav"]),
            ("ogg", &["audio/ogg", "application/ogg"]),
            ("flac", &["audio/x-flac"]),
            ("m4a", &["audio/m4a", "video/mp4"]),
        ],
    ),
    (
        "video",
        &[
            ("mp4", &["video/mp4", "video/x-m4v"]),
            ("webm", &["video/webm", "video/x-matroska"]),
            ("mov", &["video/quicktime"]),
            ("mkv", &["video/x-matroska"]),
            ("avi", &["video/x-msvideo"]),
        ],
    ),
    (
        "archives",
        &[
            ("zip", ZIPPED),
            ("7z", &["application/x-7z-compressed"]),
            ("tar", &["application/x-tar"]),
            ("gz", &["application/gzip"]),
        ],
    ),
];

/// Which files an intake takes: families, and endings of names; nothing set takes everything.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Kinds(BTreeSet<String>);

/// Why a file is not taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum KindError {
    /// Another kind.
    #[error("\"{name}\" is of a kind that is not taken here; taken are {taken}")]
    Other {
        /// The file's name.
        name: String,
        /// What is taken.
        taken: String,
    },
    /// Its bytes are not what its name says.
    #[error("\"{name}\" is not what its name says")]
    Lies {
        /// The file's name.
        name: String,
    },
    /// No kind at all.
    #[error("\"{0}\" is no kind of files")]
    Unknown(String),
}

/// How many first bytes [`Kinds::check_bytes`] wants to see.
pub const HEAD: usize = 8192;

impl Kinds {
    /// Reads `pictures, .pdf`; nothing, or `anything`, takes everything.
    pub fn read(text: &str) -> Result<Kinds, KindError> {
        let words = text.split([',', ' ']).map(|w| w.trim().to_lowercase()).filter(|w| !w.is_empty());
        let mut found = BTreeSet::new();
        for word in words.filter(|w| w != "anything") {
            let ending = word.strip_prefix('.').unwrap_or(&word);
            let family = FAMILIES.iter().any(|(name, _)| *name == word);
            let plain = ending.len() <= 10 && ending.chars().all(|c| c.is_ascii_alphanumeric());
            if family {
                found.insert(word);
            } else if plain && !ending.is_empty() && word.starts_with('.') {
                found.insert(format!(".{ending}"));
            } else {
                return Err(KindError::Unknown(word));
            }
        }
        Ok(Kinds(found))
    }

    /// How it is written; empty takes everything.
    pub fn word(&self) -> String {
        self.0.iter().cloned().collect::<Vec<_>>().join(", ")
    }

    /// Whether everything is taken.
    pub fn anything(&self) -> bool {
        self.0.is_empty()
    }

    /// The endings of names that are taken, for a browser's file dialog.
    pub fn endings(&self) -> Vec<String> {
        let mut all = Vec::new();
        for word in &self.0 {
            match FAMILIES.iter().find(|(name, _)| name == word) {
                Some((_, kinds)) => all.extend(kinds.iter().map(|(ending, _)| format!(".{ending}"))),
                None => all.push(word.clone()),
            }
        }
        all
    }

    /// Refuses a name of another kind.
    pub fn check_name(&self, name: &str) -> Result<(), KindError> {
        let ending = ending_of(name);
        if self.anything() || self.endings().iter().any(|e| e[1..] == ending) {
            return Ok(());
        }
        Err(KindError::Other { name: name.into(), taken: self.word() })
    }

    /// Refuses bytes that are not what the name says. `head`: the first [`HEAD`] bytes, or all.
    pub fn check_bytes(&self, name: &str, head: &[u8]) -> Result<(), KindError> {
        self.check_name(name)?;
        if self.anything() {
            return Ok(());
        }
        let ending = ending_of(name);
        let known = FAMILIES.iter().flat_map(|(_, kinds)| *kinds).find(|(e, _)| *e == ending);
        let looks = infer::get(head).map(|t| t.mime_type());
        let right = match known {
            // Endings that nobody has described here are taken at their word.
            None => true,
            // Plain text begins like anything, but not like a program, a picture or a page.
            Some((_, [])) => {
                looks.is_none_or(|l| l.starts_with("text/") && l != "text/html") && !head.contains(&0)
            }
            Some((_, likes)) => looks.is_some_and(|l| likes.contains(&l)),
        };
        if right { Ok(()) } else { Err(KindError::Lies { name: name.into() }) }
    }
}

fn ending_of(name: &str) -> String {
    name.rsplit_once('.').map_or(String::new(), |(_, e)| e.to_ascii_lowercase())
}

/// The longest name of a sender that is kept, in characters.
const LONGEST_SENDER: usize = 80;

/// The name of the folder for a sender's delivery: theirs, without what a name cannot hold.
pub fn sender_folder(sender: &str) -> String {
    use unicode_normalization::UnicodeNormalization;
    let plain: String = sender
        .nfc()
        .map(|c| if c == '/' || c == '\\' || c.is_control() || is_invisible(c) { ' ' } else { c })
        .collect();
    let words: Vec<&str> = plain.split_whitespace().collect();
    let short: String = words.join(" ").chars().take(LONGEST_SENDER).collect();
    // Cut at characters, it can still be too long in bytes.
    let mut name = short.trim_matches(|c: char| c == '.' || c.is_whitespace()).to_string();
    while name.len() > 200 {
        name.pop();
    }
    if name.is_empty() { "Without a name".into() } else { name }
}

/// Characters that turn or hide text.
fn is_invisible(c: char) -> bool {
    matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
}

/// The `n`th of things that have the same name: `map.png`, `map (2).png`, …
pub fn numbered(name: &str, n: u32, folder: bool) -> String {
    if n < 2 {
        return name.to_string();
    }
    let (stem, ending) = match name.rsplit_once('.') {
        Some((stem, ending)) if !folder && !stem.is_empty() && ending.len() <= 10 => {
            (stem, format!(".{ending}"))
        }
        _ => (name, String::new()),
    };
    let tail = format!(" ({n}){ending}");
    let mut stem = stem.to_string();
    while stem.len() + tail.len() > crate::name::MAX_NAME_BYTES {
        stem.pop();
    }
    format!("{stem}{tail}")
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
        fn every_sender_and_number_gives_a_name_that_can_be(sender in ".{0,200}", n in 1u32..3000, folder: bool) {
            let name = sender_folder(&sender);
            prop_assert!(crate::Name::new(&name).is_ok(), "{:?}", name);
            prop_assert!(crate::Name::new(&numbered(&name, n, folder)).is_ok());
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

    #[test]
    fn kinds_are_checked_by_name_and_by_bytes() {
        let kinds = Kinds::read("Pictures, .pdf").unwrap();
        assert_eq!(kinds.word(), ".pdf, pictures");
        let png = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR";
        assert_eq!(kinds.check_bytes("a.PNG", png), Ok(()));
        assert_eq!(kinds.check_bytes("a.pdf", b"%PDF-1.7 "), Ok(()));
        assert!(matches!(kinds.check_bytes("a.pdf", png), Err(KindError::Lies { .. })));
        assert!(matches!(
            kinds.check_bytes("a.png", b"<!doctype html><script>"),
            Err(KindError::Lies { .. })
        ));
        assert!(matches!(kinds.check_name("a.exe"), Err(KindError::Other { .. })));
        assert!(matches!(kinds.check_name("png"), Err(KindError::Other { .. })));
        let text = Kinds::read("documents").unwrap();
        assert_eq!(text.check_bytes("a.txt", b"plain words"), Ok(()));
        assert!(text.check_bytes("a.txt", b"\x7fELF\x02\x01\x01\0").is_err());
        assert!(text.check_bytes("a.csv", b"<html><script>").is_err());
        assert_eq!(Kinds::read("anything").unwrap().check_bytes("a.exe", b"MZ"), Ok(()));
        assert!(matches!(Kinds::read("pictures, nonsense"), Err(KindError::Unknown(w)) if w == "nonsense"));
        assert!(Kinds::read(".a/b").is_err());
    }

    #[test]
    fn senders_that_are_paths_become_plain_folders() {
        assert_eq!(sender_folder("../../etc/passwd"), "etc passwd");
        assert_eq!(sender_folder(" Elm  School\n"), "Elm School");
        assert_eq!(sender_folder("..."), "Without a name");
        assert_eq!(sender_folder("a\u{202e}gnp.exe"), "a gnp.exe");
        assert_eq!(numbered("map.png", 2, false), "map (2).png");
        assert_eq!(numbered("map.png", 1, false), "map.png");
        assert_eq!(numbered("St. Elm", 3, true), "St. Elm (3)");
        assert_eq!(numbered(".profile", 2, false), ".profile (2)");
    }
}
