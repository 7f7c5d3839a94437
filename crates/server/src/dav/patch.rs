//! PROPPATCH: properties that programs keep, and a file's own time. All of it happens, or nothing.

use super::props::{is_modified, live};
use super::spot::Spot;
use super::{Answered, Asked, XML, bad_body, change};
use yellow_attic_core::dav::bodies::{self, Change};
use yellow_attic_core::dav::{PropName, answer};
use yellow_attic_store::StoreError;

/// Reads the time that a client sets: as in HTTP, or RFC 3339.
fn time(text: &str) -> Option<i64> {
    let text = text.trim();
    crate::http::times::read(text).or_else(|| {
        let at: std::time::SystemTime = text.parse::<actix_web::http::header::HttpDate>().ok()?.into();
        let ms = at.duration_since(std::time::UNIX_EPOCH).ok()?.as_millis();
        i64::try_from(ms).ok()
    })
}

/// What is to be done with one property.
enum Fate {
    Done,
    /// The service keeps it by itself.
    Protected,
    /// Its value cannot be.
    Refused(&'static str),
}

/// Answers a PROPPATCH.
pub async fn answer(asked: &Asked<'_>, spot: Spot, body: &[u8]) -> Answered {
    let changes = bodies::proppatch(body).map_err(|e| bad_body(&e))?;
    let at = spot.node()?;
    let mut mtime = None;
    let mut kept: Vec<(PropName, Option<String>)> = Vec::new();
    let mut fates: Vec<(PropName, Fate)> = Vec::new();
    for change in &changes {
        let name = change.name().clone();
        let fate = match change {
            Change::Set(value) if is_modified(&name) && !at.row.is_folder() => match time(&value.text()) {
                Some(at) => {
                    mtime = Some(at);
                    Fate::Done
                }
                None => Fate::Refused("it is no time of HTTP or RFC 3339"),
            },
            // A folder's time is that of the last change in it. That is what is wanted of it: no refusal.
            _ if is_modified(&name) && at.row.is_folder() => Fate::Done,
            _ if live(&name).is_some() || name.is_dav("owner") => Fate::Protected,
            Change::Set(value) if value.name.name.len() > 255 || value.name.ns.len() > 1024 => {
                Fate::Refused("its name is longer than any client needs")
            }
            Change::Set(value) => {
                let mut text = String::new();
                value.write(&mut text);
                match text.len() > yellow_attic_store::ops::properties::LONGEST {
                    true => Fate::Refused("its value is longer than 64 KiB"),
                    false => {
                        kept.push((name.clone(), Some(text)));
                        Fate::Done
                    }
                }
            }
            Change::Remove(_) => {
                kept.push((name.clone(), None));
                Fate::Done
            }
        };
        match fates.iter_mut().find(|(known, _)| *known == name) {
            Some(known) if matches!(known.1, Fate::Done) => known.1 = fate,
            Some(_) => {}
            None => fates.push((name, fate)),
        }
    }
    let refused = fates.iter().any(|(_, fate)| !matches!(fate, Fate::Done));
    if !refused {
        match asked.state.engine.files().set_properties(asked.actor(), at.row.node, kept, mtime).await {
            Ok(()) => {}
            Err(e @ StoreError::Locked { .. }) => return Err(change::fault(e, &at.href)),
            Err(e) => return Err(e.into()),
        }
    }
    let (mut done, mut protected, mut bad, mut words) =
        (String::new(), String::new(), String::new(), String::new());
    for (name, fate) in &fates {
        let group = match fate {
            Fate::Done => &mut done,
            Fate::Protected => &mut protected,
            Fate::Refused(why) => {
                words.push_str(&format!("{}: {why}. ", name.name));
                &mut bad
            }
        };
        answer::prop(group, name, |_| {});
    }
    let mut out = answer::BEGIN.to_string();
    out.push_str("<D:response><D:href>");
    yellow_attic_core::dav::xml::escape(&mut out, &at.href);
    out.push_str("</D:href>");
    let mut group = |props: &str, status: u16, error: &str| {
        if !props.is_empty() {
            out.push_str("<D:propstat><D:prop>");
            out.push_str(props);
            out.push_str("</D:prop><D:status>");
            out.push_str(answer::status(status));
            out.push_str("</D:status>");
            out.push_str(error);
            out.push_str("</D:propstat>");
        }
    };
    group(&done, if refused { 424 } else { 200 }, "");
    group(&protected, 403, "<D:error><D:cannot-modify-protected-property/></D:error>");
    group(&bad, 409, "");
    if !words.is_empty() {
        out.push_str("<D:responsedescription>");
        yellow_attic_core::dav::xml::escape(&mut out, words.trim());
        out.push_str("</D:responsedescription>");
    }
    out.push_str("</D:response>\n");
    out.push_str(answer::END);
    Ok(super::find::multi_status().content_type(XML).body(out))
}
