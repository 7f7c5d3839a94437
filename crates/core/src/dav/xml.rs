//! Small XML bodies as trees. Nothing is fetched, no entity is expanded but the five that XML has by
//! itself, a document type is refused, and depth and number of elements are limited.

use super::PropName;
use quick_xml::events::{BytesStart, Event};
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;

/// The deepest that elements may lie in each other.
const DEEPEST: usize = 48;
/// The most elements of one body.
const MOST: usize = 4096;

/// An element.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Element {
    /// Its name.
    pub name: PropName,
    /// The prefix under which it came; empty for none.
    pub prefix: String,
    /// Its attributes: prefix, name, value. Declarations of namespaces are not among them.
    pub attributes: Vec<(PropName, String, String)>,
    /// What is in it.
    pub children: Vec<Child>,
}

/// What is in an element.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Child {
    /// An element.
    Element(Element),
    /// Text.
    Text(String),
}

/// Why a body is refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum XmlError {
    /// Not well-formed, or not UTF-8.
    #[error("the XML is malformed: {0}")]
    Malformed(String),
    /// It brings a document type, and with it entities.
    #[error("the XML brings a document type or an entity of its own")]
    Entities,
    /// Deeper or longer than any client needs.
    #[error("the XML has more than {MOST} elements, or more than {DEEPEST} in each other")]
    TooMuch,
}

impl Element {
    /// An element without anything in it.
    pub fn empty(name: PropName) -> Element {
        Element { name, prefix: String::new(), attributes: Vec::new(), children: Vec::new() }
    }

    /// The elements in it.
    pub fn elements(&self) -> impl Iterator<Item = &Element> {
        self.children.iter().filter_map(|c| match c {
            Child::Element(e) => Some(e),
            Child::Text(_) => None,
        })
    }

    /// The first element of that name of WebDAV's in it.
    pub fn dav(&self, name: &str) -> Option<&Element> {
        self.elements().find(|e| e.name.is_dav(name))
    }

    /// Its text, without what is in elements.
    pub fn text(&self) -> String {
        self.children
            .iter()
            .filter_map(|c| if let Child::Text(t) = c { Some(t.as_str()) } else { None })
            .collect()
    }

    /// Reads a body.
    pub fn read(body: &[u8]) -> Result<Element, XmlError> {
        let text = std::str::from_utf8(body).map_err(|_| XmlError::Malformed("it is not UTF-8".into()))?;
        let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}'));
        reader.config_mut().expand_empty_elements = true;
        let (mut open, mut root, mut count) = (Vec::<Element>::new(), None, 0);
        let malformed = |e: &dyn std::fmt::Display| XmlError::Malformed(e.to_string());
        loop {
            let event = reader.read_event().map_err(|e| malformed(&e))?;
            match event {
                Event::Start(start) => {
                    count += 1;
                    if count > MOST || open.len() >= DEEPEST {
                        return Err(XmlError::TooMuch);
                    }
                    if root.is_some() {
                        return Err(XmlError::Malformed("more than one element at the top".into()));
                    }
                    open.push(element(&reader, &start)?);
                }
                Event::End(_) => {
                    let Some(done) = open.pop() else {
                        return Err(XmlError::Malformed("an end too many".into()));
                    };
                    match open.last_mut() {
                        Some(above) => above.children.push(Child::Element(done)),
                        None => root = Some(done),
                    }
                }
                Event::Text(text) => {
                    let text = text.xml10_content();
                    add_text(&mut open, &text)?;
                }
                Event::CData(text) => {
                    let text = text.xml10_content();
                    add_text(&mut open, &text)?;
                }
                Event::GeneralRef(entity) => {
                    let of_number = entity.resolve_char_ref().map_err(|e| malformed(&e))?;
                    let text = match of_number {
                        Some(c) if is_char(c) => c.to_string(),
                        Some(_) => {
                            return Err(XmlError::Malformed("a character that XML does not have".into()));
                        }
                        None => {
                            let known = quick_xml::escape::resolve_predefined_entity(&entity);
                            known.ok_or(XmlError::Entities)?.to_string()
                        }
                    };
                    add_text(&mut open, &text)?;
                }
                Event::DocType(_) => return Err(XmlError::Entities),
                Event::Eof => break,
                Event::Decl(_) | Event::Comment(_) | Event::PI(_) | Event::Empty(_) => {}
            }
        }
        if !open.is_empty() {
            return Err(XmlError::Malformed("it ends within an element".into()));
        }
        root.ok_or_else(|| XmlError::Malformed("there is no element".into()))
    }

    /// Writes it, with every namespace it needs.
    pub fn write(&self, out: &mut String) {
        let prefix = match self.prefix.as_str() {
            "xml" | "xmlns" | "D" => "",
            other => other,
        };
        let tag =
            if prefix.is_empty() { self.name.name.clone() } else { format!("{prefix}:{}", self.name.name) };
        out.push('<');
        out.push_str(&tag);
        match (prefix.is_empty(), self.name.ns.is_empty()) {
            (true, _) => push_attribute(out, "xmlns", &self.name.ns),
            (false, _) => push_attribute(out, &format!("xmlns:{prefix}"), &self.name.ns),
        }
        for (i, (name, _, value)) in self.attributes.iter().enumerate() {
            match name.ns.as_str() {
                "" => push_attribute(out, &name.name, value),
                XML => push_attribute(out, &format!("xml:{}", name.name), value),
                ns => {
                    push_attribute(out, &format!("xmlns:a{i}"), ns);
                    push_attribute(out, &format!("a{i}:{}", name.name), value);
                }
            }
        }
        if self.children.is_empty() {
            out.push_str("/>");
            return;
        }
        out.push('>');
        for child in &self.children {
            match child {
                Child::Element(e) => e.write(out),
                Child::Text(t) => escape(out, t),
            }
        }
        out.push_str("</");
        out.push_str(&tag);
        out.push('>');
    }
}

/// The namespace of `xml:lang`.
pub const XML: &str = "http://www.w3.org/XML/1998/namespace";

fn is_char(c: char) -> bool {
    matches!(c, '\t' | '\n' | '\r') || (c >= ' ' && c != '\u{fffe}' && c != '\u{ffff}')
}

fn add_text(open: &mut [Element], text: &str) -> Result<(), XmlError> {
    if !text.chars().all(is_char) {
        return Err(XmlError::Malformed("a character that XML does not have".into()));
    }
    match open.last_mut() {
        None if text.trim().is_empty() => {}
        None => return Err(XmlError::Malformed("text outside of any element".into())),
        Some(element) => match element.children.last_mut() {
            Some(Child::Text(before)) => before.push_str(text),
            _ => element.children.push(Child::Text(text.to_string())),
        },
    }
    Ok(())
}

fn element(reader: &NsReader<&[u8]>, start: &BytesStart<'_>) -> Result<Element, XmlError> {
    let utf8 = |text: &str| text.to_string();
    let malformed = |e: &dyn std::fmt::Display| XmlError::Malformed(e.to_string());
    let resolved = |found: ResolveResult<'_>| match found {
        // As it stands in the text: not unescaped yet.
        ResolveResult::Bound(ns) => {
            quick_xml::escape::unescape(ns.as_ref()).map(|ns| ns.into_owned()).map_err(|_| XmlError::Entities)
        }
        ResolveResult::Unbound => Ok(String::new()),
        ResolveResult::Unknown(prefix) => {
            Err(XmlError::Malformed(format!("the prefix \"{}\" is bound to nothing", utf8(&prefix))))
        }
    };
    let (ns, local) = reader.resolver().resolve_element(start.name());
    let name = PropName { ns: resolved(ns)?, name: utf8(local.as_ref()) };
    let prefix = start.name().prefix().map(|p| utf8(p.as_ref())).unwrap_or_default();
    let mut attributes = Vec::new();
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|e| malformed(&e))?;
        let value = attribute
            .normalized_value(quick_xml::XmlVersion::Implicit1_0)
            .map_err(|_| XmlError::Entities)?
            .into_owned();
        if !value.chars().all(is_char) {
            return Err(XmlError::Malformed("a character that XML does not have".into()));
        }
        if let Some(bound) = attribute.key.as_namespace_binding() {
            // A prefix cannot be bound to nothing (Namespaces in XML 1.0, section 2.2).
            if value.is_empty() && !matches!(bound, quick_xml::name::PrefixDeclaration::Default) {
                return Err(XmlError::Malformed("a prefix is bound to nothing".into()));
            }
            continue;
        }
        let (ns, local) = reader.resolver().resolve_attribute(attribute.key);
        let name = PropName { ns: resolved(ns)?, name: utf8(local.as_ref()) };
        let prefix = attribute.key.prefix().map(|p| utf8(p.as_ref())).unwrap_or_default();
        attributes.push((name, prefix, value));
    }
    Ok(Element { name, prefix, attributes, children: Vec::new() })
}

fn push_attribute(out: &mut String, name: &str, value: &str) {
    out.push(' ');
    out.push_str(name);
    out.push_str("=\"");
    for c in value.chars() {
        match c {
            '"' => out.push_str("&quot;"),
            '\t' | '\n' | '\r' => out.push_str(&format!("&#{};", c as u32)),
            c => escape_one(out, c),
        }
    }
    out.push('"');
}

fn escape_one(out: &mut String, c: char) {
    match c {
        '&' => out.push_str("&amp;"),
        '<' => out.push_str("&lt;"),
        '>' => out.push_str("&gt;"),
        '\r' => out.push_str("&#13;"),
        c if is_char(c) => out.push(c),
        _ => out.push('\u{fffd}'),
    }
}

/// Writes text so that it is text.
pub fn escape(out: &mut String, text: &str) {
    if !text.bytes().any(|b| b < 0x20 || matches!(b, b'&' | b'<' | b'>' | 0xef)) {
        out.push_str(text);
        return;
    }
    text.chars().for_each(|c| escape_one(out, c));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn namespaces_are_resolved_and_kept() {
        let body = br#"<?xml version="1.0"?><a:top xmlns:a="DAV:" xmlns="urn:x"><plain xml:lang="de">T&amp;&#228;<![CDATA[<x>]]></plain><none xmlns=""/></a:top>"#;
        let read = Element::read(body).unwrap();
        assert!(read.name.is_dav("top"));
        let plain = read.elements().next().unwrap();
        assert_eq!((plain.name.clone(), plain.text()), (PropName::new("urn:x", "plain"), "T&ä<x>".into()));
        assert_eq!(plain.attributes[0].0, PropName::new(XML, "lang"));
        assert_eq!(read.elements().nth(1).unwrap().name, PropName::new("", "none"));
        let mut out = String::new();
        read.write(&mut out);
        let again = Element::read(out.as_bytes()).unwrap();
        assert_eq!(again.elements().next().unwrap().text(), "T&ä<x>");
    }

    #[test]
    fn bombs_and_outside_things_are_refused() {
        let bomb = r#"<!DOCTYPE l [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><l>&b;</l>"#;
        let outside = r#"<!DOCTYPE l SYSTEM "file:///etc/passwd"><l/>"#;
        for text in [bomb, outside, "<l>&b;</l>", r#"<l a="&b;"/>"#] {
            assert_eq!(Element::read(text.as_bytes()), Err(XmlError::Entities), "{text}");
        }
        assert_eq!(Element::read("<a>".repeat(100).as_bytes()), Err(XmlError::TooMuch));
        let wide = format!("<l>{}</l>", "<a/>".repeat(MOST));
        assert_eq!(Element::read(wide.as_bytes()), Err(XmlError::TooMuch));
        for bad in [
            "",
            "text",
            "<a>",
            "<a></b>",
            "<a/><b/>",
            "<x:a/>",
            r#"<a xmlns:x=""><x:b/></a>"#,
            "<a>&#0;</a>",
            "<a>\u{1}</a>",
            "<a b='1' b='2'/>",
            "<a/>x",
        ] {
            assert!(matches!(Element::read(bad.as_bytes()), Err(XmlError::Malformed(_))), "{bad}");
        }
        assert!(Element::read(b"<a>\xff</a>").is_err());
    }

    fn trees() -> impl Strategy<Value = Element> {
        let name = ("(|urn:[ab]|DAV:)", "[a-c]").prop_map(|(ns, n)| PropName::new(&ns, &n));
        let leaf = (name, "[ -~äß\u{1f600}]{0,8}").prop_map(|(name, text)| Element {
            children: if text.is_empty() { vec![] } else { vec![Child::Text(text)] },
            ..Element::empty(name)
        });
        leaf.prop_recursive(4, 24, 4, |inner| {
            ("[a-c]", prop::collection::vec(inner, 0..4)).prop_map(|(name, children)| Element {
                prefix: "p".into(),
                children: children.into_iter().map(Child::Element).collect(),
                ..Element::empty(PropName::new("urn:top", &name))
            })
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_the_same(tree in trees()) {
            let mut out = String::new();
            tree.write(&mut out);
            prop_assert_eq!(Element::read(out.as_bytes()).unwrap(), tree);
        }

        #[test]
        fn no_body_makes_the_reader_fail(text in "[<>/a:x=\"'&#;! \\[\\]-]{0,60}") {
            let _ = Element::read(text.as_bytes());
        }
    }
}
