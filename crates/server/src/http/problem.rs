//! How refusals look: one table from the kind of an error to status, code and remedy.

use crate::http::refusals::{self, Kind, Say};
use actix_web::error::JsonPayloadError;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use yellow_attic_api::{Present, Problem};
use yellow_attic_core::cursor::CursorError;
use yellow_attic_core::intake::KindError;
use yellow_attic_core::rules::RuleError;
use yellow_attic_core::size::human;
use yellow_attic_store::StoreError;

/// A refusal on its way out.
#[derive(Debug)]
pub struct Refusal {
    problem: Box<Problem>,
    retry_after_s: Option<i64>,
    /// What the desk hears of it, and nobody else.
    damage: Option<String>,
}

/// A damaged row that an answer came across, on its way to the desk.
pub struct Damage(pub String);

impl Refusal {
    /// A refusal in words.
    pub fn new(status: u16, code: &str, title: &str, detail: &str, remedy: &str) -> Refusal {
        Refusal {
            problem: Box::new(Problem {
                kind: "about:blank".into(),
                title: title.into(),
                status,
                detail: detail.into(),
                code: code.into(),
                remedy: remedy.into(),
                ticket: None,
                factors: Vec::new(),
                present: None,
            }),
            retry_after_s: None,
            damage: None,
        }
    }

    /// The same, with what it is about said first.
    pub fn about(mut self, what: &str) -> Refusal {
        self.problem.detail = format!("{what}: {}", self.problem.detail);
        self
    }

    /// With another status than its kind has as a rule.
    pub fn status(mut self, status: u16) -> Refusal {
        self.problem.status = status;
        self
    }

    /// Says when to try again.
    pub fn retry_after(self, seconds: i64) -> Refusal {
        Refusal { retry_after_s: Some(seconds), ..self }
    }

    /// Tells how to go on: with which ticket, and what kinds of second factors.
    pub fn go_on(mut self, ticket: String, factors: Vec<String>) -> Refusal {
        self.problem.ticket = Some(ticket);
        self.problem.factors = factors;
        self
    }

    /// Nothing there, or nothing the caller may know of: the same answer.
    pub fn not_found(what: &str) -> Refusal {
        refusals::NOT_FOUND.with(&format!("{what} was not found."), where_to_look(what))
    }

    /// Its stable word.
    pub fn code(&self) -> &str {
        &self.problem.code
    }

    /// As a part of a longer answer.
    pub fn into_problem(self) -> Problem {
        *self.problem
    }

    /// More at once than is served.
    pub fn crowded() -> Refusal {
        refusals::TOO_MANY_AT_ONCE
            .of("As many answers are under way by this connection, or by this address, as may be.")
            .retry_after(2)
    }

    /// Malformed input.
    pub fn bad(code: &str, detail: &str, remedy: &str) -> Refusal {
        Refusal::new(400, code, "The request is malformed", detail, remedy)
    }
}

impl std::fmt::Display for Refusal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.problem.detail)
    }
}

/// What to do about something that is not there, by what it is.
fn where_to_look(what: &str) -> &'static str {
    const BY_WHAT: [(&str, &str); 25] = [
        ("The invitation", "It was used, or has ended: make another one on the account's page."),
        ("The shelf", "See which shelves you may enter: on the first page, or by yattic shelf ls."),
        ("The link", "It was ended, or is somebody else's: see Given out, or yattic given-out."),
        ("The opening", "It was ended, or is somebody else's: see Given out, or yattic given-out."),
        ("What it opens", "It was removed: whoever gave you the address can bring it back."),
        ("The share", "It was taken back, or is somebody else's: see Given out, or yattic given-out."),
        ("The grant", "It was taken back already: yattic who PATH lists what there is."),
        (
            "The snapshot",
            "It has ended, or is of another shelf: yattic snapshot ls SHELF lists those that there are.",
        ),
        ("The rollback", "Take its number from the answer to the rollback, or from the folder's page."),
        ("The lock", "Nobody holds it any more: go on."),
        ("The letter", "It was sent, or given up: yattic mail ls lists the latest."),
        ("The address", "See how it is written; /api/openapi.json lists what there is."),
        (
            "The account",
            "See how its sign-in name is written: on the Desk under People, or by yattic account ls.",
        ),
        ("The group", "See how its name is written: on the Desk under People, or by yattic group ls."),
        ("The home of", "That account has no shelf of its own; name another one."),
        (
            "An account",
            "See on the Desk under People, or by yattic account ls, which accounts will be deleted.",
        ),
        ("The upload", "It was finished, ended, or given up after three days: begin it again."),
        ("The delivery", "It was finished or given up: begin a new one."),
        ("The device", "It was disconnected already: see Devices, or yattic device ls."),
        ("The session", "It has ended already."),
        ("The ticket", "It counts once, for ten minutes: begin again."),
        ("The version", "Its bytes went by a rule, or never were: its history lists what is held."),
        ("The state", "Its bytes went by a rule, or never were: its history lists what is held."),
        ("The archive", "It was gathered more than an hour ago, or for somebody else: gather it again."),
        ("The alarm", "It was settled, or is of a shelf that you do not manage: see the Desk."),
    ];
    let found = BY_WHAT.iter().find(|(begins, _)| what.starts_with(begins));
    found.map_or(
        "Look at the folder it should be in; something removed can be found on its time strip.",
        |(_, remedy)| remedy,
    )
}

impl ResponseError for Refusal {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut answer = HttpResponse::build(self.status_code());
        answer.content_type("application/problem+json");
        if let Some(seconds) = self.retry_after_s {
            answer.insert_header(("Retry-After", seconds.to_string()));
        }
        if self.problem.status == 401 {
            answer.insert_header(("WWW-Authenticate", "Bearer"));
        }
        let mut answer = answer.body(serde_json::to_vec(&self.problem).unwrap_or_default());
        if let Some(damage) = &self.damage {
            answer.extensions_mut().insert(Damage(damage.clone()));
        }
        answer
    }
}

/// What an error is, where its own words say all there is to say.
fn plain(error: &StoreError) -> Option<&'static Kind> {
    Some(match error {
        StoreError::NameUnusable(_) => &refusals::NAME_UNUSABLE,
        StoreError::HoldsOthers => &refusals::HOLDS_OTHERS,
        StoreError::Widens(_) => &refusals::WIDENS,
        StoreError::LastAdministrator => &refusals::LAST_ADMINISTRATOR,
        StoreError::NameTaken(_) => &refusals::NAME_TAKEN,
        StoreError::FolderInTheWay(_) => &refusals::FOLDER_IN_THE_WAY,
        StoreError::NotAFolder(_) => &refusals::NOT_A_FOLDER,
        StoreError::NotAFile(_) => &refusals::NOT_A_FILE,
        StoreError::ConditionFailed { .. } => &refusals::CHANGED_MEANWHILE,
        StoreError::IntoItself => &refusals::INTO_ITSELF,
        StoreError::TooDeep(_) => &refusals::PATH_TOO_DEEP,
        StoreError::ShelfTop => &refusals::SHELF_TOP,
        StoreError::Exists(_) => &refusals::EXISTS,
        StoreError::ShortBody { .. } | StoreError::BrokenBody(_) => &refusals::BODY_CUT_SHORT,
        StoreError::MoreThanAnnounced(_) => &refusals::MORE_THAN_ANNOUNCED,
        StoreError::LengthKnown(_) => &refusals::LENGTH_KNOWN,
        StoreError::BrokenPart(_) => &refusals::PART_CUT_SHORT,
        StoreError::WrongOffset { .. } => &refusals::WRONG_OFFSET,
        StoreError::WrongHash => &refusals::WRONG_HASH,
        StoreError::TakenOver => &refusals::TAKEN_OVER,
        StoreError::TooManyUploads(_) => &refusals::TOO_MANY_UPLOADS,
        StoreError::TooMany(_) => &refusals::ARCHIVE_TOO_LARGE,
        StoreError::TooLarge(_) => &refusals::FILE_TOO_LARGE,
        StoreError::PlanStale => &refusals::PLAN_STALE,
        StoreError::NotHeld(_) => &refusals::NOT_HELD,
        StoreError::RollingBack(_) => &refusals::ROLLING_BACK,
        StoreError::NotThereYet { .. } => &refusals::NOT_THERE_YET,
        StoreError::NewerState { .. } => &refusals::NEWER_STATE,
        StoreError::KeptByRule(..) => &refusals::KEPT,
        StoreError::OpeningRefused { .. } => &refusals::OPENING_REFUSED,
        StoreError::BadEnding(_) => &refusals::ENDING_CANNOT_BE,
        StoreError::EndingTaken(_) => &refusals::ENDING_TAKEN,
        StoreError::UsedUp => &refusals::USED_UP,
        StoreError::OtherKind(KindError::Unknown(_)) => &refusals::KIND_UNKNOWN,
        StoreError::OtherKind(KindError::Other { .. }) => &refusals::KIND_NOT_TAKEN,
        StoreError::OtherKind(KindError::Lies { .. }) => &refusals::KIND_LIES,
        StoreError::DeliveryDone => &refusals::DELIVERY_DONE,
        StoreError::NothingDelivered => &refusals::NOTHING_DELIVERED,
        StoreError::OtherDevice(_) | StoreError::NoStore(_) => &refusals::NO_STORE,
        StoreError::BytesMissing(_) => &refusals::BYTES_MISSING,
        StoreError::Unreadable { .. } => &refusals::BYTES_UNREADABLE,
        StoreError::NotPlain(_) => &refusals::NOT_A_PLAIN_FILE,
        StoreError::NoSuchMoment => &refusals::NO_SUCH_MOMENT,
        StoreError::Forgotten => &refusals::FORGOTTEN,
        StoreError::PlaceGone => &refusals::PLACE_GONE,
        StoreError::StillHere => &refusals::STILL_HERE,
        StoreError::Cursor(CursorError::Malformed) => &refusals::CURSOR_MALFORMED,
        StoreError::Cursor(CursorError::OtherList) => &refusals::CURSOR_OF_ANOTHER_LIST,
        StoreError::BadInput(_) => &refusals::BAD_INPUT,
        StoreError::NotFound(_)
        | StoreError::NotAllowed { .. }
        | StoreError::Name(_)
        | StoreError::Path(_)
        | StoreError::Locked { .. }
        | StoreError::TooMuchAnnounced { .. }
        | StoreError::QuotaFull { .. }
        | StoreError::Rule(_)
        | StoreError::OpeningTooLong { .. }
        | StoreError::DeliveryTooLarge(_)
        | StoreError::DiskFull { .. }
        | StoreError::NoMoreFiles { .. }
        | StoreError::ReadOnlyDisk
        | StoreError::WritesStopped(_)
        | StoreError::ShelfMissing(_)
        | StoreError::ShelfStopped { .. }
        | StoreError::SecretsShut(_)
        | StoreError::Busy
        | StoreError::Stopping
        | StoreError::Stopped
        | StoreError::Io { .. }
        | StoreError::DamagedRow(_)
        | StoreError::Sqlite(_)
        | StoreError::Catalogue(_) => return None,
    })
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Refusal {
        let detail = crate::http::words::sentence(&error.to_string());
        if let Some(kind) = plain(&error) {
            let mut refusal = kind.of(&detail);
            if let StoreError::ConditionFailed { present: Some(present) } = &error {
                refusal.problem.present = Some(Present {
                    node: present.node.0,
                    moment: present.since.token(),
                    etag: present.tag.clone(),
                });
            }
            return refusal;
        }
        match &error {
            StoreError::NotFound(what) => Refusal::not_found(what),
        StoreError::NotAllowed { need, .. } => refusals::NOT_ALLOWED
            .with(&detail, &format!("Ask somebody who manages the shelf for the right to {need}.")),
        StoreError::Path(path) => {
            Refusal::new(400, path.code(), "The path cannot be", &detail, &path.remedy())
        }
        StoreError::OpeningTooLong { longest, .. } => refusals::OPENING_TOO_LONG
            .with(&detail, &format!("Let it end on {} at the latest.", crate::http::times::show(*longest))),
        StoreError::DeliveryTooLarge(most) => {
            refusals::DELIVERY_TOO_LARGE.of(&format!("All files together may have {} here.", human(*most)))
        }
        StoreError::Busy => refusals::BUSY.of(&detail).retry_after(1),
            StoreError::Name(name) => Refusal::new(400, name.code(), "The name cannot be", &detail, &name.remedy()),
            StoreError::Locked { by_token, until, .. } => {
                let until = crate::http::times::show(*until);
                refusals::LOCKED.with(&detail, &match by_token {
                        true => format!(
                            "A program holds it. Close it there; or end the lock (yattic unlock, or on its page). It ends by itself at {until}."
                        ),
                        false => {
                            format!("Wait, or ask its holder to end the lock. It ends by itself at {until}.")
                        }
                    })
            }
            StoreError::TooMuchAnnounced { announced, most } => refusals::TOO_MUCH_ANNOUNCED.of(&format!(
                    "Your unfinished uploads speak for {} that have not come; beside the largest, all together may for {}.",
                    human(*announced),
                    human(*most)
                )),
            StoreError::QuotaFull { shelf, line, used, claimed, wanted } => {
                let claimed = match claimed {
                    0 => String::new(),
                    n => format!(", uploads under way have claimed {}", human(*n)),
                };
                refusals::QUOTA_FULL.of(&format!(
                        "{} may hold {}; {} are on it{claimed}, and this needs {} more. Nothing was written.",
                        capital(shelf),
                        human(*line),
                        human(*used),
                        human(*wanted)
                    ))
            }
            StoreError::Rule(rule) => refusals::RULE_REFUSED.with(&detail, match rule {
                    RuleError::Malformed { .. } => "Choose one of the values it can have.",
                    RuleError::Schedule { .. } => "Write it such as \"daily at 02:00 kept 8 weeks\".",
                    RuleError::Contradicts { .. } => {
                        "Let it be erased later, or promise to keep it for less long."
                    }
                    RuleError::Widens { .. } => "Loosen it further up first, or tighten it here.",
                    RuleError::NotThere { .. } => "Set it for the service or the organisation.",
                }),
            StoreError::DiskFull { free, reserve } => refusals::DISK_FULL.of(&full(*free, *reserve)),
            StoreError::NoMoreFiles { free, reserve } => refusals::DISK_FULL.of(&holds_no_more(*free, *reserve)),
            StoreError::ReadOnlyDisk => refusals::DISK_READ_ONLY.of(&detail)
            .retry_after(5),
            StoreError::WritesStopped(_) => refusals::WRITES_STOPPED.of(&detail)
            .retry_after(5),
            // Names of shelves and folders are for the desk: strangers and guests meet these refusals too.
            StoreError::ShelfMissing(_) => refusals::SHELF_MISSING.of("The folder of this shelf is not there.")
            .retry_after(60),
            StoreError::ShelfStopped { .. } => refusals::SHELF_STOPPED.of("Something on the disk is in the way of this shelf; reading goes on.")
            .retry_after(30),
            // Paths of the machine are for the desk.
            StoreError::SecretsShut(_) => refusals::SECRETS_KEY_MISSING.of("The key with which this service keeps second factors is not there. A recovery code still signs in.")
            .retry_after(60),
            StoreError::Stopping | StoreError::Stopped => {
                refusals::STOPPING.of(&detail)
                    .retry_after(5)
            }
            StoreError::DamagedRow(row) => {
                tracing::error!(error = %error, "a row is damaged");
                let mut refusal = refusals::ROW_DAMAGED
                    .of("What the catalogue says of this cannot be. It is noted for the administrator.");
                refusal.damage = Some(row.clone());
                refusal
            }
            // The disk, the catalogue; all else is plain.
            _ => {
                tracing::error!(error = %error, "an operation failed");
                refusals::INTERNAL.of("Whether the change took effect is not known.")
            }
        }
    }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().collect::<String>() + chars.as_str())
}

/// Queries and bodies that cannot be read.
pub fn unreadable(what: &str, error: &dyn std::fmt::Display) -> actix_web::Error {
    let text = error.to_string();
    let code = if text.contains("unknown field") { "unknown_field" } else { "malformed" };
    Refusal::bad(
        code,
        &format!("The {what} cannot be read: {text}."),
        "Compare it with /api/openapi.json and send it again.",
    )
    .into()
}

/// Says why a body of JSON was refused.
pub fn bad_body(error: &JsonPayloadError) -> actix_web::Error {
    match error {
        JsonPayloadError::ContentType => {
            refusals::WRONG_MEDIA_TYPE.of("The body is not said to be JSON.").into()
        }
        JsonPayloadError::OverflowKnownLength { limit, .. } | JsonPayloadError::Overflow { limit } => {
            refusals::BODY_TOO_LARGE
                .of(&format!("The body is larger than {limit} bytes, the most for this."))
                .into()
        }
        JsonPayloadError::Deserialize(why) => unreadable("body", why),
        _ => refusals::BODY_CUT_SHORT.with("The body was cut short.", "Send it again.").into(),
    }
}

impl actix_web::Responder for Refusal {
    type Body = actix_web::body::BoxBody;
    fn respond_to(self, _: &actix_web::HttpRequest) -> HttpResponse {
        actix_web::ResponseError::error_response(&self)
    }
}

fn full(free: u64, reserve: u64) -> String {
    let (free, reserve) = (human(free), human(reserve));
    format!("{free} are free on the disk, and {reserve} of it are kept in reserve. Nothing was written.")
}

fn holds_no_more(free: u64, reserve: u64) -> String {
    format!(
        "The disk has room for bytes, but its file system can hold only {free} files more, and {reserve} of them are kept in reserve. Nothing was written."
    )
}
