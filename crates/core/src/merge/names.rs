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

    proptest! {
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
