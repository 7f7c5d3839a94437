//! Lines of the record.

use crate::http::times::show;
use yellow_attic_api as api;

pub fn line(row: yellow_attic_store::people::record::Recorded) -> api::RecordLine {
    let mut fields = row.fields.into_iter();
    let mut next = || fields.next().unwrap_or_default();
    let (action, _who, device, from, what, detail) = (next(), next(), next(), next(), next(), next());
    api::RecordLine { id: row.id, at: show(row.at), action, what, detail, device, from }
}
