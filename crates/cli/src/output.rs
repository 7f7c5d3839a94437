//! What is printed, and how a command ends.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::process::ExitCode;
use yellow_attic_client::{Error, api};
use yellow_attic_core::size::human;
use yellow_attic_sync::computer::Refused;

/// How to print.
#[derive(Clone, Copy)]
pub struct Output {
    /// The service's own objects.
    pub json: bool,
    /// Results only.
    pub quiet: bool,
}

impl Output {
    /// Prints an object of the API, if JSON is wanted. Returns whether it did.
    pub fn object(self, value: &impl serde::Serialize) -> Result<bool, Failure> {
        if self.json {
            println!(
                "{}",
                serde_json::to_string_pretty(value).map_err(|e| Failure::failed(e.to_string(), ""))?
            );
        }
        Ok(self.json)
    }

    /// Tells that something is done: the object it was done to, or a sentence for people.
    pub fn done(self, object: &impl serde::Serialize, text: impl AsRef<str>) -> Done {
        if !self.object(object)? {
            self.say(text);
        }
        Ok(())
    }

    /// Prints a remark for people.
    pub fn say(self, text: impl AsRef<str>) {
        if !self.json && !self.quiet {
            println!("{}", text.as_ref());
        }
    }
}

/// Why a command did not do all it was asked.
pub struct Failure {
    status: u8,
    code: &'static str,
    problem: Option<Box<api::Problem>>,
    text: String,
    remedy: String,
}

impl Failure {
    /// Refused or failed: exit status 1.
    pub fn failed(text: impl Into<String>, remedy: impl Into<String>) -> Failure {
        Failure { status: 1, code: "failed", problem: None, text: text.into(), remedy: remedy.into() }
    }

    /// The same, with a code of its own for scripts.
    pub fn coded(self, code: &'static str) -> Failure {
        Failure { code, ..self }
    }

    /// Wrong usage: exit status 2.
    pub fn usage(text: impl Into<String>, remedy: impl Into<String>) -> Failure {
        Failure { status: 2, code: "usage", ..Failure::failed(text, remedy) }
    }

    /// Somebody stopped it: exit status 130, as by the signal.
    pub fn stopped(text: impl Into<String>, remedy: impl Into<String>) -> Failure {
        Failure { status: 130, code: "stopped", ..Failure::failed(text, remedy) }
    }

    /// Partly done: exit status 3. Each item's fate was printed.
    pub fn partly(text: impl Into<String>) -> Failure {
        Failure { status: 3, code: "partly_done", ..Failure::failed(text, "") }
    }

    /// Its code: the service's, where that refused.
    pub fn code(&self) -> &str {
        self.problem.as_ref().map_or(self.code, |problem| &problem.code)
    }

    /// What it says.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// What to do about it.
    pub fn remedy(&self) -> &str {
        &self.remedy
    }

    /// Prints the failure to standard error; tells how to exit.
    pub fn report(self, output: Output) -> ExitCode {
        if output.json {
            let problem = self.problem.unwrap_or_else(|| {
                Box::new(api::Problem {
                    kind: "about:blank".into(),
                    title: "Failed".into(),
                    status: 0,
                    detail: self.text.clone(),
                    code: self.code.into(),
                    remedy: self.remedy.clone(),
                    ticket: None,
                    factors: Vec::new(),
                    present: None,
                })
            });
            eprintln!("{}", serde_json::to_string(&problem).unwrap_or_default());
        } else {
            eprintln!("yattic: {}", self.text);
            if !self.remedy.is_empty() {
                eprintln!("  {}", self.remedy);
            }
        }
        ExitCode::from(self.status)
    }
}

impl From<Error> for Failure {
    fn from(error: Error) -> Failure {
        match error {
            Error::Refused(problem) => Failure {
                status: 1,
                code: "refused",
                text: problem.detail.clone(),
                remedy: problem.remedy.clone(),
                problem: Some(problem),
            },
            Error::Line(why) => Failure::failed(
                format!("the service cannot be reached: {why}"),
                "See that it runs and that the address is right (yattic connect ADDRESS changes it).",
            )
            .coded("service_unreachable"),
            other => Failure::failed(other.to_string(), ""),
        }
    }
}

impl From<Refused> for Failure {
    fn from(refused: Refused) -> Failure {
        let status = if refused.code == "no_such_pair" { 2 } else { 1 };
        Failure { status, code: refused.code, ..Failure::failed(refused.says, refused.remedy) }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Failure {
        Failure::failed(error.to_string(), "").coded("local_error")
    }
}

/// What a command ends with.
pub type Done = Result<(), Failure>;

/// How a transfer ends: well only if each thing that was given has a fate, and none failed.
pub fn settle(sum: &yellow_attic_sync::Sum, word: &str) -> Done {
    if !sum.adds_up() {
        let told = sum.done + sum.same + sum.skipped + sum.failed;
        return Err(Failure::partly(format!(
            "of {} things only {told} have a known fate: take the others for not {word}, and give the command again",
            sum.given
        )));
    }
    match sum.failed {
        0 => Ok(()),
        failed => Err(Failure::partly(format!("{failed} of {} were not {word}", sum.given))),
    }
}

/// RFC 3339 as people read it: `today, 09:12`, `12 Nov`, `3 Nov 2025`; in this computer's zone.
pub fn time(text: &str) -> String {
    let Ok(at) = text.parse::<Timestamp>() else { return text.to_string() };
    let zone = TimeZone::system();
    let (at, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    let days = now.date().since(at.date()).map_or(999, |s| s.get_days());
    match days {
        0 => at.strftime("today, %H:%M").to_string(),
        1 => at.strftime("yesterday, %H:%M").to_string(),
        _ if at.year() == now.year() => at.strftime("%-d %b, %H:%M").to_string(),
        _ => at.strftime("%-d %b %Y, %H:%M").to_string(),
    }
}

/// `1 file`, `2 files`.
pub fn count(n: impl TryInto<i64>, word: &str) -> String {
    let n = n.try_into().unwrap_or(i64::MAX);
    format!("{n} {word}{}", if n == 1 { "" } else { "s" })
}

/// A size in binary units.
pub fn size(bytes: i64) -> String {
    human(bytes.max(0) as u64)
}

/// Milliseconds since 1970 as RFC 3339.
pub fn show_ms(ms: i64) -> Option<String> {
    Timestamp::from_millisecond(ms).ok().map(|t| t.to_string())
}

/// RFC 3339 as milliseconds since 1970.
pub fn read_ms(text: &str) -> Option<i64> {
    text.parse::<Timestamp>().ok().map(Timestamp::as_millisecond)
}

/// A moment's token as it is; a time as people write it, to RFC 3339: `2026-11-02`,
/// `2026-11-02 16:20`, in this computer's zone.
pub fn moment(text: &str) -> Result<String, Failure> {
    let token = text.len() > 1 && text.starts_with('m') && text[1..].bytes().all(|b| b.is_ascii_hexdigit());
    if token || text.parse::<Timestamp>().is_ok() {
        return Ok(text.to_string());
    }
    // A day alone means its end: what it was when that day was over.
    let local = jiff::civil::Date::strptime("%Y-%m-%d", text)
        .map(|d| d.at(23, 59, 59, 0))
        .or_else(|_| jiff::civil::DateTime::strptime("%Y-%m-%d %H:%M", text))
        .or_else(|_| text.parse::<jiff::civil::DateTime>());
    local
        .ok()
        .and_then(|l| l.to_zoned(TimeZone::system()).ok())
        .map(|z| z.timestamp().to_string())
        .ok_or_else(|| {
            Failure::usage(
                format!("\"{text}\" is no moment"),
                "Write it like 2026-11-02, \"2026-11-02 16:20\", 2026-11-02T16:20:00Z, or take one from yattic history.",
            )
        })
}

/// The same of something that has been: a time in the future is refused.
pub fn past_moment(text: &str) -> Result<String, Failure> {
    let at = moment(text)?;
    // A day that is not over yet means now.
    let today =
        text.len() == 10 && text.parse::<jiff::civil::Date>().is_ok_and(|d| d == jiff::Zoned::now().date());
    match at.parse::<Timestamp>() {
        Ok(time) if time > Timestamp::now() && today => Ok(Timestamp::now().to_string()),
        Ok(time) if time > Timestamp::now() => Err(Failure::usage(
            format!("\"{text}\" is in the future"),
            "Name a moment that has been: see yattic help moments.",
        )),
        _ => Ok(at),
    }
}

/// Prints columns, each as wide as its widest cell; `right`: which are flush right.
pub fn table(rows: &[Vec<String>], right: &[usize]) {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widths: Vec<usize> = (0..columns)
        .map(|c| rows.iter().filter_map(|r| r.get(c)).map(|t| t.chars().count()).max().unwrap_or(0))
        .collect();
    for row in rows {
        let mut text = String::new();
        for (c, cell) in row.iter().enumerate() {
            let gap = widths[c] - cell.chars().count();
            if c > 0 {
                text.push_str("  ");
            }
            if right.contains(&c) {
                text.push_str(&" ".repeat(gap));
                text.push_str(cell);
            } else {
                text.push_str(cell);
                if c + 1 < row.len() {
                    text.push_str(&" ".repeat(gap));
                }
            }
        }
        println!("{text}");
    }
}
