//! What a copy is called that keeps what two people changed at once.

use crate::name::MAX_NAME_BYTES;
use unicode_normalization::UnicodeNormalization;

/// The longest ending that is taken for one, in bytes, with its dot.
const LONGEST_ENDING: usize = 16;

/// The name beside another: `report.odt` becomes `report (LAPTOP, 2026-11-29 14.03).odt`, with a number from the second on.
/// `time`: the service's, as people read it, without a colon, which some systems take for something else.
pub fn beside(name: &str, device: &str, time: &str, number: u32) -> String {
    let (stem, ending) = match name.rfind('.') {
        Some(dot) if dot > 0 && name.len() - dot <= LONGEST_ENDING => name.split_at(dot),
        _ => (name, ""),
    };
    let device: String = device.nfc().filter(|c| !c.is_control() && *c != '/').take(40).collect();
    let number = if number > 1 { format!(", {number}") } else { String::new() };
    let tail = format!(" ({device}, {time}{number}){ending}");
    let mut room = MAX_NAME_BYTES.saturating_sub(tail.len()).min(stem.len());
    while !stem.is_char_boundary(room) {
        room -= 1;
    }
    format!("{}{tail}", &stem[..room])
}

/// A name of a copy as [`beside`] makes it, in its parts: stem, what stands in the brackets, ending.
fn parts(name: &str) -> Option<(&str, &str)> {
    let close = name.rfind(')')?;
    let (before, ending) = (&name[..close], &name[close + 1..]);
    if !(ending.is_empty() || ending.starts_with('.') && ending.len() <= LONGEST_ENDING) {
        return None;
    }
    // A device's name may hold brackets: the time is what is sure.
    let (head, tail) = before.rsplit_once(", ")?;
    let head = match tail.bytes().all(|b| b.is_ascii_digit()) && !tail.is_empty() {
        true => {
            let (head, time) = head.rsplit_once(", ")?;
            is_time(time).then_some(head)?
        }
        false => is_time(tail).then_some(head)?,
    };
    let open = head.find(" (")?;
    (open > 0).then_some((&head[..open], ending))
}

fn is_time(text: &str) -> bool {
    let shape = |c: char| if c.is_ascii_digit() { '0' } else { c };
    text.chars().map(shape).eq("0000-00-00 00.00".chars())
}

/// The name of the file that a copy was made of; none if this is no name of a copy. Of a name that had to be shortened for the
/// copy it is what was left of it.
pub fn original_of(name: &str) -> Option<String> {
    parts(name).map(|(stem, ending)| format!("{stem}{ending}"))
}

/// A plain name for a copy that is to stay: `report 2.odt`.
pub fn plain_beside(name: &str, number: u32) -> Option<String> {
    parts(name).map(|(stem, ending)| format!("{stem} {number}{ending}"))
}

/// Whether a folder of this name is one in which version control keeps its own: a file more would break it.
pub fn is_repository(name: &str) -> bool {
    [".git", ".hg", ".svn", ".bzr", ".jj", "_darcs"].contains(&name) || name.ends_with(".git")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Name;
    use proptest::prelude::*;

    #[test]
    fn a_copy_says_whose_it_is_and_when() {
        let time = "2026-11-29 14.03";
        assert_eq!(beside("report.odt", "LAPTOP", time, 1), "report (LAPTOP, 2026-11-29 14.03).odt");
        assert_eq!(beside("report.odt", "LAPTOP", time, 2), "report (LAPTOP, 2026-11-29 14.03, 2).odt");
        assert_eq!(beside(".profile", "a/b", time, 1), ".profile (ab, 2026-11-29 14.03)");
    }

    #[test]
    fn what_is_no_copy_has_no_original() {
        for name in [
            "report.odt",
            "a (b).txt",
            "minutes (board, 2026-11-29).txt",
            " (LAPTOP, 2026-11-29 14.03)",
            ")",
            "a, b)",
        ] {
            assert_eq!(original_of(name), None, "{name}");
        }
        assert_eq!(plain_beside("a (X (Y), 2026-11-29 14.03, 2).txt", 3).as_deref(), Some("a 3.txt"));
    }

    proptest! {
        #[test]
        fn a_copy_tells_what_it_was_made_of(name in "[a-zé]{1,20}(\\.[a-z]{1,8})?", device in "[A-Za-z ,()]{1,20}", number in 1u32..30) {
            prop_assert_eq!(original_of(&beside(&name, &device, "2026-11-29 14.03", number)), Some(name));
        }

        #[test]
        fn a_copy_of_any_name_has_a_name(name in "[a-zé.]{1,120}[漢字]{0,40}(\\.[a-zß]{1,20})?", device in "\\PC{0,80}", number in 1u32..3000) {
            if Name::normalised(&name).is_ok() {
                let copy = beside(&name, &device, "2026-11-29 14.03", number);
                prop_assert!(Name::normalised(&copy).is_ok(), "{copy}");
                prop_assert_ne!(&copy, &name);
            }
        }
    }
}
