//! Which names a file or folder can have.
//!
//! UTF-8 in normalisation form C (Unicode Standard Annex 15), at most 255 bytes, none of
//! `/`, NUL and the control characters, and neither `.` nor `..`.

use serde::{Deserialize, Serialize};
use unicode_normalization::{IsNormalized, UnicodeNormalization, is_nfc_quick};

/// The folder in which every folder holds what it was: reserved at every door.
pub const THEN: &str = ".then";

/// The longest name, in bytes of UTF-8: what the usual file systems take.
pub const MAX_NAME_BYTES: usize = 255;

/// A name that can be.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(String);

/// Why a name cannot be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// No character at all.
    #[error("a name cannot be empty")]
    Empty,
    /// `.` or `..`, which mean a folder itself and its parent.
    #[error("\"{0}\" means a place, not a name")]
    Dots(String),
    /// `.then`, in which every folder holds what it was.
    #[error("\"{0}\" is what every folder was, and nothing else can have that name")]
    Then(String),
    /// A slash, which separates names.
    #[error("a name cannot contain \"/\"")]
    Slash,
    /// NUL, a tab, a line break or another control character.
    #[error("a name cannot contain the control character U+{0:04X}")]
    Control(u32),
    /// More than [`MAX_NAME_BYTES`].
    #[error("the name has {0} bytes; the longest has 255")]
    TooLong(usize),
    /// Another spelling of the same characters; `wanted` is the one that is taken.
    #[error("the name is not in Unicode normalisation form C")]
    NotNfc {
        /// The same name as it would be taken.
        wanted: String,
    },
    /// Bytes that are no UTF-8.
    #[error("the name is not UTF-8")]
    NotUtf8,
}

impl NameError {
    /// A stable word for programs.
    pub fn code(&self) -> &'static str {
        match self {
            NameError::Empty => "name_empty",
            NameError::Dots(_) => "name_dots",
            NameError::Then(_) => "name_then",
            NameError::Slash => "name_slash",
            NameError::Control(_) => "name_control_character",
            NameError::TooLong(_) => "name_too_long",
            NameError::NotNfc { .. } => "name_not_nfc",
            NameError::NotUtf8 => "name_not_utf8",
        }
    }

    /// What to do about it.
    pub fn remedy(&self) -> String {
        match self {
            NameError::Empty => "Give a name of at least one character.".into(),
            NameError::Dots(_) => "Choose another name; \"..name\" and \"name..\" can be.".into(),
            NameError::Then(_) => "Choose another name.".into(),
            NameError::Slash => "Leave out the slash, or make the folder first.".into(),
            NameError::Control(_) => "Leave out line breaks, tabs and invisible characters.".into(),
            NameError::TooLong(n) => format!("Shorten it by {} bytes.", n - MAX_NAME_BYTES),
            NameError::NotNfc { wanted } => format!("Send it as \"{wanted}\" in form C."),
            NameError::NotUtf8 => "Rename it to UTF-8 before sending it.".into(),
        }
    }
}

impl Name {
    /// Takes a name as it is, or says why it cannot be.
    pub fn new(text: &str) -> Result<Name, NameError> {
        if text.is_empty() {
            return Err(NameError::Empty);
        }
        if text == "." || text == ".." {
            return Err(NameError::Dots(text.into()));
        }
        // Capital and small letters of one name are one name.
        if text.eq_ignore_ascii_case(THEN) {
            return Err(NameError::Then(text.into()));
        }
        if let Some(c) = text.chars().find(|c| c.is_control()) {
            return Err(NameError::Control(c as u32));
        }
        if text.contains('/') {
            return Err(NameError::Slash);
        }
        if is_nfc_quick(text.chars()) != IsNormalized::Yes {
            let wanted = text.nfc().collect::<String>();
            if wanted != text {
                return Err(NameError::NotNfc { wanted });
            }
        }
        if text.len() > MAX_NAME_BYTES {
            return Err(NameError::TooLong(text.len()));
        }
        Ok(Name(text.into()))
    }

    /// Takes the bytes of a name.
    pub fn from_bytes(bytes: &[u8]) -> Result<Name, NameError> {
        Name::new(std::str::from_utf8(bytes).map_err(|_| NameError::NotUtf8)?)
    }

    /// Takes a name in any normalisation form and brings it to form C.
    pub fn normalised(text: &str) -> Result<Name, NameError> {
        match Name::new(text) {
            Err(NameError::NotNfc { wanted }) => Name::new(&wanted),
            other => other,
        }
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// A name beside this one that is likely free: `report.pdf` becomes `report (2).pdf`.
    pub fn numbered(&self, number: u32) -> Name {
        let (stem, ending) = match self.0.rfind('.') {
            Some(dot) if dot > 0 && self.0.len() - dot <= 16 => self.0.split_at(dot),
            _ => (self.0.as_str(), ""),
        };
        let tail = format!(" ({number}){ending}");
        let mut room = MAX_NAME_BYTES.saturating_sub(tail.len()).min(stem.len());
        while !stem.is_char_boundary(room) {
            room -= 1;
        }
        Name(format!("{}{tail}", &stem[..room]))
    }
}

/// Whether a character changes how others are read without being seen: overrides of the direction, and tags. Joiners and
/// marks of direction are not among them: people write Persian, Hindi and emoji.
pub fn is_hidden(c: char) -> bool {
    matches!(c, '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}' | '\u{E0000}'..='\u{E007F}')
}

/// A path for readers of other systems: what would be taken there for a separator, a drive, or is not seen, is written
/// as percent-encoded bytes (RFC 3986).
pub fn escaped(path: &str) -> std::borrow::Cow<'_, str> {
    let drive = |i: usize, c: char| c == ':' && i == 1 && path.starts_with(|d: char| d.is_ascii_alphabetic());
    let odd = |i: usize, c: char| c == '\\' || is_hidden(c) || drive(i, c);
    if !path.char_indices().any(|(i, c)| odd(i, c)) {
        return path.into();
    }
    let mut out = String::with_capacity(path.len() + 16);
    for (i, c) in path.char_indices() {
        if odd(i, c) {
            c.encode_utf8(&mut [0; 4]).bytes().for_each(|b| out.push_str(&format!("%{b:02X}")));
        } else {
            out.push(c);
        }
    }
    out.into()
}

/// A name that a stranger sends: without what is not seen, and without what other systems take for a separator or a
/// drive.
pub fn from_stranger(text: &str) -> String {
    let text: String =
        text.chars().filter(|c| !is_hidden(*c)).map(|c| if c == '\\' { '_' } else { c }).collect();
    match text.strip_prefix(|c: char| c.is_ascii_alphabetic()).and_then(|rest| rest.strip_prefix(':')) {
        Some(rest) => format!("{}_{rest}", &text[..1]),
        None => text,
    }
}

impl TryFrom<String> for Name {
    type Error = NameError;
    fn try_from(text: String) -> Result<Name, NameError> {
        Name::new(&text)
    }
}

impl From<Name> for String {
    fn from(name: Name) -> String {
        name.0
    }
}

impl std::fmt::Display for Name {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_that_cannot_be_say_why() {
        let long = "é".repeat(128);
        for (text, code) in [
            ("", "name_empty"),
            (".", "name_dots"),
            ("..", "name_dots"),
            ("a/b", "name_slash"),
            ("a\0b", "name_control_character"),
            ("a\nb", "name_control_character"),
            ("a\u{85}b", "name_control_character"),
            ("cafe\u{301}", "name_not_nfc"),
            (long.as_str(), "name_too_long"),
        ] {
            assert_eq!(Name::new(text).unwrap_err().code(), code, "{text:?}");
        }
        assert_eq!(Name::from_bytes(b"a\xff").unwrap_err().code(), "name_not_utf8");
    }

    #[test]
    fn odd_but_legal_names_are_taken() {
        for text in ["...", " ", "a b ", "-rf", "CON", "caf\u{e9}", "名前", "😀", "a\\b", "#%?&", "~"] {
            assert_eq!(Name::new(text).unwrap().as_str(), text);
        }
    }

    #[test]
    fn a_numbered_name_keeps_its_ending_and_its_length() {
        assert_eq!(Name::new("report.pdf").unwrap().numbered(2).as_str(), "report (2).pdf");
        assert_eq!(Name::new(".profile").unwrap().numbered(2).as_str(), ".profile (2)");
        let long = Name::new(&format!("{}.pdf", "é".repeat(125))).unwrap();
        assert!(long.numbered(2).as_str().len() <= MAX_NAME_BYTES);
        assert!(long.numbered(2).as_str().ends_with(" (2).pdf"));
    }

    proptest! {
        #[test]
        fn what_is_taken_is_taken_again_unchanged(text in "\\PC{0,90}") {
            if let Ok(name) = Name::normalised(&text) {
                prop_assert_eq!(&Name::new(name.as_str()).unwrap(), &name);
                prop_assert!(Name::new(name.numbered(7).as_str()).is_ok());
            }
        }
    }
}
