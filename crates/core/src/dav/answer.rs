//! Multi-status answers (RFC 4918, section 13), written piece by piece so that none is ever whole in memory.

use super::xml::escape;
use super::{DAV, PropName};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode};

/// What stands in an address as it is (RFC 3986, unreserved).
const KEEP: &AsciiSet = &NON_ALPHANUMERIC.remove(b'.').remove(b'-').remove(b'_').remove(b'~');

/// The beginning of an answer.
pub const BEGIN: &str = "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n";
/// Its end.
pub const END: &str = "</D:multistatus>\n";

/// Adds a name to an address.
pub fn push_name(href: &mut String, name: &str) {
    if !href.ends_with('/') {
        href.push('/');
    }
    href.extend(percent_encode(name.as_bytes(), KEEP));
}

/// The line of a status.
pub fn status(code: u16) -> &'static str {
    match code {
        200 => "HTTP/1.1 200 OK",
        403 => "HTTP/1.1 403 Forbidden",
        404 => "HTTP/1.1 404 Not Found",
        409 => "HTTP/1.1 409 Conflict",
        412 => "HTTP/1.1 412 Precondition Failed",
        423 => "HTTP/1.1 423 Locked",
        424 => "HTTP/1.1 424 Failed Dependency",
        507 => "HTTP/1.1 507 Insufficient Storage",
        _ => "HTTP/1.1 500 Internal Server Error",
    }
}

/// Writes a property: `D:` for WebDAV's own, else with its namespace. `value` writes what is in it;
/// if that is nothing, the element is empty.
pub fn prop(out: &mut String, name: &PropName, value: impl FnOnce(&mut String)) {
    let tag = |out: &mut String| {
        if name.ns == DAV {
            out.push_str("D:");
        }
        out.push_str(&name.name);
    };
    out.push('<');
    tag(out);
    if name.ns != DAV {
        out.push_str(" xmlns=\"");
        escape_attribute(out, &name.ns);
        out.push('"');
    }
    let opened = out.len();
    out.push('>');
    value(out);
    if out.len() == opened + 1 {
        out.truncate(opened);
        out.push_str("/>");
        return;
    }
    out.push_str("</");
    tag(out);
    out.push('>');
}

fn escape_attribute(out: &mut String, text: &str) {
    let mut escaped = String::new();
    escape(&mut escaped, text);
    out.push_str(&escaped.replace('"', "&quot;"));
}

/// One response: an address with groups of properties, each with its status.
pub fn response(out: &mut String, href: &str, groups: &[(u16, &str)]) {
    out.push_str("<D:response><D:href>");
    escape(out, href);
    out.push_str("</D:href>");
    for (code, props) in groups {
        if props.is_empty() && *code != 200 {
            continue;
        }
        out.push_str("<D:propstat><D:prop>");
        out.push_str(props);
        out.push_str("</D:prop><D:status>");
        out.push_str(status(*code));
        out.push_str("</D:status></D:propstat>");
    }
    out.push_str("</D:response>\n");
}

/// A response without properties: what became of an address. `condition`: the standard's name for why.
pub fn outcome(out: &mut String, href: &str, code: u16, condition: Option<&str>, words: Option<&str>) {
    out.push_str("<D:response><D:href>");
    escape(out, href);
    out.push_str("</D:href><D:status>");
    out.push_str(status(code));
    out.push_str("</D:status>");
    if let Some(condition) = condition {
        match condition {
            // Which thing's lock it is must stand in it (RFC 4918, section 16).
            "lock-token-submitted" => {
                out.push_str("<D:error><D:lock-token-submitted><D:href>");
                escape(out, href);
                out.push_str("</D:href></D:lock-token-submitted></D:error>");
            }
            _ => out.push_str(&format!("<D:error><D:{condition}/></D:error>")),
        }
    }
    if let Some(words) = words {
        out.push_str("<D:responsedescription>");
        escape(out, words);
        out.push_str("</D:responsedescription>");
    }
    out.push_str("</D:response>\n");
}

/// A body that names a condition of the standard (section 16), with words beside it if there are any.
pub fn error(condition: &str, inside: &str, words: &str) -> String {
    let mut out = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:error xmlns:D=\"DAV:\"><D:{condition}>{inside}</D:{condition}>"
    );
    if !words.is_empty() {
        out.push_str("<D:responsedescription>");
        escape(&mut out, words);
        out.push_str("</D:responsedescription>");
    }
    out.push_str("</D:error>\n");
    out
}

#[cfg(test)]
mod tests {
    use super::super::xml::Element;
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn an_answer_is_well_formed_whatever_is_in_it(
            name in "\\PC{1,20}", ns in "\\PC{0,20}", value in "\\PC{0,40}", condition in prop::option::of("[a-z]{1,9}"),
        ) {
            prop_assume!(name != "." && name != "..");
            let mut href = "/dav/home".to_string();
            push_name(&mut href, &name);
            let (mut out, mut props) = (BEGIN.to_string(), String::new());
            prop(&mut props, &PropName::new(&ns, "p"), |out| escape(out, &value));
            prop(&mut props, &PropName::dav("getetag"), |_| {});
            response(&mut out, &href, &[(200, &props), (404, "")]);
            outcome(&mut out, &href, 423, condition.as_deref(), Some(&value));
            out.push_str(END);
            let read = Element::read(out.as_bytes()).unwrap();
            let one = read.dav("response").unwrap();
            prop_assert_eq!(one.dav("href").unwrap().text(), href.clone());
            let told = one.dav("propstat").unwrap().dav("prop").unwrap();
            let p = told.elements().next().unwrap();
            prop_assert_eq!(&p.name.ns, &ns);
            prop_assert_eq!(p.text(), value.replace(|c: char| c < ' ', "\u{fffd}"));
            prop_assert_eq!(super::super::headers::address(&href, "/dav", |_| true).unwrap()[1..].concat(), name);
        }
    }
}
