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

/// The fewest characters of a password.
pub const SHORTEST: usize = 10;
/// The most bytes of a password: longer ones only cost time to hash.
pub const LONGEST_BYTES: usize = 1024;

/// Why a password is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PasswordError {
    /// Fewer than [`SHORTEST`] characters.
    #[error("the password has {0} characters; it needs at least 10")]
    TooShort(usize),
    /// More than [`LONGEST_BYTES`].
    #[error("the password has more than 1024 bytes")]
    TooLong,
    /// It contains the sign-in name, or is contained in it.
    #[error("the password repeats the sign-in name")]
    LikeTheName,
    /// Fewer than five different characters.
    #[error("the password repeats too few characters")]
    Monotonous,
}

impl PasswordError {
    /// What to do about it.
    pub fn remedy(self) -> &'static str {
        match self {
            PasswordError::TooShort(_) => "Three or four unrelated words are easy to keep in mind.",
            PasswordError::TooLong => "Choose a shorter one.",
            PasswordError::LikeTheName => "Choose one that has nothing to do with your name.",
            PasswordError::Monotonous => "Use at least five different characters.",
        }
    }
}

/// Looks at a new password.
pub fn check(password: &str, sign_in: &str) -> Result<(), PasswordError> {
    let length = password.chars().count();
    if length < SHORTEST {
        return Err(PasswordError::TooShort(length));
    }
    if password.len() > LONGEST_BYTES {
        return Err(PasswordError::TooLong);
    }
    let (low, name) = (password.to_lowercase(), sign_in.to_lowercase());
    if name.chars().count() >= 3 && (low.contains(&name) || name.contains(&low)) {
        return Err(PasswordError::LikeTheName);
    }
    let mut different: Vec<char> = low.chars().collect();
    different.sort_unstable();
    different.dedup();
    if different.len() < 5 {
        return Err(PasswordError::Monotonous);
    }
    Ok(())
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
        assert_eq!(check("short", "ines"), Err(PasswordError::TooShort(5)));
        assert_eq!(check("aaaaaaaabbbb", "ines"), Err(PasswordError::Monotonous));
        assert_eq!(check("ines-is-here", "Ines"), Err(PasswordError::LikeTheName));
        assert_eq!(check(&"abcde".repeat(300), "ines"), Err(PasswordError::TooLong));
        assert_eq!(check("lamp oil and fog", "ines"), Ok(()));
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
