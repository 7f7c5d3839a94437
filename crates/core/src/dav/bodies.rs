//! What the bodies of PROPFIND, PROPPATCH, LOCK and REPORT ask for.

use super::xml::{Child, Element, XmlError};
use super::{DAV, PropName};

/// Why a body is refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BodyError {
    /// Not to be read as XML.
    #[error("{0}")]
    Xml(#[from] XmlError),
    /// Well-formed, and not what the method takes.
    #[error("{0}")]
    Other(&'static str),
}

/// Which properties are wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// All that are stored or cheap, and these too.
    All(Vec<PropName>),
    /// The names of all.
    Names,
    /// Exactly these.
    These(Vec<PropName>),
}

fn names(of: &Element) -> Vec<PropName> {
    let mut found: Vec<PropName> = Vec::new();
    for element in of.elements() {
        if !found.contains(&element.name) {
            found.push(element.name.clone());
        }
    }
    found
}

/// Reads a PROPFIND; an empty body asks for all.
pub fn propfind(body: &[u8]) -> Result<Wanted, BodyError> {
    if body.is_empty() {
        return Ok(Wanted::All(Vec::new()));
    }
    let top = Element::read(body)?;
    if !top.name.is_dav("propfind") {
        return Err(BodyError::Other("a PROPFIND brings a DAV:propfind"));
    }
    if let Some(these) = top.dav("prop") {
        return Ok(Wanted::These(names(these)));
    }
    if top.dav("propname").is_some() {
        return Ok(Wanted::Names);
    }
    match top.dav("allprop") {
        Some(_) => Ok(Wanted::All(top.dav("include").map(names).unwrap_or_default())),
        None => Err(BodyError::Other("a DAV:propfind holds DAV:prop, DAV:propname or DAV:allprop")),
    }
}

/// A change of one property.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Its new value, as an element with its name.
    Set(Element),
    /// It goes.
    Remove(PropName),
}

impl Change {
    /// Which property.
    pub fn name(&self) -> &PropName {
        match self {
            Change::Set(element) => &element.name,
            Change::Remove(name) => name,
        }
    }
}

/// Reads a PROPPATCH: changes in the order in which they are to be made.
pub fn proppatch(body: &[u8]) -> Result<Vec<Change>, BodyError> {
    let top = Element::read(body)?;
    if !top.name.is_dav("propertyupdate") {
        return Err(BodyError::Other("a PROPPATCH brings a DAV:propertyupdate"));
    }
    let mut changes = Vec::new();
    for step in top.elements().filter(|e| e.name.ns == DAV) {
        let set = match step.name.name.as_str() {
            "set" => true,
            "remove" => false,
            _ => continue,
        };
        let language = step.attributes.iter().find(|(n, _, _)| n.name == "lang").cloned();
        for prop in step.elements().filter(|e| e.name.is_dav("prop")) {
            let language =
                prop.attributes.iter().find(|(n, _, _)| n.name == "lang").cloned().or(language.clone());
            for value in prop.elements() {
                if !set {
                    changes.push(Change::Remove(value.name.clone()));
                    continue;
                }
                let mut value = value.clone();
                if let Some(language) = &language
                    && !value.attributes.iter().any(|(n, _, _)| n.name == "lang")
                {
                    value.attributes.push(language.clone());
                }
                changes.push(Change::Set(value));
            }
        }
    }
    match changes.is_empty() {
        true => Err(BodyError::Other("a DAV:propertyupdate sets or removes at least one property")),
        false => Ok(changes),
    }
}

/// A lock that is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lock {
    /// Whether nobody else may hold one.
    pub exclusive: bool,
    /// Who says to hold it: the DAV:owner element as it came.
    pub owner: Option<String>,
}

/// The longest owner that is kept, in bytes.
const LONGEST_OWNER: usize = 4096;

/// Reads a LOCK; an empty body refreshes one: none.
pub fn lock(body: &[u8]) -> Result<Option<Lock>, BodyError> {
    if body.is_empty() {
        return Ok(None);
    }
    let top = Element::read(body)?;
    if !top.name.is_dav("lockinfo") {
        return Err(BodyError::Other("a LOCK brings a DAV:lockinfo"));
    }
    if top.dav("locktype").is_none_or(|t| t.dav("write").is_none()) {
        return Err(BodyError::Other("only locks of the type DAV:write are known"));
    }
    let scope = top.dav("lockscope");
    let (exclusive, shared) = (
        scope.is_some_and(|s| s.dav("exclusive").is_some()),
        scope.is_some_and(|s| s.dav("shared").is_some()),
    );
    if exclusive == shared {
        return Err(BodyError::Other("a lock is either DAV:exclusive or DAV:shared"));
    }
    let owner = top.dav("owner").map(|owner| {
        let mut text = String::new();
        owner.write(&mut text);
        text
    });
    if owner.as_ref().is_some_and(|o| o.len() > LONGEST_OWNER) {
        return Err(BodyError::Other("the owner of the lock is longer than 4096 bytes"));
    }
    Ok(Some(Lock { exclusive, owner }))
}

/// A REPORT.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Report {
    /// RFC 6578: what changed since a token.
    Changes {
        /// The token; empty at the beginning.
        since: String,
        /// With all beneath, or only what lies in the collection.
        deep: bool,
        /// The most that may come at once.
        most: Option<u64>,
        /// Which properties.
        wanted: Vec<PropName>,
    },
    /// RFC 3253, section 3.7: the states of a file.
    States(Vec<PropName>),
    /// RFC 3253, section 3.8: properties of what other properties point to. One level.
    Expand(Vec<(PropName, Vec<PropName>)>),
    /// Another one.
    Unknown(PropName),
}

/// Reads a REPORT. `depth_infinity`: what the Depth header says, for senders that leave the level out.
pub fn report(body: &[u8], depth_infinity: bool) -> Result<Report, BodyError> {
    let top = Element::read(body)?;
    let wanted = top.dav("prop").map(names).unwrap_or_default();
    match (top.name.ns.as_str(), top.name.name.as_str()) {
        (DAV, "sync-collection") => {
            let deep = match top.dav("sync-level").map(|e| e.text().trim().to_ascii_lowercase()).as_deref() {
                Some("1") => false,
                Some("infinite" | "infinity") => true,
                Some(_) => return Err(BodyError::Other("DAV:sync-level is 1 or infinite")),
                None => depth_infinity,
            };
            let most = match top.dav("limit").and_then(|l| l.dav("nresults")) {
                None => None,
                Some(n) => match n.text().trim().parse::<u64>() {
                    Ok(n) if n > 0 => Some(n),
                    _ => return Err(BodyError::Other("DAV:nresults is a number above zero")),
                },
            };
            let since = top.dav("sync-token").map(|t| t.text().trim().to_string()).unwrap_or_default();
            Ok(Report::Changes { since, deep, most, wanted })
        }
        (DAV, "version-tree") => Ok(Report::States(wanted)),
        (DAV, "expand-property") => {
            let name = |e: &Element| {
                let of = |what: &str| {
                    e.attributes
                        .iter()
                        .find(|(n, _, _)| n.name == what && n.ns.is_empty())
                        .map(|(_, _, v)| v.clone())
                };
                Some(PropName { ns: of("namespace").unwrap_or_else(|| DAV.into()), name: of("name")? })
            };
            let of = |e: &Element| {
                e.elements().filter(|c| c.name.is_dav("property")).filter_map(name).collect::<Vec<_>>()
            };
            let asked = top.elements().filter(|e| e.name.is_dav("property"));
            Ok(Report::Expand(asked.filter_map(|e| Some((name(e)?, of(e)))).collect()))
        }
        _ => Ok(Report::Unknown(top.name.clone())),
    }
}

/// A property's value as an element around text.
pub fn with_text(name: PropName, text: &str) -> Element {
    Element { children: vec![Child::Text(text.into())], ..Element::empty(name) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies_say_what_they_want() {
        assert_eq!(propfind(b""), Ok(Wanted::All(vec![])));
        let these =
            br#"<propfind xmlns="DAV:"><prop><getetag/><x xmlns="urn:y"/><getetag/></prop></propfind>"#;
        assert_eq!(
            propfind(these),
            Ok(Wanted::These(vec![PropName::dav("getetag"), PropName::new("urn:y", "x")]))
        );
        assert_eq!(propfind(br#"<a:propfind xmlns:a="DAV:"><a:propname/></a:propfind>"#), Ok(Wanted::Names));
        let all = br#"<propfind xmlns="DAV:"><allprop/><include><sync-token/></include></propfind>"#;
        assert_eq!(propfind(all), Ok(Wanted::All(vec![PropName::dav("sync-token")])));
        assert!(propfind(b"<propfind/>").is_err(), "no namespace: nothing of WebDAV's");
        assert!(propfind(br#"<propfind xmlns="DAV:"/>"#).is_err());
    }

    #[test]
    fn changes_keep_their_order_and_language() {
        let body = br#"<D:propertyupdate xmlns:D="DAV:" xmlns:z="urn:z"><D:remove><D:prop><z:a/></D:prop></D:remove>
          <D:set><D:prop xml:lang="de"><z:a>neu</z:a><z:b xml:lang="en">new</z:b></D:prop></D:set></D:propertyupdate>"#;
        let changes = proppatch(body).unwrap();
        assert_eq!(changes[0], Change::Remove(PropName::new("urn:z", "a")));
        let Change::Set(a) = &changes[1] else { panic!("{changes:?}") };
        assert_eq!((a.text().as_str(), a.attributes[0].2.as_str()), ("neu", "de"));
        let Change::Set(b) = &changes[2] else { panic!("{changes:?}") };
        assert_eq!(b.attributes[0].2, "en");
        assert!(proppatch(br#"<propertyupdate xmlns="DAV:"/>"#).is_err());
    }

    #[test]
    fn locks_and_reports_are_read() {
        let body =
            br#"<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype>
          <owner><href>mailto:ines@attic.example</href></owner></lockinfo>"#;
        let asked = lock(body).unwrap().unwrap();
        assert!(asked.exclusive && asked.owner.unwrap().contains("mailto:ines@attic.example"));
        assert_eq!(lock(b""), Ok(None));
        for bad in [
            &br#"<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope></lockinfo>"#[..],
            br#"<lockinfo xmlns="DAV:"><locktype><write/></locktype></lockinfo>"#,
            br#"<lockinfo xmlns="DAV:"><lockscope><shared/><exclusive/></lockscope><locktype><write/></locktype></lockinfo>"#,
        ] {
            assert!(lock(bad).is_err());
        }
        let sync = br#"<sync-collection xmlns="DAV:"><sync-token/><sync-level>infinite</sync-level>
          <limit><nresults>5</nresults></limit><prop><getetag/></prop></sync-collection>"#;
        let wanted = vec![PropName::dav("getetag")];
        assert_eq!(
            report(sync, false),
            Ok(Report::Changes { since: String::new(), deep: true, most: Some(5), wanted })
        );
        assert!(
            report(br#"<sync-collection xmlns="DAV:"><sync-level>2</sync-level></sync-collection>"#, false)
                .is_err()
        );
        assert_eq!(report(br#"<acl xmlns="DAV:"/>"#, false), Ok(Report::Unknown(PropName::dav("acl"))));
    }
}
