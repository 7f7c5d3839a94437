//! One-time codes of an authenticator (TOTP, RFC 6238: six digits, SHA-1, steps of 30 s), and
//! recovery codes.

use totp_rs::{Algorithm, Builder, Secret, Totp};

/// How many recovery codes there are.
pub const RECOVERY_CODES: usize = 10;
/// Seconds that a code is shown.
const STEP_S: u64 = 30;

fn builder(secret: &[u8]) -> Builder {
    Builder::new()
        .with_algorithm(Algorithm::SHA1)
        .with_digits(6)
        .with_step_duration(STEP_S)
        .with_secret(secret.to_vec())
}

/// The step whose code this is, if it may be used now: of this step, the one before or the one
/// after (clocks differ), and later than the last one that was used, so that no code counts twice.
pub fn step_of(secret: &[u8], code: &str, now_ms: i64, last_used: Option<i64>) -> Option<i64> {
    let digits: String = code.chars().filter(|c| !c.is_whitespace()).collect();
    if digits.len() != 6 || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let present = now_ms.max(0) as u64 / 1000 / STEP_S;
    let totp: Totp = builder(secret).build_noncompliant();
    (present.saturating_sub(1)..=present + 1)
        .filter(|step| last_used.is_none_or(|last| *step as i64 > last))
        .find(|step| totp.generate(step * STEP_S).to_string() == digits)
        .map(|step| step as i64)
}

/// How a secret is typed into an authenticator: base32 (RFC 4648), without padding.
pub fn written(secret: &[u8]) -> String {
    Secret::from(secret.to_vec()).to_base32()
}

/// The address by which an authenticator takes a secret (Key URI format).
pub fn address(secret: &[u8], account: &str, place: &str) -> String {
    let place = place.replace(':', " ");
    let built = builder(secret).with_account_name(account).with_issuer(Some(place)).build_noncompliant();
    built.to_url().unwrap_or_default()
}

/// A recovery code from random bytes: ten letters and digits that are not mistaken for each other.
pub fn recovery_code(random: [u8; 10]) -> String {
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz234567899";
    let letters: String = random.iter().map(|b| LETTERS[usize::from(*b) % 32] as char).collect();
    format!("{}-{}", &letters[..5], &letters[5..])
}

/// A recovery code as it was typed, in the form in which it is kept.
pub fn recovery_typed(code: &str) -> Option<String> {
    let letters: String =
        code.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect();
    (letters.len() == 10).then(|| format!("{}-{}", &letters[..5], &letters[5..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECRET: &[u8] = b"12345678901234567890";

    #[test]
    fn the_codes_are_those_of_the_standard() {
        // RFC 6238, appendix B, SHA-1, the last six of the eight digits.
        for (at, code) in [(59, "287082"), (1_111_111_109, "081804"), (20_000_000_000, "353130")] {
            assert_eq!(step_of(SECRET, code, at * 1000, None), Some(at / 30), "{code}");
        }
    }

    #[test]
    fn a_code_counts_once_and_only_near_its_time() {
        let step = step_of(SECRET, "287 082", 59_000, None).unwrap();
        assert_eq!(step_of(SECRET, "287082", 59_000, Some(step)), None, "used");
        assert_eq!(step_of(SECRET, "287082", 89_000, None), Some(step), "a step late");
        assert_eq!(step_of(SECRET, "287082", 120_000, None), None, "too late");
        for wrong in ["", "28708", "2870821", "abcdef", "２８７０８２"] {
            assert_eq!(step_of(SECRET, wrong, 59_000, None), None);
        }
    }

    #[test]
    fn secrets_are_written_as_authenticators_read_them() {
        assert_eq!(written(SECRET), "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ");
        assert_eq!(
            address(SECRET, "ines", "Lamp House"),
            "otpauth://totp/Lamp%20House:ines?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ&issuer=Lamp%20House"
        );
    }

    #[test]
    fn recovery_codes_are_taken_however_they_are_typed() {
        let code = recovery_code([0, 1, 2, 3, 4, 250, 251, 252, 253, 254]);
        assert_eq!(recovery_typed(&code.to_uppercase().replace('-', " ")), Some(code));
        assert_eq!(recovery_typed("abc"), None);
    }
}
