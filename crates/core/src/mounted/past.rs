//! Names in `.then`, the folder of what a folder was.

pub use crate::name::THEN;

/// The longest name, in bytes.
const LONGEST: usize = 200;

/// What an entry of a snapshot is called: when it was, with the offset, and what it was called, as far as that can be a name.
pub fn snapshot_name(time: &str, label: &str) -> String {
    let mut name = time.to_string();
    let label: String =
        label.chars().map(|c| if c == '/' || c == '\\' || c.is_control() { ' ' } else { c }).collect();
    let label = label.split_whitespace().collect::<Vec<_>>().join(" ");
    if !label.is_empty() {
        name.push(' ');
        name.push_str(&label);
    }
    let mut end = name.len().min(LONGEST);
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    name.truncate(end);
    name.trim_end_matches(['.', ' ']).to_string()
}

/// The time that a name in `.then` tells: what stands before its label, as `2026-11-20`, `2026-11-20T09:00` or with seconds,
/// and with an offset or without. None if it is no time.
pub fn time_in(name: &str) -> Option<Time> {
    let text = name.split(' ').next()?;
    let (date, rest) = match text.split_once('T') {
        Some((date, rest)) => (date, rest),
        None => (text, ""),
    };
    let digits = |text: &str, length: usize| text.len() == length && text.bytes().all(|b| b.is_ascii_digit());
    let mut parts = date.split('-');
    let (year, month, day) = (parts.next()?, parts.next()?, parts.next()?);
    if parts.next().is_some() || !digits(year, 4) || !digits(month, 2) || !digits(day, 2) {
        return None;
    }
    let at = rest.find(['Z', 'z', '+', '-']).unwrap_or(rest.len());
    let (clock, offset) = rest.split_at(at);
    let clock = match clock {
        // A day alone means its end, as everywhere.
        "" if rest.is_empty() && !text.contains('T') => "23:59:59".to_string(),
        clock => {
            // A colon cannot be in a name everywhere: a full stop does as well.
            let clock = clock.replace('.', ":");
            let parts: Vec<&str> = clock.split(':').collect();
            if !(2..=3).contains(&parts.len()) || parts.iter().any(|part| !digits(part, 2)) {
                return None;
            }
            match parts.len() {
                2 => format!("{clock}:00"),
                _ => clock,
            }
        }
    };
    let offset = match offset {
        "" => None,
        "Z" | "z" => Some("Z".to_string()),
        offset => {
            let plain: String = offset[1..].chars().filter(|c| !matches!(c, ':' | '.')).collect();
            if !digits(&plain, 4) {
                return None;
            }
            Some(format!("{}{}:{}", &offset[..1], &plain[..2], &plain[2..]))
        }
    };
    Some(Time { local: format!("{date}T{clock}"), offset })
}

/// A time, as it was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Time {
    /// `2026-11-20T09:00:00`.
    pub local: String,
    /// `Z` or `+01:00`; none: the clock of whoever asks.
    pub offset: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn time(local: &str, offset: Option<&str>) -> Option<Time> {
        Some(Time { local: local.into(), offset: offset.map(Into::into) })
    }

    #[test]
    fn times_as_people_write_them() {
        assert_eq!(time_in("2026-11-20"), time("2026-11-20T23:59:59", None));
        assert_eq!(time_in("2026-11-20T09:00"), time("2026-11-20T09:00:00", None));
        assert_eq!(time_in("2026-11-20T09.00.30"), time("2026-11-20T09:00:30", None));
        assert_eq!(
            time_in("2026-11-20T09:00+01:00 Before the move"),
            time("2026-11-20T09:00:00", Some("+01:00"))
        );
        assert_eq!(time_in("2026-11-20T09:00:00-0330"), time("2026-11-20T09:00:00", Some("-03:30")));
        assert_eq!(time_in("2026-11-20T09:00Z"), time("2026-11-20T09:00:00", Some("Z")));
        for other in [
            "",
            "T",
            "yesterday",
            "2026",
            "2026-11",
            "2026-11-20T",
            "2026-11-20T9",
            "26-11-20",
            "2026-11-20T09:00+1",
            ".hidden",
        ] {
            assert_eq!(time_in(other), None, "{other}");
        }
    }

    proptest! {
        #[test]
        fn a_label_never_breaks_a_name(label in ".*") {
            let name = snapshot_name("2026-11-20T09:00+01:00", &label);
            prop_assert!(name.len() <= LONGEST && !name.contains('/') && !name.ends_with([' ', '.']));
            prop_assert_eq!(time_in(&name), time("2026-11-20T09:00:00", Some("+01:00")));
        }

        #[test]
        fn any_name_is_a_time_or_none(name in ".*") {
            let _ = time_in(&name);
        }
    }
}
