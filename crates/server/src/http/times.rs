//! Times as they stand outside: RFC 3339, UTC.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use jiff::Timestamp;
use yellow_attic_core::Moment;
use yellow_attic_store::Engine;

/// The day it is, in UTC.
pub fn today(now_ms: i64) -> jiff::civil::Date {
    let at = jiff::Timestamp::from_millisecond(now_ms).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    at.to_zoned(jiff::tz::TimeZone::UTC).date()
}

/// Milliseconds since 1970 as RFC 3339.
pub fn show(ms: i64) -> String {
    Timestamp::from_millisecond(ms).map_or_else(|_| String::new(), |t| t.to_string())
}

/// Reads RFC 3339 into milliseconds.
pub fn read(text: &str) -> Option<i64> {
    text.parse::<Timestamp>().ok().map(Timestamp::as_millisecond)
}

/// Reads a time that was sent, or says how to write it.
pub fn wanted(text: &str) -> Result<i64, Refusal> {
    read(text).ok_or_else(|| refusals::TIME_MALFORMED.of(&format!("\"{text}\" is no RFC 3339 time.")))
}

/// An HTTP date (RFC 9110, section 5.6.7).
pub fn http_date(ms: i64) -> String {
    Timestamp::from_millisecond(ms)
        .map_or_else(|_| String::new(), |t| t.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string())
}

/// Reads a moment's token or a time.
pub async fn moment(engine: &Engine, text: &str) -> Result<Moment, Refusal> {
    if let Some(moment) = Moment::from_token(text) {
        return Ok(moment);
    }
    match read(text) {
        Some(ms) => Ok(engine.history().moment_at(ms).await?),
        None => Err(refusals::TIME_MALFORMED.with(
            &format!("\"{text}\" is neither a moment's token nor an RFC 3339 time."),
            "Write it like 2026-11-02T16:20:00Z, or take a moment from a history.",
        )),
    }
}
