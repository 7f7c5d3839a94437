//! What an intake takes: kinds of files, by their names and by what their bytes begin with; and the names
//! under which things from strangers are kept.

use std::collections::BTreeSet;

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
    matches!(c, '\u{200b}' | '\u{2060}'..='\u{2064}' | '\u{feff}') || crate::name::is_hidden(c)
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

    proptest! {
        #[test]
        fn every_sender_and_number_gives_a_name_that_can_be(sender in ".{0,200}", n in 1u32..3000, folder: bool) {
            let name = sender_folder(&sender);
            prop_assert!(crate::Name::new(&name).is_ok(), "{:?}", name);
            prop_assert!(crate::Name::new(&numbered(&name, n, folder)).is_ok());
        }
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
