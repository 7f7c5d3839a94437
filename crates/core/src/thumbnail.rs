//! Thumbnails where the freedesktop thumbnail standard has them: by the address of the file.

/// What the name of a picture ends in that the service can draw small.
pub const ENDINGS: [&str; 8] = [".png", ".jpg", ".jpeg", ".gif", ".webp", ".bmp", ".tif", ".tiff"];

/// Whether a name is one of a picture that can be drawn small.
pub fn is_picture(name: &[u8]) -> bool {
    ENDINGS.iter().any(|ending| {
        name.len() > ending.len() && name[name.len() - ending.len()..].eq_ignore_ascii_case(ending.as_bytes())
    })
}

/// The address of a local file (RFC 8089), escaped as file managers do.
pub fn uri_of(path: &[u8]) -> String {
    let mut uri = String::from("file://");
    for byte in path {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' => uri.push(char::from(*byte)),
            b'-' | b'_' | b'.' | b'!' | b'~' | b'*' | b'\'' | b'(' | b')' => uri.push(char::from(*byte)),
            b'/' | b'&' | b'=' | b':' | b'@' | b'+' | b'$' | b',' => uri.push(char::from(*byte)),
            other => uri.push_str(&format!("%{other:02X}")),
        }
    }
    uri
}

/// What the thumbnail of an address is called.
pub fn file_name(uri: &str) -> String {
    format!("{:x}.png", md5::compute(uri))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_standards_own_example() {
        // Of the specification, "Thumbnail Managing Standard", section "Thumbnail Creation".
        let uri = uri_of(b"/home/jens/photos/me.png");
        assert_eq!(uri, "file:///home/jens/photos/me.png");
        assert_eq!(file_name(&uri), "c6ee772d9e49320e97ec29a7eb5b1697.png");
    }

    #[test]
    fn names_that_are_escaped() {
        assert_eq!(uri_of("/a b/ü;[1].png".as_bytes()), "file:///a%20b/%C3%BC%3B%5B1%5D.png");
        assert_eq!(uri_of(b"/a&b=c:d@e+f$g,h"), "file:///a&b=c:d@e+f$g,h");
    }

    #[test]
    fn pictures_by_their_names() {
        assert!(is_picture(b"May.JPG") && is_picture(b"x.tiff"));
        assert!(!is_picture(b".png") && !is_picture(b"png") && !is_picture(b"a.png.txt"));
    }
}
