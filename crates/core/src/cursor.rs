//! Opaque places in a list, bound to the list they come from.

/// Why a cursor is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CursorError {
    /// Not made by this service, or cut short.
    #[error("the cursor is malformed")]
    Malformed,
    /// Made for another list, order or moment.
    #[error("the cursor belongs to another list")]
    OtherList,
}

/// Makes a cursor: the list's own description (what, sorted how, at which moment), and where
/// in it the next page begins.
pub fn encode(list: &str, place: &str) -> String {
    let mut text = String::with_capacity(16 + place.len() * 2);
    let tag = blake3::derive_key("Yellow Attic cursor 1", list.as_bytes());
    for byte in tag[..8].iter().chain(place.as_bytes()) {
        text.push_str(&format!("{byte:02x}"));
    }
    text
}

/// Reads a cursor for the same list.
pub fn decode(list: &str, cursor: &str) -> Result<String, CursorError> {
    if cursor.len() < 16 || !cursor.len().is_multiple_of(2) || !cursor.is_ascii() {
        return Err(CursorError::Malformed);
    }
    let bytes = (0..cursor.len())
        .step_by(2)
        .map(|i| u8::from_str_radix(&cursor[i..i + 2], 16))
        .collect::<Result<Vec<_>, _>>()
        .map_err(|_| CursorError::Malformed)?;
    let tag = blake3::derive_key("Yellow Attic cursor 1", list.as_bytes());
    if bytes[..8] != tag[..8] {
        return Err(CursorError::OtherList);
    }
    String::from_utf8(bytes[8..].to_vec()).map_err(|_| CursorError::Malformed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cursor_leads_back_to_its_place_in_its_own_list_only() {
        let cursor = encode("node 7 by name", "p\u{1}é");
        assert_eq!(decode("node 7 by name", &cursor).unwrap(), "p\u{1}é");
        assert_eq!(decode("node 8 by name", &cursor), Err(CursorError::OtherList));
        for bad in ["", "abc", "zz00000000000000", "ééééééééé"] {
            assert_eq!(decode("node 7 by name", bad), Err(CursorError::Malformed), "{bad}");
        }
    }
}
