//! Which passwords and sign-in names are refused.

/// Whether a text can be a mail address: something, one "@", and a host with a dot or none.
pub fn check_mail(mail: &str) -> bool {
    let mail = mail.trim();
    match mail.rsplit_once('@') {
        Some((local, host)) => {
            !local.is_empty()
                && mail.len() <= 254
                && !host.is_empty()
                && !host.starts_with('.')
                && !host.ends_with('.')
                && host.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '.')
                && local.chars().all(|c| !c.is_control() && !c.is_whitespace() && c != '@')
        }
        None => false,
    }
}

/// The most bytes of a password: longer ones only cost time to hash.
pub const LONGEST_BYTES: usize = 1024;

/// What is demanded of a password.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Demands {
    /// The fewest characters.
    pub length: u32,
    /// How hard it must be to guess, 0 to 4.
    pub strength: u32,
}

impl Default for Demands {
    fn default() -> Demands {
        Demands { length: 10, strength: 3 }
    }
}

/// Why a password is refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PasswordError {
    /// Fewer characters than demanded.
    #[error("the password has {0} characters; it needs at least {1}")]
    TooShort(usize, u32),
    /// More than [`LONGEST_BYTES`].
    #[error("the password has more than 1024 bytes")]
    TooLong,
    /// It contains the sign-in name, or is contained in it.
    #[error("the password repeats the sign-in name")]
    LikeTheName,
    /// It would be guessed too soon.
    #[error("the password is easy to guess: {reason}")]
    Guessable {
        /// What makes it so.
        reason: String,
        /// What would help.
        hint: String,
    },
}

impl PasswordError {
    /// What to do about it.
    pub fn remedy(&self) -> String {
        match self {
            PasswordError::TooShort(..) => "Three or four unrelated words are easy to keep in mind.".into(),
            PasswordError::TooLong => "Choose a shorter one.".into(),
            PasswordError::LikeTheName => "Choose one that has nothing to do with your name.".into(),
            PasswordError::Guessable { hint, .. } => hint.clone(),
        }
    }
}

/// Looks at a new password. `own`: words that somebody who guesses would try first, such as the
/// name and mail address of its owner. How hard it is to guess is estimated by zxcvbn, which knows
/// the passwords, names and words most in use.
pub fn check(password: &str, sign_in: &str, own: &[&str], demands: Demands) -> Result<(), PasswordError> {
    let length = password.chars().count();
    if length < demands.length as usize {
        return Err(PasswordError::TooShort(length, demands.length));
    }
    if password.len() > LONGEST_BYTES {
        return Err(PasswordError::TooLong);
    }
    let (low, name) = (password.to_lowercase(), sign_in.to_lowercase());
    if name.chars().count() >= 3 && (low.contains(&name) || name.contains(&low)) {
        return Err(PasswordError::LikeTheName);
    }
    let known: Vec<&str> = own.iter().copied().chain([sign_in, "yellow", "attic"]).collect();
    let guessed = zxcvbn::zxcvbn(password, &known);
    if u32::from(u8::from(guessed.score())) >= demands.strength {
        return Ok(());
    }
    let (reason, hint) = reason(&guessed);
    Err(PasswordError::Guessable { reason, hint })
}

/// The estimate in our words: what was recognised, and what would help.
fn reason(guessed: &zxcvbn::Entropy) -> (String, String) {
    use zxcvbn::feedback::Warning;
    let words = "Use three or four words that have nothing to do with each other.";
    let (reason, hint) = match guessed.feedback().and_then(|f| f.warning()) {
        Some(Warning::StraightRowsOfKeysAreEasyToGuess | Warning::ShortKeyboardPatternsAreEasyToGuess) => {
            ("it follows the keys of the keyboard", words)
        }
        Some(
            Warning::RepeatsLikeAaaAreEasyToGuess | Warning::RepeatsLikeAbcAbcAreOnlySlightlyHarderToGuess,
        ) => ("it repeats itself", "Leave the repetition out, and add another word or two."),
        Some(Warning::SequencesLikeAbcAreEasyToGuess) => ("it counts up or down", words),
        Some(Warning::RecentYearsAreEasyToGuess | Warning::DatesAreOftenEasyToGuess) => {
            ("it holds a year or a date", "Leave out years and dates that have to do with you.")
        }
        Some(
            Warning::ThisIsATop10Password | Warning::ThisIsATop100Password | Warning::ThisIsACommonPassword,
        ) => ("it is among the passwords used most", words),
        Some(Warning::ThisIsSimilarToACommonlyUsedPassword) => {
            ("it is much like one of the passwords used most", words)
        }
        Some(Warning::AWordByItselfIsEasyToGuess) => ("it is one word", "Add another word or two."),
        Some(
            Warning::NamesAndSurnamesByThemselvesAreEasyToGuess
            | Warning::CommonNamesAndSurnamesAreEasyToGuess,
        ) => ("it is a name", "Add words that have nothing to do with names."),
        None => ("it is made of few or common parts", "Add another word or two."),
    };
    (reason.into(), hint.into())
}

/// Looks at a new sign-in name: 1 to 64 of a–z, 0–9, `.`, `-`, `_`, beginning with a letter
/// or digit. It is also the name of a folder on the disk.
pub fn check_sign_in(sign_in: &str) -> bool {
    let plain = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit();
    (1..=64).contains(&sign_in.len())
        && sign_in.bytes().next().is_some_and(plain)
        && sign_in.bytes().all(|b| plain(b) || matches!(b, b'.' | b'-' | b'_'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guessable_passwords_are_refused_with_the_reason() {
        let look = |password: &str| check(password, "ines", &["Ines Albrecht"], Demands::default());
        assert_eq!(look("short"), Err(PasswordError::TooShort(5, 10)));
        assert_eq!(look("ines-is-here"), Err(PasswordError::LikeTheName));
        assert_eq!(look(&"abcde".repeat(300)), Err(PasswordError::TooLong));
        let reason = |password: &str| match look(password) {
            Err(PasswordError::Guessable { reason, hint }) => {
                assert!(hint.ends_with('.'));
                reason
            }
            other => panic!("{password}: {other:?}"),
        };
        assert_eq!(reason("aaaaaaaaaaaa"), "it repeats itself");
        assert_eq!(reason("qwertyuiop"), "it is among the passwords used most");
        assert!(reason("password123").contains("passwords used most"));
        reason("albrecht2026");
        assert_eq!(look("lamp oil and fog"), Ok(()));
        assert_eq!(look("lantern-gallery-brass"), Ok(()));
    }

    #[test]
    fn what_is_demanded_decides() {
        let lax = Demands { length: 8, strength: 0 };
        assert_eq!(check("aaaaaaaa", "ines", &[], lax), Ok(()));
        let strict = Demands { length: 16, strength: 4 };
        assert_eq!(check("lamp oil fog", "ines", &[], strict), Err(PasswordError::TooShort(12, 16)));
    }

    #[test]
    fn sign_in_names_are_plain() {
        for good in ["ines", "o.k-2_x", "7"] {
            assert!(check_sign_in(good), "{good}");
        }
        for bad in ["", "Ines", ".x", "a b", "é", "a/b", &"a".repeat(65)] {
            assert!(!check_sign_in(bad), "{bad}");
        }
    }
}
