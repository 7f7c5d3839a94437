//! How refusals look: one table from the kind of an error to status, code and remedy.

use actix_web::error::JsonPayloadError;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use yellow_attic_api::Problem;
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
}

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
            }),
            retry_after_s: None,
        }
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
        Refusal::new(404, "not_found", "Not found", &format!("{what} was not found."), where_to_look(what))
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
        Refusal::new(
            503,
            "too_many_at_once",
            "Too many at once",
            "As many answers are under way by this connection, or by this address, as may be.",
            "Wait until some of them are done, then ask again.",
        )
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
        ("The device", "It was disconnected already: see Computers, or yattic device ls."),
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
        answer.body(serde_json::to_vec(&self.problem).unwrap_or_default())
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Refusal {
        let detail = crate::http::words::sentence(&error.to_string());
        let make = |status, code: &str, title: &str, remedy: &str| {
            Refusal::new(status, code, title, &detail, remedy)
        };
        match &error {
            StoreError::NotFound(what) => Refusal::not_found(what),
            StoreError::NotAllowed { need, .. } => make(
                403,
                "not_allowed",
                "Not allowed",
                &format!("Ask somebody who manages the shelf for the right to {need}."),
            ),
            StoreError::NameUnusable(_) => {
                make(409, "name_unusable", "The name cannot be used here", "Choose another name.")
            }
            StoreError::HoldsOthers => make(
                403,
                "holds_others",
                "It contains things that you may not change",
                "Ask somebody who manages the shelf, or move what you may change.",
            ),
            StoreError::Widens(_) => make(
                403,
                "widens",
                "More people would see it",
                "Ask somebody who manages it to move it, or put a copy there.",
            ),
            StoreError::LastAdministrator => make(
                409,
                "last_administrator",
                "The last administrator",
                "Make somebody else an administrator first.",
            ),
            StoreError::NameTaken(_) => {
                make(409, "name_taken", "The name is taken", "Choose another name, or move what is there.")
            }
            StoreError::FolderInTheWay(_) => make(
                409,
                "folder_in_the_way",
                "A folder is in the way",
                "Choose another name, or move the folder.",
            ),
            StoreError::NotAFolder(_) => {
                make(409, "not_a_folder", "Not a folder", "Only folders hold files; name the folder instead.")
            }
            StoreError::NotAFile(_) => {
                make(409, "not_a_file", "Not a file", "Name a file in the folder instead.")
            }
            StoreError::ConditionFailed { .. } => make(
                412,
                "changed_meanwhile",
                "Changed meanwhile",
                "Look at its present state, then send the change again with the new ETag.",
            ),
            StoreError::Name(name) => make(400, name.code(), "The name cannot be", &name.remedy()),
            StoreError::Path(path) => make(400, path.code(), "The path cannot be", &path.remedy()),
            StoreError::IntoItself => {
                make(409, "into_itself", "Into itself", "Choose a folder outside of it.")
            }
            StoreError::TooDeep(_) => {
                make(409, "path_too_deep", "Too deep", "Choose a place nearer to the top.")
            }
            StoreError::ShelfTop => make(
                409,
                "shelf_top",
                "The top of a shelf stays",
                "Work with the files and folders on the shelf.",
            ),
            StoreError::Exists(_) => make(409, "exists", "There already", "Choose another name."),
            StoreError::ShortBody { .. } | StoreError::BrokenBody(_) => make(
                400,
                "body_cut_short",
                "The body was cut short",
                "Send the whole file again; nothing was kept.",
            ),
            StoreError::MoreThanAnnounced(_) => make(
                400,
                "more_than_announced",
                "More bytes than announced",
                "Ask how far the upload is, and go on from there; or begin another one with the right length.",
            ),
            StoreError::LengthKnown(_) => make(
                409,
                "length_known",
                "Another length was said",
                "Send the rest of it with the length that was said, or begin another upload.",
            ),
            StoreError::BrokenPart(_) => make(
                400,
                "part_cut_short",
                "The part was cut short",
                "What arrived is kept: ask how far the upload is, and go on from there.",
            ),
            StoreError::WrongOffset { .. } => make(
                409,
                "wrong_offset",
                "Another offset",
                "Ask how far the upload is (HEAD), and go on from there.",
            ),
            StoreError::WrongHash => make(
                422,
                "wrong_hash",
                "Other bytes than announced",
                "They were dropped. Send the file again; it may have changed while it was read.",
            ),
            StoreError::Locked { by_token, until, .. } => {
                let until = crate::http::times::show(*until);
                make(
                    423,
                    "locked",
                    "It is locked",
                    &match by_token {
                        true => format!(
                            "A program holds it. Close it there; or end the lock (yattic unlock, or on its page). It ends by itself at {until}."
                        ),
                        false => {
                            format!("Wait, or ask its holder to end the lock. It ends by itself at {until}.")
                        }
                    },
                )
            }
            StoreError::TakenOver => make(
                423,
                "taken_over",
                "Another request goes on with it",
                "Let that one finish, or ask how far the upload is and go on from there.",
            ),
            StoreError::TooMuchAnnounced { announced, most } => Refusal::new(
                507,
                "too_much_announced",
                "Too much is announced",
                &format!(
                    "Your unfinished uploads speak for {} that have not come; beside the largest, all together may for {}.",
                    human(*announced),
                    human(*most)
                ),
                "Go on with one of them first, or end those that are not needed any more (Computers; yattic device uploads).",
            ),
            StoreError::TooManyUploads(_) => make(
                429,
                "too_many_uploads",
                "Too many unfinished uploads",
                "Finish or end some of them; those left alone end by themselves after three days.",
            ),
            StoreError::TooMany(_) => make(
                413,
                "archive_too_large",
                "Too many files",
                "Take its folders one by one, or use yattic get.",
            ),
            StoreError::TooLarge(_) => make(
                413,
                "file_too_large",
                "The file is too large",
                "Ask the administrator to raise largest_file, or send a smaller file.",
            ),
            StoreError::QuotaFull { shelf, line, used, claimed, wanted } => {
                let claimed = match claimed {
                    0 => String::new(),
                    n => format!(", uploads under way have claimed {}", human(*n)),
                };
                Refusal::new(
                    507,
                    "quota_full",
                    "The shelf is full",
                    &format!(
                        "{} may hold {}; {} are on it{claimed}, and this needs {} more. Nothing was written.",
                        capital(shelf),
                        human(*line),
                        human(*used),
                        human(*wanted)
                    ),
                    "Remove something there, or ask an administrator for a larger quota.",
                )
            }
            StoreError::PlanStale => make(
                409,
                "plan_stale",
                "Something has changed",
                "Nothing was done. Look at the preview again, and decide anew.",
            ),
            StoreError::NotHeld(_) => make(
                410,
                "not_held",
                "No longer held",
                "Its bytes went by a rule or by hand and cannot come back; choose another version or snapshot.",
            ),
            StoreError::RollingBack(_) => {
                make(409, "rolling_back", "A rollback runs", "Wait until it is done, or stop it.")
            }
            StoreError::NotThereYet { .. } => make(
                409,
                "not_there_yet",
                "It was not there yet",
                "Choose a later moment, or roll back the folder above it.",
            ),
            StoreError::NewerState { .. } => make(
                409,
                "newer_state",
                "Somebody has changed it",
                "Look at its present state first; restoring keeps that as a version too.",
            ),
            StoreError::KeptByRule(..) => make(
                409,
                "kept",
                "It is kept",
                "End the snapshot, take the name away, or change the rule first.",
            ),
            StoreError::Rule(rule) => make(
                409,
                "rule_refused",
                "The rule cannot be set so",
                match rule {
                    RuleError::Malformed { .. } => "Choose one of the values it can have.",
                    RuleError::Schedule { .. } => "Write it such as \"daily at 02:00 kept 8 weeks\".",
                    RuleError::Contradicts { .. } => {
                        "Let it be erased later, or promise to keep it for less long."
                    }
                    RuleError::Widens { .. } => "Loosen it further up first, or tighten it here.",
                    RuleError::NotThere { .. } => "Set it for the service or the organisation.",
                },
            ),
            StoreError::OpeningRefused { .. } => make(
                403,
                "opening_refused",
                "Not allowed",
                "Ask an administrator about the rule or the door.",
            ),
            StoreError::OpeningTooLong { longest, .. } => make(
                403,
                "opening_too_long",
                "It would live too long",
                &format!("Let it end on {} at the latest.", crate::http::times::show(*longest)),
            ),
            StoreError::BadEnding(_) => make(
                400,
                "ending_cannot_be",
                "The ending cannot be",
                "Choose 3 to 64 small letters, digits and single hyphens, or leave it out for a random one.",
            ),
            StoreError::EndingTaken(_) => make(
                409,
                "ending_taken",
                "The ending is taken",
                "Choose another one. The ending of something that was ended stays taken for ninety days.",
            ),
            StoreError::UsedUp => {
                make(410, "used_up", "Used up", "Ask whoever gave you this address to allow more.")
            }
            StoreError::OtherKind(KindError::Unknown(_)) => make(
                400,
                "kind_unknown",
                "No such kind",
                "Choose pictures, documents, sound, video, archives, or endings such as .pdf.",
            ),
            StoreError::OtherKind(KindError::Other { .. }) => {
                make(415, "kind_not_taken", "Another kind of file", "Send one of the kinds that are taken.")
            }
            StoreError::OtherKind(KindError::Lies { .. }) => make(
                415,
                "kind_lies",
                "Not what its name says",
                "Nothing of it was kept. Send it under the name that fits what it is.",
            ),
            StoreError::DeliveryTooLarge(most) => Refusal::new(
                413,
                "delivery_too_large",
                "More than is taken",
                &format!("All files together may have {} here.", human(*most)),
                "Leave some out, or hand them in as another delivery.",
            ),
            StoreError::DeliveryDone => make(
                409,
                "delivery_done",
                "The delivery is done",
                "Begin another one for what is still missing.",
            ),
            StoreError::NothingDelivered => {
                make(409, "nothing_delivered", "Nothing has arrived yet", "Send at least one file first.")
            }
            StoreError::DiskFull { free, reserve } => Refusal::new(
                507,
                "disk_full",
                "The disk is full",
                &format!(
                    "{} are free on the disk, and {} of it are kept in reserve. Nothing was written.",
                    human(*free),
                    human(*reserve)
                ),
                "Make room on the disk, then send it again.",
            ),
            StoreError::ReadOnlyDisk => make(
                503,
                "disk_read_only",
                "The disk is read-only",
                "Mount it writable; the service goes on by itself.",
            )
            .retry_after(5),
            StoreError::WritesStopped(_) => make(
                503,
                "writes_stopped",
                "Writing is stopped",
                "Reading goes on. Remove the cause; the service goes on by itself.",
            )
            .retry_after(5),
            // Names of shelves and folders are for the desk: strangers and guests meet these refusals too.
            StoreError::ShelfMissing(_) => Refusal::new(
                503,
                "shelf_missing",
                "A shelf's folder is missing",
                "The folder of this shelf is not there.",
                "Nothing is lost by waiting: tell the administrator, who mounts its disk or puts the folder back. Other shelves go on.",
            )
            .retry_after(60),
            StoreError::ShelfStopped { .. } => Refusal::new(
                503,
                "shelf_stopped",
                "A shelf takes no writes",
                "Something on the disk is in the way of this shelf; reading goes on.",
                "Tell the administrator, who sees on the desk what it is; the service tries again by itself. Other shelves go on.",
            )
            .retry_after(30),
            StoreError::OtherDevice(_) | StoreError::NoStore(_) => {
                make(500, "no_store", "The store cannot be opened", "Tell the administrator.")
            }
            // Paths of the machine are for the desk.
            StoreError::SecretsShut(_) => Refusal::new(
                503,
                "secrets_key_missing",
                "Second factors cannot be checked",
                "The key with which this service keeps second factors is not there. A recovery code still signs in.",
                "Use a recovery code, or tell the administrator, who puts the key back: the desk says where.",
            )
            .retry_after(60),
            StoreError::BytesMissing(_) => make(
                410,
                "bytes_missing",
                "The bytes are missing",
                "Another program removed them from the disk. Put them back there, or restore an earlier state.",
            ),
            StoreError::Unreadable { .. } => make(
                500,
                "bytes_unreadable",
                "The bytes cannot be read",
                "See that the service's user may read the file, and that the disk is sound.",
            ),
            StoreError::NotPlain(_) => make(
                409,
                "not_a_plain_file",
                "Not a plain file",
                "Replace the link or device on the disk by a file; the service follows no links.",
            ),
            StoreError::NoSuchMoment => make(
                400,
                "no_such_moment",
                "No such moment",
                "Take a moment from a history or from the strip.",
            ),
            StoreError::PlaceGone => make(
                409,
                "place_gone",
                "Its place is gone",
                "Bring the folder back first, or choose another folder for it.",
            ),
            StoreError::StillHere => {
                make(409, "still_here", "It is still here", "Choose the moment whose state is wanted.")
            }
            StoreError::Busy => make(503, "busy", "Under way", "Try again in a moment.").retry_after(1),
            StoreError::Cursor(CursorError::Malformed) => make(
                400,
                "cursor_malformed",
                "The cursor is malformed",
                "Take it unchanged from the page before.",
            ),
            StoreError::Cursor(CursorError::OtherList) => make(
                400,
                "cursor_of_another_list",
                "The cursor belongs to another list",
                "Keep folder, sort, order and moment the same from page to page.",
            ),
            StoreError::BadInput(_) => make(400, "bad_input", "Refused", "Correct it and send it again."),
            StoreError::Stopping => {
                make(503, "stopping", "The service is stopping", "Send it again when the service is back.")
                    .retry_after(5)
            }
            StoreError::Io { .. } | StoreError::Catalogue(_) => {
                tracing::error!(error = %error, "an operation failed");
                Refusal::new(
                    500,
                    "internal",
                    "The service failed",
                    "Whether the change took effect is not known.",
                    "Look at the present state before sending it again; the reason is in the service's log.",
                )
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
        JsonPayloadError::ContentType => Refusal::new(
            415,
            "wrong_media_type",
            "Not of this kind",
            "The body is not said to be JSON.",
            "Send it with Content-Type: application/json.",
        )
        .into(),
        JsonPayloadError::OverflowKnownLength { limit, .. } | JsonPayloadError::Overflow { limit } => {
            Refusal::new(
                413,
                "body_too_large",
                "Too large",
                &format!("The body is larger than {limit} bytes, the most for this."),
                "Send less at a time.",
            )
            .into()
        }
        JsonPayloadError::Deserialize(why) => unreadable("body", why),
        _ => Refusal::bad("body_cut_short", "The body was cut short.", "Send it again.").into(),
    }
}

impl actix_web::Responder for Refusal {
    type Body = actix_web::body::BoxBody;
    fn respond_to(self, _: &actix_web::HttpRequest) -> HttpResponse {
        actix_web::ResponseError::error_response(&self)
    }
}
