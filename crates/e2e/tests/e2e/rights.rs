//! Who may do what through the service: every operation for every kind of caller, the commands,
//! and a tour in the console.

use crate::browser::Browser;
use crate::console::row;
use crate::support::{PASSWORD, Service, Yattic};
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use yellow_attic_client::{Client, api};

/// A time that has not come: as it is now.
const LATER: &str = "2100-01-01T00:00:00Z";
const WORDS: &str = "gulls over the harbour";

async fn account(admin: &Client, name: &str) -> Client {
    let new = api::NewAccount { sign_in: name.into(), password: Some(WORDS.into()), ..Default::default() };
    admin.make_account(&new).await.unwrap();
    admin.connected(name).await
}

trait Connected {
    async fn connected(&self, name: &str) -> Client;
}

impl Connected for Client {
    /// A client of that account, on a computer of its own.
    async fn connected(&self, name: &str) -> Client {
        let asked = api::NewDevice {
            sign_in: name.into(),
            password: WORDS.into(),
            device: "their own".into(),
            ..Default::default()
        };
        let token = self.connect(&asked).await.unwrap().token;
        Client::new(self.address(), Some(&token)).unwrap()
    }
}

/// The callers, in the order of the columns. The last four are derived by [`derived`].
const CALLERS: [&str; 12] = [
    "nobody", "outsider", "viewer", "adder", "editor", "manager", "denied", "owner", "guest", "shut",
    "looking", "stranger",
];

/// What the last four callers get, by the first ones: a guest who may view gets what a viewer gets.
/// An account whose door is closed gets nothing but what nobody needs to be signed in for. Whoever
/// looks as the viewer may read what the viewer may read of files and folders, and nothing else. A stranger
/// who was let in by a link to all of it is nobody to the API.
fn derived(method: &str, path: &str, written: [u16; 8]) -> [u16; 12] {
    let [nobody, _, viewer, ..] = written;
    let open = nobody != 401;
    let read = ["/nodes", "/files", "/place", "/shelves", "/find", "/recent", "/events"];
    let not_read = ["/nodes/{node}/rights", "/nodes/{node}/who"];
    let reads = method == "GET" && read.iter().any(|r| path.starts_with(r)) && !not_read.contains(&path);
    let looking = match (method, path) {
        ("DELETE", "/look") => 204,
        // By then the look has ended: it is Ines in her browser, which is no computer.
        ("DELETE", "/devices/this") => 400,
        // Our own pages may ask; the password and the ticket are wrong.
        ("POST", "/session") => 401,
        ("POST", "/session/second") => 410,
        _ if open => nobody,
        _ if reads => viewer,
        _ => 403,
    };
    let mut all = [0; 12];
    all[..8].copy_from_slice(&written);
    all[8] = viewer;
    all[9] = if open { nobody } else { 403 };
    all[10] = looking;
    all[11] = nobody;
    all
}

/// What an operation is tried on: a folder with a file and a removed file, an upload and a
/// selection of the owner's.
struct Cell {
    folder: i64,
    file: i64,
    picture: i64,
    removed: i64,
    root: i64,
    grant: i64,
    upload: String,
    archive: String,
    /// An intake of the owner's for the folder.
    opening: i64,
    /// A snapshot of the shelf.
    snapshot: i64,
    /// A rollback of the folder, done.
    rollback: i64,
    /// A session of Tomas's.
    session: String,
    path: String,
    turn: String,
}

type Ask = (String, &'static str, Vec<u8>);

fn plain(path: String) -> Ask {
    (path, "", Vec::new())
}

fn with(path: String, body: Value) -> Ask {
    (path, "application/json", body.to_string().into_bytes())
}

/// Every operation, what is sent, and the status for each caller.
#[allow(clippy::type_complexity)]
fn table() -> Vec<(&'static str, &'static str, fn(&Cell) -> Ask, [u16; 8])> {
    let see = [401, 404, 200, 200, 200, 200, 404, 200];
    let all = [401, 200, 200, 200, 200, 200, 200, 200];
    let manage = [401, 404, 403, 403, 403, 200, 404, 200];
    let administer = [401, 403, 403, 403, 403, 403, 403, 200];
    let own = [401, 403, 403, 403, 403, 403, 403, 403];
    let decide = [401, 404, 404, 404, 404, 200, 404, 200];
    vec![
        ("GET", "/nodes/{node}", |c| plain(format!("/nodes/{}", c.file)), see),
        ("GET", "/nodes/{node}/entries", |c| plain(format!("/nodes/{}/entries", c.folder)), see),
        ("GET", "/nodes/{node}/content", |c| plain(format!("/nodes/{}/content", c.file)), see),
        (
            "POST",
            "/moves",
            |c| with("/moves".into(), json!({ "moves": [{ "node": c.file, "name": "moved.txt" }] })),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        ("GET", "/nodes/{node}/tree", |c| plain(format!("/nodes/{}/tree", c.folder)), see),
        ("GET", "/nodes/{node}/levels", |c| plain(format!("/nodes/{}/levels", c.folder)), see),
        ("GET", "/nodes/{node}/activity", |c| plain(format!("/nodes/{}/activity", c.folder)), see),
        ("GET", "/nodes/{node}/history", |c| plain(format!("/nodes/{}/history", c.removed)), see),
        ("GET", "/nodes/{node}/archive", |c| plain(format!("/nodes/{}/archive", c.folder)), see),
        ("GET", "/nodes/{node}/thumbnail", |c| plain(format!("/nodes/{}/thumbnail", c.picture)), see),
        ("GET", "/nodes/{node}/why", |c| plain(format!("/nodes/{}/why", c.file)), see),
        ("GET", "/place", |c| plain(format!("/place?path={}", c.path)), see),
        ("GET", "/files/{shelf}/{path}", |c| plain(format!("/files/{}", c.path.replacen(":/", "/", 1))), see),
        (
            "PUT",
            "/files/{shelf}/{path}",
            |c| (format!("/files/{}", c.path.replacen(":/", "/", 1)), "text/plain", b"new".to_vec()),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        (
            "PUT",
            "/nodes/{node}/files/{name}",
            |c| (format!("/nodes/{}/files/fresh.txt", c.folder), "text/plain", b"new".to_vec()),
            [401, 404, 403, 201, 201, 201, 404, 201],
        ),
        (
            "PUT",
            "/nodes/{node}/content",
            |c| (format!("/nodes/{}/content", c.file), "text/plain", b"new".to_vec()),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        (
            "POST",
            "/nodes/{node}/folders",
            |c| with(format!("/nodes/{}/folders", c.folder), json!({ "name": "New" })),
            [401, 404, 403, 201, 201, 201, 404, 201],
        ),
        (
            "POST",
            "/nodes/{node}/tar",
            |c| (format!("/nodes/{}/tar", c.folder), "application/x-tar", vec![0; 1024]),
            [401, 404, 403, 200, 200, 200, 404, 200],
        ),
        (
            "PATCH",
            "/nodes/{node}",
            |c| with(format!("/nodes/{}", c.file), json!({ "name": "renamed.txt" })),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        (
            "POST",
            "/nodes/{node}/copy",
            |c| with(format!("/nodes/{}/copy", c.file), json!({ "name": "copy.txt" })),
            [401, 404, 403, 201, 201, 201, 404, 201],
        ),
        (
            "DELETE",
            "/nodes/{node}",
            |c| plain(format!("/nodes/{}", c.folder)),
            [401, 404, 403, 403, 204, 204, 404, 204],
        ),
        (
            "POST",
            "/nodes/{node}/restore",
            |c| with(format!("/nodes/{}/restore", c.removed), json!({})),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        ("GET", "/nodes/{node}/rights", |c| plain(format!("/nodes/{}/rights", c.file)), manage),
        ("GET", "/nodes/{node}/who", |c| plain(format!("/nodes/{}/who", c.file)), manage),
        (
            "POST",
            "/nodes/{node}/rights",
            |c| with(format!("/nodes/{}/rights", c.file), json!({ "to": "everyone", "can": "view" })),
            [401, 404, 403, 403, 403, 201, 404, 201],
        ),
        (
            "PUT",
            "/nodes/{node}/afresh",
            |c| with(format!("/nodes/{}/afresh", c.folder), json!({ "afresh": true })),
            [401, 404, 403, 403, 403, 204, 404, 204],
        ),
        (
            "DELETE",
            "/rights/{grant}",
            |c| plain(format!("/rights/{}", c.grant)),
            [401, 404, 403, 403, 403, 204, 404, 204],
        ),
        ("GET", "/shelves/{root}/changes", |c| plain(format!("/shelves/{}/changes", c.root)), see),
        (
            "POST",
            "/archives",
            |c| with("/archives".into(), json!({ "nodes": [c.file], "format": "zip" })),
            [401, 404, 201, 201, 201, 201, 404, 201],
        ),
        // A selection is its maker's alone.
        (
            "GET",
            "/archives/{id}/{name}",
            |c| plain(c.archive.clone()),
            [401, 404, 404, 404, 404, 404, 404, 200],
        ),
        (
            "POST",
            "/uploads",
            |c| (format!("/uploads#{}", c.folder), "tus", Vec::new()),
            [401, 404, 403, 201, 201, 201, 404, 201],
        ),
        ("OPTIONS", "/uploads", |_| plain("/uploads".into()), [204; 8]),
        ("GET", "/uploads", |_| plain("/uploads".into()), all),
        // So is an unfinished upload.
        (
            "PATCH",
            "/uploads/{id}",
            |c| (format!("/uploads/{}", c.upload), "application/offset+octet-stream", b"12".to_vec()),
            [401, 404, 404, 404, 404, 404, 404, 204],
        ),
        (
            "HEAD",
            "/uploads/{id}",
            |c| (format!("/uploads/{}", c.upload), "application/offset+octet-stream", Vec::new()),
            [401, 404, 404, 404, 404, 404, 404, 200],
        ),
        (
            "POST",
            "/uploads/{id}/place",
            |c| with(format!("/uploads/{}/place", c.upload), json!({ "parent": c.folder, "name": "put" })),
            // The owner's is not whole yet.
            [401, 404, 403, 404, 404, 404, 404, 409],
        ),
        (
            "DELETE",
            "/uploads/{id}",
            |c| (format!("/uploads/{}", c.upload), "application/offset+octet-stream", Vec::new()),
            [401, 404, 404, 404, 404, 404, 404, 204],
        ),
        ("GET", "/nodes/{node}/chunks", |c| plain(format!("/nodes/{}/chunks", c.file)), see),
        (
            "POST",
            "/nodes/{node}/assembled/{name}",
            |c| {
                let head =
                    json!({ "bases": [], "size": 3, "blake3": blake3::hash(b"new").to_hex().to_string() });
                let delta =
                    [format!("{head}\n").as_bytes(), &yellow_attic_core::delta::bytes(3), b"new", &[0]]
                        .concat();
                (format!("/nodes/{}/assembled/made.txt", c.folder), "application/octet-stream", delta)
            },
            [401, 404, 403, 201, 201, 201, 404, 201],
        ),
        (
            "PUT",
            "/nodes/{node}/lock",
            |c| with(format!("/nodes/{}/lock", c.file), json!({ "minutes": 5 })),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        // Nothing is locked.
        (
            "DELETE",
            "/nodes/{node}/lock",
            |c| plain(format!("/nodes/{}/lock", c.file)),
            [401, 404, 404, 404, 404, 404, 404, 404],
        ),
        ("GET", "/find", |_| plain("/find?name=file".into()), all),
        ("GET", "/recent", |_| plain("/recent".into()), all),
        ("GET", "/nodes/{node}/trash", |c| plain(format!("/nodes/{}/trash", c.folder)), see),
        (
            "POST",
            "/past/let-go",
            |c| with("/past/let-go".into(), json!({ "nodes": [c.removed], "preview": true })),
            manage,
        ),
        ("GET", "/past/let-go", |_| plain("/past/let-go".into()), administer),
        ("GET", "/past/clock", |_| plain("/past/clock".into()), administer),
        ("POST", "/past/clock", |_| plain("/past/clock".into()), administer),
        (
            "PUT",
            "/nodes/{node}/versions/{moment}",
            |c| with(format!("/nodes/{}/versions/{LATER}", c.file), json!({ "label": "as printed" })),
            [401, 404, 403, 403, 204, 204, 404, 204],
        ),
        (
            "GET",
            "/nodes/{node}/comparison",
            |c| plain(format!("/nodes/{}/comparison?from={LATER}", c.file)),
            see,
        ),
        ("GET", "/shelves/{root}/snapshots", |c| plain(format!("/shelves/{}/snapshots", c.root)), see),
        (
            "POST",
            "/shelves/{root}/snapshots",
            |c| with(format!("/shelves/{}/snapshots", c.root), json!({ "label": "for the table" })),
            [401, 404, 403, 403, 201, 201, 404, 201],
        ),
        (
            "PATCH",
            "/snapshots/{id}",
            |c| with(format!("/snapshots/{}", c.snapshot), json!({ "label": "renamed" })),
            manage,
        ),
        (
            "DELETE",
            "/snapshots/{id}",
            |c| plain(format!("/snapshots/{}", c.snapshot)),
            [401, 404, 403, 403, 403, 204, 404, 204],
        ),
        (
            "GET",
            "/nodes/{node}/rollback",
            |c| plain(format!("/nodes/{}/rollback?to={LATER}", c.folder)),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        (
            "POST",
            "/nodes/{node}/rollback",
            // It was not there yet: whoever may roll it back is told.
            |c| with(format!("/nodes/{}/rollback", c.folder), json!({ "to": "1970-01-02T00:00:00Z" })),
            [401, 404, 403, 403, 409, 409, 404, 409],
        ),
        ("GET", "/shelves/{root}/rollbacks", |c| plain(format!("/shelves/{}/rollbacks", c.root)), see),
        ("GET", "/rollbacks/{id}", |c| plain(format!("/rollbacks/{}", c.rollback)), see),
        (
            "POST",
            "/rollbacks/{id}/stop",
            |c| plain(format!("/rollbacks/{}/stop", c.rollback)),
            [401, 404, 403, 403, 200, 200, 404, 200],
        ),
        (
            "POST",
            "/rollbacks/{id}/undo",
            |c| plain(format!("/rollbacks/{}/undo", c.rollback)),
            [401, 404, 403, 403, 202, 202, 404, 202],
        ),
        ("GET", "/alarms", |_| plain("/alarms".into()), all),
        (
            "POST",
            "/alarms/{id}/settle",
            |_| plain("/alarms/1/settle".into()),
            [401, 404, 404, 404, 404, 404, 404, 404],
        ),
        ("GET", "/space", |_| plain("/space".into()), all),
        ("GET", "/store", |_| plain("/store".into()), administer),
        ("GET", "/nodes/{node}/space", |c| plain(format!("/nodes/{}/space", c.folder)), see),
        ("GET", "/quotas", |_| plain("/quotas".into()), administer),
        ("PUT", "/quotas", |_| with("/quotas".into(), json!({ "of": "organisation" })), administer),
        ("GET", "/shelves", |_| plain("/shelves".into()), all),
        (
            "POST",
            "/shelves",
            |c| with("/shelves".into(), json!({ "name": format!("Shelf {}", c.turn) })),
            [401, 403, 403, 403, 403, 403, 403, 201],
        ),
        ("GET", "/events", |_| plain("/events".into()), all),
        ("GET", "/people", |_| plain("/people".into()), all),
        ("GET", "/accounts", |_| plain("/accounts".into()), administer),
        (
            "POST",
            "/accounts",
            |c| {
                let name = format!("a{}", c.turn);
                with("/accounts".into(), json!({ "sign_in": name, "password": WORDS }))
            },
            [401, 403, 403, 403, 403, 403, 403, 201],
        ),
        ("GET", "/accounts/{sign_in}", |_| plain("/accounts/outsider".into()), administer),
        (
            "DELETE",
            "/accounts/{sign_in}/sessions/{session}",
            |_| plain("/accounts/outsider/sessions/00".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        (
            "DELETE",
            "/accounts/{sign_in}/devices/{device}",
            |_| plain("/accounts/outsider/devices/99999".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        (
            "DELETE",
            "/accounts/{sign_in}/invitation",
            |_| plain("/accounts/insider/invitation".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        (
            "PATCH",
            "/accounts/{sign_in}",
            |_| with("/accounts/outsider".into(), json!({ "display_name": "Out" })),
            administer,
        ),
        (
            "POST",
            "/accounts/{sign_in}/invitation",
            |_| plain("/accounts/outsider/invitation".into()),
            [401, 403, 403, 403, 403, 403, 403, 201],
        ),
        // Nobody needs to be signed in to choose a password: the secret is what counts.
        ("POST", "/invitation/look", |_| with("/invitation/look".into(), json!({ "secret": "x" })), [404; 8]),
        (
            "POST",
            "/invitation/accept",
            |_| with("/invitation/accept".into(), json!({ "secret": "x", "password": WORDS })),
            [404; 8],
        ),
        (
            "PUT",
            "/me/password",
            |_| with("/me/password".into(), json!({ "present": WORDS, "new": "a lamp in the fog" })),
            [401, 403, 403, 403, 403, 403, 403, 403],
        ),
        ("GET", "/sessions", |_| plain("/sessions".into()), all),
        (
            "DELETE",
            "/sessions/{session}",
            |_| plain("/sessions/0011223344556677".into()),
            [401, 403, 403, 403, 403, 403, 403, 403],
        ),
        ("GET", "/groups", |_| plain("/groups".into()), administer),
        ("GET", "/groups/{name}", |_| plain("/groups/Readers".into()), administer),
        (
            "POST",
            "/groups",
            |c| with("/groups".into(), json!({ "name": format!("Group {}", c.turn) })),
            [401, 403, 403, 403, 403, 403, 403, 201],
        ),
        (
            "PATCH",
            "/groups/{name}",
            |_| with("/groups/Readers".into(), json!({ "note": "read" })),
            administer,
        ),
        (
            "DELETE",
            "/groups/{name}",
            |_| plain("/groups/Spare".into()),
            [401, 403, 403, 403, 403, 403, 403, 204],
        ),
        ("GET", "/devices", |_| plain("/devices".into()), all),
        (
            "POST",
            "/devices",
            |_| with("/devices".into(), json!({ "sign_in": "outsider", "password": WORDS, "device": "d" })),
            [201; 8],
        ),
        // What one may not see is left out of the answer.
        (
            "POST",
            "/states",
            |c| with("/states".into(), json!({ "states": [{ "node": c.root, "moment": "m1" }] })),
            [401, 200, 200, 200, 200, 200, 200, 200],
        ),
        ("GET", "/client", |_| plain("/client".into()), [200; 8]),
        ("GET", "/client/program", |_| plain("/client/program".into()), [200; 8]),
        ("POST", "/connections", |_| with("/connections".into(), json!({ "device": "d" })), [201; 8]),
        (
            "POST",
            "/connections/token",
            |_| with("/connections/token".into(), json!({ "device_code": "0" })),
            [400; 8],
        ),
        (
            "POST",
            "/connections/look",
            |_| with("/connections/look".into(), json!({ "code": "BCDF-GHJK" })),
            [401, 403, 403, 403, 403, 403, 403, 403],
        ),
        (
            "POST",
            "/connections/answer",
            |_| with("/connections/answer".into(), json!({ "code": "BCDF-GHJK", "connect": false })),
            [401, 403, 403, 403, 403, 403, 403, 403],
        ),
        (
            "PUT",
            "/devices/this",
            |_| with("/devices/this".into(), json!({ "program": "a program", "pairs": [] })),
            [401, 204, 204, 204, 204, 204, 204, 204],
        ),
        // A device's token ends another one of the same account only after the password: here there is none
        // of that number. It ends no session.
        (
            "DELETE",
            "/devices/{device}",
            |_| plain("/devices/99999".into()),
            [401, 404, 404, 404, 404, 404, 404, 404],
        ),
        ("DELETE", "/session", |_| plain("/session".into()), [401, 403, 403, 403, 403, 403, 403, 403]),
        (
            "POST",
            "/session",
            |_| with("/session".into(), json!({ "sign_in": "outsider", "password": "wrong" })),
            // Only our own pages may, by their origin.
            [403; 8],
        ),
        (
            "POST",
            "/proof",
            |_| with("/proof".into(), json!({ "password": WORDS })),
            [401, 204, 204, 204, 204, 204, 204, 401],
        ),
        // Passkeys are a browser's.
        ("POST", "/proof/passkey", |_| plain("/proof/passkey".into()), own),
        ("GET", "/slowed", |_| plain("/slowed".into()), administer),
        ("GET", "/jobs", |_| plain("/jobs".into()), administer),
        // None of this number runs; no folder is set.
        (
            "POST",
            "/jobs/{job}/stop",
            |_| plain("/jobs/99/stop".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        ("POST", "/jobs/backup", |_| plain("/jobs/backup".into()), [401, 403, 403, 403, 403, 403, 403, 409]),
        // Nobody has to wait.
        (
            "DELETE",
            "/slowed",
            |_| plain("/slowed?of=nobody".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        ("GET", "/welcome", |_| plain("/welcome".into()), [200; 8]),
        (
            "POST",
            "/set-up",
            |_| {
                let body = json!({ "code": "x", "sign_in": "eve", "display_name": "", "password": WORDS });
                with("/set-up".into(), body)
            },
            [403; 8],
        ),
        // The second step of signing in: the ticket is what counts, and our own pages.
        ("POST", "/session/passkey", |_| with("/session/passkey".into(), json!({ "ticket": "x" })), [410; 8]),
        ("POST", "/session/second", |_| with("/session/second".into(), json!({ "ticket": "x" })), [403; 8]),
        ("GET", "/me", |_| plain("/me".into()), all),
        ("GET", "/me/factors", |_| plain("/me/factors".into()), all),
        // A device's token touches no account and no factor.
        ("PATCH", "/me", |_| with("/me".into(), json!({ "display_name": "X" })), own),
        ("PUT", "/me/picture", |_| ("/me/picture".into(), "image/png", picture()), own),
        ("DELETE", "/me/picture", |_| plain("/me/picture".into()), own),
        ("POST", "/me/factors/codes", |_| plain("/me/factors/codes".into()), own),
        (
            "POST",
            "/me/factors/codes/confirm",
            |_| with("/me/factors/codes/confirm".into(), json!({ "ticket": "x", "code": "1" })),
            own,
        ),
        ("POST", "/me/factors/passkey", |_| plain("/me/factors/passkey".into()), own),
        (
            "POST",
            "/me/factors/passkey/confirm",
            |_| with("/me/factors/passkey/confirm".into(), json!({ "ticket": "x", "credential": {} })),
            own,
        ),
        ("DELETE", "/me/factors/{factor}", |_| plain("/me/factors/1".into()), own),
        ("POST", "/me/recovery", |_| plain("/me/recovery".into()), own),
        (
            "DELETE",
            "/accounts/{sign_in}/factors",
            |_| plain("/accounts/outsider/factors".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        (
            "GET",
            "/people/{sign_in}/picture",
            |_| plain("/people/outsider/picture".into()),
            [401, 404, 404, 404, 404, 404, 404, 404],
        ),
        // Looking as somebody begins in the console only.
        ("POST", "/look", |_| with("/look".into(), json!({ "account": "outsider" })), own),
        (
            "POST",
            "/guests",
            |c| {
                let mail = format!("g{}@outside.example", c.turn);
                with("/guests".into(), json!({ "mail": mail, "node": c.file, "can": "view" }))
            },
            [401, 404, 403, 403, 403, 201, 404, 201],
        ),
        (
            "POST",
            "/sign-up",
            |_| {
                with(
                    "/sign-up".into(),
                    json!({ "sign_in": "eve", "display_name": "", "mail": "e@x.example" }),
                )
            },
            [403; 8],
        ),
        (
            "POST",
            "/accounts/list",
            |_| ("/accounts/list?preview=true".into(), "text/csv", b"sign_in\nnew\n".to_vec()),
            administer,
        ),
        ("POST", "/plan", |_| with("/plan".into(), json!({ "plan": {}, "preview": true })), administer),
        ("GET", "/accounts/{sign_in}/removal", |_| plain("/accounts/outsider/removal".into()), administer),
        // The account is not disabled, and nothing was decided.
        (
            "PUT",
            "/accounts/{sign_in}/removal",
            |_| with("/accounts/outsider/removal".into(), json!({ "name": "outsider" })),
            [401, 403, 403, 403, 403, 403, 403, 400],
        ),
        (
            "DELETE",
            "/accounts/{sign_in}/removal",
            |_| plain("/accounts/outsider/removal".into()),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        ("GET", "/rules", |_| plain("/rules".into()), administer),
        (
            "PUT",
            "/rules/{name}",
            |_| with("/rules/looks-told".into(), json!({ "scope": "service", "value": "on" })),
            administer,
        ),
        ("GET", "/mail", |_| plain("/mail".into()), administer),
        ("POST", "/mail/test", |_| with("/mail/test".into(), json!({ "to": "a@b.example" })), administer),
        (
            "POST",
            "/mail/{letter}",
            |_| with("/mail/1".into(), json!({ "again": true })),
            [401, 403, 403, 403, 403, 403, 403, 404],
        ),
        ("GET", "/openings", |c| plain(format!("/openings?node={}", c.file)), manage),
        (
            "POST",
            "/openings",
            |c| with("/openings".into(), json!({ "kind": "link", "node": c.file })),
            [401, 404, 403, 403, 403, 201, 404, 201],
        ),
        // Of a link or intake only who manages what it opens knows; its address is theirs alone.
        ("GET", "/openings/{id}", |c| plain(format!("/openings/{}", c.opening)), decide),
        (
            "PATCH",
            "/openings/{id}",
            |c| with(format!("/openings/{}", c.opening), json!({ "title": "T" })),
            decide,
        ),
        ("GET", "/openings/{id}/qr", |c| plain(format!("/openings/{}/qr", c.opening)), decide),
        // There is no mail server.
        (
            "POST",
            "/openings/{id}/mail",
            |c| with(format!("/openings/{}/mail", c.opening), json!({ "to": ["a@b.example"] })),
            [401, 404, 404, 404, 404, 409, 404, 409],
        ),
        (
            "GET",
            "/openings/{id}/deliveries",
            |c| plain(format!("/openings/{}/deliveries", c.opening)),
            decide,
        ),
        ("GET", "/given", |_| plain("/given".into()), all),
        // Each one's fate is told.
        (
            "POST",
            "/given/change",
            |c| {
                with(
                    "/given/change".into(),
                    json!({ "of": [{ "kind": "intake", "id": c.opening }], "end": true }),
                )
            },
            all,
        ),
        ("GET", "/public-address", |_| plain("/public-address".into()), administer),
        ("GET", "/desk/shelves", |_| plain("/desk/shelves".into()), administer),
        (
            "PATCH",
            "/shelves/{root}",
            |c| with(format!("/shelves/{}", c.root), json!({ "note": "for the table" })),
            administer,
        ),
        (
            "POST",
            "/nodes/{node}/raise",
            |c| with(format!("/nodes/{}/raise", c.folder), json!({ "name": format!("Raised {}", c.turn) })),
            [401, 403, 403, 403, 403, 403, 403, 201],
        ),
        // Into itself.
        (
            "POST",
            "/shelves/{root}/lower",
            |c| with(format!("/shelves/{}/lower", c.root), json!({ "parent": c.folder, "name": "x" })),
            [401, 403, 403, 403, 403, 403, 403, 409],
        ),
        ("DELETE", "/look", |_| plain("/look".into()), [401, 404, 404, 404, 404, 404, 404, 404]),
        // Last: it ends the very token that asks.
        (
            "DELETE",
            "/devices/this",
            |_| plain("/devices/this".into()),
            [401, 204, 204, 204, 204, 204, 204, 204],
        ),
    ]
}

fn picture() -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = png::Encoder::new(&mut bytes, 8, 8).write_header().unwrap();
    writer.write_image_data(&[128; 64]).unwrap();
    writer.finish().unwrap();
    bytes
}

/// Ines signs in to the console and looks as somebody: the cookies of that.
async fn look_as(service: &Service, name: &str) -> String {
    let http = reqwest::Client::new();
    let post = |path: &str, cookie: &str, body: Value| {
        let call = http.post(format!("{}/api/v1{path}", service.address)).json(&body);
        call.header("origin", &service.address).header("cookie", cookie.to_string())
    };
    let cookie = |answer: reqwest::Response| {
        let set = answer.headers()["set-cookie"].to_str().unwrap().to_string();
        set.split_once(';').unwrap().0.to_string()
    };
    let body = json!({ "sign_in": "ines", "password": PASSWORD });
    let session = cookie(post("/session", "", body).send().await.unwrap());
    let begun = post("/look", &session, json!({ "account": name })).send().await.unwrap();
    assert_eq!(begun.status(), 201);
    format!("{session}; {}", cookie(begun))
}

/// The cookie of a stranger who gave the password of a link that lets edit all of a shelf.
async fn let_in(owner: &Client, root: i64) -> String {
    let set =
        api::OpeningSet { can: Some("edit".into()), password: Some(WORDS.into()), ..Default::default() };
    let new = api::NewOpening { kind: "link".into(), node: root, ending: None, set };
    let address = owner.make_opening(&new).await.unwrap().address.unwrap();
    let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let call =
        http.post(format!("{address}/enter")).header("content-type", "application/x-www-form-urlencoded");
    let answer = call.body(format!("password={}", WORDS.replace(' ', "+"))).send().await.unwrap();
    assert_eq!(answer.status(), 303);
    answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_operation_answers_every_caller_as_it_is_written_down() {
    let (service, owner) = Service::ready().await;
    let http = reqwest::Client::new();
    let mut callers: Vec<Option<Client>> = vec![None];
    for name in &CALLERS[1..7] {
        callers.push(Some(account(&owner, name).await));
    }
    callers.push(Some(service.client().await));
    let new = api::NewGroup { name: "Readers".into(), note: String::new(), members: vec!["denied".into()] };
    owner.make_group(&new).await.unwrap();
    let person = |to: &str, level: &str| api::ShelfPerson { to: to.into(), level: level.into() };
    let people = vec![
        person("account:viewer", "view"),
        person("account:adder", "add"),
        person("account:editor", "edit"),
        person("account:manager", "manage"),
        person("group:Readers", "edit"),
        person("account:denied", "deny"),
    ];
    let shelf = owner
        .make_shelf(&api::NewShelf { name: "Table".into(), people, ..Default::default() })
        .await
        .unwrap();

    // A guest who may view, an account whose door is closed, and a look as the viewer.
    let guest = api::NewGuest {
        mail: "nora@harbour.example".into(),
        display_name: "Nora Vale".into(),
        node: shelf.root,
        can: "view".into(),
        until: None,
        message: String::new(),
    };
    let invited = owner.invite_guest(&guest).await.unwrap();
    let address = invited.address.unwrap();
    let secret = address.split_once('#').unwrap().1;
    let accept = json!({ "secret": secret, "password": WORDS });
    let call = http.post(format!("{}/api/v1/invitation/accept", service.address)).json(&accept);
    assert_eq!(call.send().await.unwrap().status(), 200);
    callers.push(Some(owner.connected(&invited.sign_in).await));
    callers.push(Some(account(&owner, "shut").await));
    let shut = api::AccountChange { closed: Some(vec!["sync".into()]), ..Default::default() };
    owner.change_account("shut", &shut).await.unwrap();
    let look = look_as(&service, "viewer").await;
    callers.push(None);
    let visit = let_in(&owner, shelf.root).await;
    callers.push(None);

    // An operation that is not in the table fails here.
    let described: Value =
        http.get(format!("{}/api/openapi.json", service.address)).send().await.unwrap().json().await.unwrap();
    let mut known = BTreeSet::new();
    for (path, operations) in described["paths"].as_object().unwrap() {
        for method in operations.as_object().unwrap().keys() {
            known.insert(format!("{} {}", method.to_uppercase(), path.trim_start_matches("/api/v1")));
        }
    }
    let tried: BTreeSet<String> = table().iter().map(|(m, p, ..)| format!("{m} {p}")).collect();
    assert_eq!(tried, known);

    let mut wrong = Vec::new();
    for (turn, (method, path, ask, written)) in table().into_iter().enumerate() {
        let expected = derived(method, path, written);
        for (i, caller) in callers.iter().enumerate() {
            let turn = format!("{turn}-{i}");
            let folder = owner.make_folder(shelf.root, &turn).await.unwrap().id;
            let put = async |name: &str| {
                owner.put(folder, name, None, &Default::default(), b"text".to_vec().into()).await.unwrap().id
            };
            let (file, removed) = (put("file.txt").await, put("removed.txt").await);
            let picture = match path {
                "/nodes/{node}/thumbnail" => {
                    let bytes = picture();
                    owner.put(folder, "p.png", None, &Default::default(), bytes.into()).await.unwrap().id
                }
                _ => 0,
            };
            owner.remove(removed).await.unwrap();
            let grant = api::NewGrant {
                to: "account:outsider".into(),
                can: "deny".into(),
                until: None,
                message: String::new(),
            };
            let grant = match path {
                "/rights/{grant}" => owner.give(file, &grant).await.unwrap().id,
                _ => 0,
            };
            let mut cell = Cell {
                folder,
                file,
                picture,
                removed,
                root: shelf.root,
                grant,
                upload: String::new(),
                archive: String::new(),
                opening: 0,
                snapshot: 0,
                rollback: 0,
                session: String::new(),
                path: format!("Table:/{turn}/file.txt"),
                turn: turn.clone(),
            };
            // What belongs to the one who made it: the last caller is the owner on another computer.
            let mine = callers[7].as_ref().unwrap();
            if path.starts_with("/uploads/") {
                let new = yellow_attic_client::NewUpload {
                    parent: folder,
                    name: "up".into(),
                    size: 4,
                    modified: None,
                    blake3: None,
                    only_kept: false,
                };
                cell.upload = mine.begin_upload(&new).await.unwrap();
            }
            if path.starts_with("/archives/") {
                let body = json!({ "nodes": [file], "format": "zip" });
                let call = http.post(format!("{}/api/v1/archives", service.address)).json(&body);
                let call = call.bearer_auth(mine.token().unwrap());
                let made: Value = call.send().await.unwrap().json().await.unwrap();
                cell.archive = made["address"].as_str().unwrap().trim_start_matches("/api/v1").to_string();
            }
            if path.starts_with("/openings/") || path == "/given/change" {
                let new = api::NewOpening { kind: "intake".into(), node: folder, ..Default::default() };
                cell.opening = owner.make_opening(&new).await.unwrap().id;
            }
            if path.starts_with("/snapshots/") {
                let new = api::SnapshotChange { label: Some("table".into()), ends: None };
                cell.snapshot = owner.take_snapshot(shelf.root, &new).await.unwrap().id;
            }
            if path.starts_with("/rollbacks/") {
                let new = api::NewRollback { to: LATER.into(), token: None, keep: vec![] };
                // One at a time on a shelf: the one before may still run.
                let mut begun = owner.begin_rollback(folder, &new).await;
                while begun.as_ref().is_err_and(|e| e.code() == Some("rolling_back")) {
                    begun = owner.begin_rollback(folder, &new).await;
                }
                cell.rollback = begun.unwrap().id;
                while owner.rollback(cell.rollback).await.unwrap().state == "running" {}
            }
            if path == "/groups/{name}" && method == "DELETE" && i == 7 {
                let new = api::NewGroup { name: "Spare".into(), note: String::new(), members: vec![] };
                owner.make_group(&new).await.unwrap();
            }
            let (address, kind, body) = ask(&cell);
            let (address, parent) = address.split_once('#').unwrap_or((&address, ""));
            let verb = Method::from_bytes(method.as_bytes()).unwrap();
            let mut call = http.request(verb, format!("{}/api/v1{address}", service.address));
            if let Some(client) = caller {
                call = call.bearer_auth(client.token().unwrap());
            }
            if CALLERS[i] == "stranger" {
                call = call.header("cookie", &visit);
            }
            if CALLERS[i] == "looking" {
                call = call.header("cookie", &look).header("sec-fetch-site", "same-origin");
            }
            call = match kind {
                "" => call,
                "tus" => {
                    use base64::Engine;
                    let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
                    let metadata = format!("parent {},filename {}", word(parent), word("tus.bin"));
                    call.header("tus-resumable", "1.0.0")
                        .header("upload-length", "4")
                        .header("upload-metadata", metadata)
                }
                "application/offset+octet-stream" => call
                    .header("tus-resumable", "1.0.0")
                    .header("upload-offset", "0")
                    .header("content-type", kind)
                    .body(body),
                _ => call.header("content-type", kind).body(body),
            };
            let got = call.send().await.unwrap().status().as_u16();
            if got != expected[i] {
                wrong.push(format!("{method} {path} as {}: {got}, not {}", CALLERS[i], expected[i]));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// What asks for proof, with something that would be done if it were there.
fn deeds(c: &Cell) -> Vec<(&'static str, &'static str, Ask)> {
    let nothing = || json!({});
    vec![
        ("POST", "/accounts", with("/accounts".into(), json!({ "sign_in": "new", "password": WORDS }))),
        ("PATCH", "/accounts/{sign_in}", with("/accounts/tomas".into(), json!({ "display_name": "T" }))),
        ("POST", "/accounts/{sign_in}/invitation", plain("/accounts/tomas/invitation".into())),
        ("DELETE", "/accounts/{sign_in}/invitation", plain("/accounts/tomas/invitation".into())),
        (
            "DELETE",
            "/accounts/{sign_in}/sessions/{session}",
            plain(format!("/accounts/tomas/sessions/{}", c.session)),
        ),
        (
            "POST",
            "/connections/answer",
            with("/connections/answer".into(), json!({ "code": "BCDF-GHJK", "connect": true })),
        ),
        ("DELETE", "/accounts/{sign_in}/devices/{device}", plain("/accounts/tomas/devices/99999".into())),
        ("POST", "/accounts/list", ("/accounts/list".into(), "text/csv", b"sign_in\nnew\n".to_vec())),
        ("POST", "/plan", with("/plan".into(), json!({ "plan": {}, "preview": false }))),
        (
            "PUT",
            "/accounts/{sign_in}/removal",
            with("/accounts/gone/removal".into(), json!({ "name": "gone" })),
        ),
        ("DELETE", "/accounts/{sign_in}/removal", plain("/accounts/gone/removal".into())),
        ("DELETE", "/accounts/{sign_in}/factors", plain("/accounts/tomas/factors".into())),
        ("POST", "/groups", with("/groups".into(), json!({ "name": "New" }))),
        ("PATCH", "/groups/{name}", with("/groups/Readers".into(), json!({ "note": "n" }))),
        ("DELETE", "/groups/{name}", plain("/groups/Readers".into())),
        ("POST", "/look", with("/look".into(), json!({ "account": "tomas" }))),
        (
            "POST",
            "/guests",
            with("/guests".into(), json!({ "mail": "a@b.example", "node": c.file, "can": "view" })),
        ),
        (
            "PUT",
            "/rules/{name}",
            with("/rules/looks-told".into(), json!({ "scope": "service", "value": "on" })),
        ),
        ("PUT", "/quotas", with("/quotas".into(), json!({ "of": "organisation" }))),
        ("POST", "/shelves", with("/shelves".into(), json!({ "name": "New" }))),
        ("PATCH", "/shelves/{root}", with(format!("/shelves/{}", c.root), json!({ "note": "n" }))),
        ("POST", "/nodes/{node}/raise", with(format!("/nodes/{}/raise", c.folder), json!({ "name": "Up" }))),
        (
            "POST",
            "/shelves/{root}/lower",
            with(format!("/shelves/{}/lower", c.root), json!({ "parent": c.folder, "name": "D" })),
        ),
        (
            "POST",
            "/nodes/{node}/rights",
            with(format!("/nodes/{}/rights", c.file), json!({ "to": "everyone", "can": "view" })),
        ),
        ("DELETE", "/rights/{grant}", plain(format!("/rights/{}", c.grant))),
        (
            "PUT",
            "/nodes/{node}/afresh",
            with(format!("/nodes/{}/afresh", c.folder), json!({ "afresh": true })),
        ),
        ("POST", "/openings", with("/openings".into(), json!({ "kind": "link", "node": c.file }))),
        ("PATCH", "/openings/{opening}", with(format!("/openings/{}", c.opening), json!({ "can": "edit" }))),
        (
            "POST",
            "/given/change",
            with(
                "/given/change".into(),
                json!({ "of": [{ "kind": "link", "id": c.opening }], "paused": false }),
            ),
        ),
        ("POST", "/past/let-go", with("/past/let-go".into(), json!({ "nodes": [c.removed] }))),
        ("DELETE", "/snapshots/{id}", plain(format!("/snapshots/{}", c.snapshot))),
        ("PATCH", "/snapshots/{id}", with(format!("/snapshots/{}", c.snapshot), json!({ "label": "l" }))),
        ("POST", "/past/clock", plain("/past/clock".into())),
        ("DELETE", "/slowed", plain("/slowed".into())),
        ("POST", "/me/factors/codes", with("/me/factors/codes".into(), nothing())),
        (
            "POST",
            "/me/factors/codes/confirm",
            with("/me/factors/codes/confirm".into(), json!({ "ticket": "x", "code": "1" })),
        ),
        ("POST", "/me/factors/passkey", with("/me/factors/passkey".into(), nothing())),
        (
            "POST",
            "/me/factors/passkey/confirm",
            with("/me/factors/passkey/confirm".into(), json!({ "ticket": "x", "credential": {} })),
        ),
        ("DELETE", "/me/factors/{factor}", plain("/me/factors/1".into())),
        ("POST", "/me/recovery", with("/me/recovery".into(), nothing())),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_alone_decides_nothing_that_the_table_of_proofs_names() {
    use yellow_attic_core::proof::{Needs, TABLE};
    let (service, owner) = Service::ready().await;
    for name in ["tomas", "gone"] {
        account(&owner, name).await;
    }
    let new = api::NewGroup { name: "Readers".into(), note: String::new(), members: vec![] };
    owner.make_group(&new).await.unwrap();
    let shelf =
        owner.make_shelf(&api::NewShelf { name: "Table".into(), ..Default::default() }).await.unwrap();
    let folder = owner.make_folder(shelf.root, "folder").await.unwrap().id;
    let put = async |name: &str| {
        owner.put(folder, name, None, &Default::default(), b"text".to_vec().into()).await.unwrap().id
    };
    let (file, removed) = (put("file.txt").await, put("removed.txt").await);
    owner.remove(removed).await.unwrap();
    let grant =
        api::NewGrant { to: "account:tomas".into(), can: "view".into(), until: None, message: String::new() };
    let grant = owner.give(file, &grant).await.unwrap().id;
    let opening = api::NewOpening { kind: "link".into(), node: folder, ..Default::default() };
    let label = api::SnapshotChange { label: Some("table".into()), ends: None };
    assert_eq!(crate::people::Console::new(&service).sign_in("tomas", WORDS).await.0, 200);
    let session = owner.account("tomas").await.unwrap().sessions[0].id.clone();
    let cell = Cell {
        folder,
        file,
        picture: 0,
        removed,
        root: shelf.root,
        grant,
        upload: String::new(),
        archive: String::new(),
        opening: owner.make_opening(&opening).await.unwrap().id,
        snapshot: owner.take_snapshot(shelf.root, &label).await.unwrap().id,
        rollback: 0,
        session,
        path: "Table:/folder/file.txt".into(),
        turn: "x".into(),
    };
    let mut ines = crate::people::Console::new(&service);
    assert_eq!(ines.sign_in("ines", PASSWORD).await.0, 200);
    // What was proved before a restart is to be proved again: as after ten minutes.
    let cookie = ines.cookie.clone();
    let token = owner.token().unwrap().to_string();
    let service = service.killed_and_started_again();
    let http = reqwest::Client::new();
    let code = async |method: &str, (address, kind, body): Ask, cookie: Option<&str>| {
        let verb = Method::from_bytes(method.as_bytes()).unwrap();
        let call = http.request(verb, format!("{}/api/v1{address}", service.address));
        let call = match cookie {
            Some(cookie) => call.header("cookie", cookie).header("sec-fetch-site", "same-origin"),
            None => call.bearer_auth(&token),
        };
        let call = if kind.is_empty() { call } else { call.header("content-type", kind).body(body) };
        let answer: Value = call.send().await.unwrap().json().await.unwrap_or_default();
        answer["code"].as_str().unwrap_or_default().to_string()
    };
    let deeds = deeds(&cell);
    let mut wrong = Vec::new();
    let mut tried = BTreeSet::new();
    for (method, path, ask) in deeds {
        tried.insert((method, path));
        let needs = TABLE.iter().find(|(_, operations, _)| operations.contains(&(method, path)));
        let wanted = match needs.map(|(.., needs)| needs) {
            Some(Needs::Password) => "proof_needed",
            Some(Needs::Factor) => "factor_needed",
            None => panic!("{method} {path} is not in the table"),
        };
        let got = code(method, ask, Some(&cookie)).await;
        if got != wanted {
            wrong.push(format!("{method} {path}: {got}, not {wanted}"));
        }
    }
    // A computer's token alone ends no other computer; a session does without.
    tried.insert(("DELETE", "/devices/{device}"));
    assert_eq!(code("DELETE", plain("/devices/99999".into()), None).await, "proof_needed");
    // There is no alarm to settle here.
    tried.insert(("POST", "/alarms/{id}/settle"));
    let table: BTreeSet<(&str, &str)> = TABLE.iter().flat_map(|(_, all, _)| all.iter().copied()).collect();
    assert_eq!(tried, table);
    // Whatever else there is asks for nothing more.
    for (method, path, ask, _) in self::table() {
        let named = path.trim_end_matches('}').rsplit_once('{').map_or(path, |(head, _)| head);
        let same = |other: &str| other.rsplit_once('{').map_or(other, |(head, _)| head) == named;
        if table.iter().any(|(m, p)| *m == method && (*p == path || same(p)))
            || path == "/events"
            || path == "/session"
        {
            continue;
        }
        let got = code(method, ask(&cell), Some(&cookie)).await;
        if got == "proof_needed" || got == "factor_needed" {
            wrong.push(format!("{method} {path}: {got}, and it is not in the table"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn rights_are_given_explained_and_ended_by_commands() {
    let (service, _) = Service::ready().await;
    let (ines, tomas) = (Yattic::new(), Yattic::new());
    ines.connect(&service);
    for name in ["tomas", "oona"] {
        let made = ines.fed(&["account", "new", name, "--password-stdin"], WORDS.as_bytes());
        assert!(made.status.success(), "{made:?}");
    }
    assert_eq!(tomas.try_connect(&service.address, "tomas", WORDS), "");
    ines.ok(&["group", "new", "Archive", "--note", "Logbooks", "--member", "tomas"]);
    ines.ok(&["mkdir", "home:/Plans"]);
    let local = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(local.path(), b"plan").unwrap();
    let file = local.path().to_str().unwrap();
    ines.ok(&["put", file, "home:/Plans/plan.txt"]);
    assert!(tomas.fails(1, &["cat", "given:/Plans/plan.txt"]).contains("not found"));
    let said = ines.ok(&["share", "home:/Plans", "--with", "group:archive", "--can", "view"]);
    assert_eq!(said.trim(), "Archive may view home:/Plans.");
    assert_eq!(tomas.ok(&["cat", "given:/Plans/plan.txt"]), "plan");
    assert!(tomas.ok(&["ls"]).contains("given:/Plans"));
    assert!(tomas.fails(1, &["put", file, "given:/Plans/plan.txt"]).contains("needs the right to edit"));
    let why = tomas.ok(&["why", "given:/Plans/plan.txt"]);
    assert!(
        why.contains("tomas may view here") && why.contains("On given:/Plans, Archive may view"),
        "{why}"
    );
    ines.ok(&["share", "home:/Plans/plan.txt", "--with", "tomas", "--can", "edit", "--until", "2030-01-31"]);
    tomas.ok(&["put", file, "given:/Plans/plan.txt"]);
    let who = ines.ok(&["who", "home:/Plans/plan.txt"]);
    assert!(who.contains("tomas") && who.contains("edit") && !who.contains("oona"), "{who}");
    let why = ines.ok(&["why", "oona", "home:/Plans/plan.txt"]);
    assert!(why.contains("they cannot see it"), "{why}");
    let refused = ines.fails(1, &["unshare", "home:/Plans/plan.txt", "--with", "group:Archive"]);
    assert!(refused.contains("given on home:/Plans: end it there"), "{refused}");
    ines.ok(&["share", "home:/Plans", "--with", "oona", "--can", "add"]);
    let oona = Yattic::new();
    assert_eq!(oona.try_connect(&service.address, "oona", WORDS), "");
    oona.ok(&["mkdir", "--parents", "given:/Plans/a/b"]);
    ines.ok(&["info", "home:/Plans/a/b"]);
    // Without a password nobody is let in, and it is said as of anybody.
    ines.ok(&["account", "new", "hugo"]);
    let told = Yattic::new().try_connect(&service.address, "hugo", "");
    assert!(told.contains("sign-in name or the password is wrong"), "{told}");
    ines.ok(&["unshare", "home:/Plans", "--with", "group:Archive"]);
    assert_eq!(tomas.ok(&["cat", "given:/plan.txt"]), "plan");
    tomas.ok(&["unshare", "given:/plan.txt"]);
    assert!(tomas.fails(1, &["cat", "given:/plan.txt"]).contains("not found"));
    // A disabled account is out at once, and is told why when it proves who it is.
    ines.ok(&["account", "end", "tomas", "--yes"]);
    assert!(tomas.fails(1, &["ls"]).contains("Nobody is signed in"));
    let again = Yattic::new();
    let told = again.try_connect(&service.address, "tomas", WORDS);
    assert!(told.contains("has disabled this account"), "{told}");
    ines.ok(&["account", "set", "tomas", "--enable"]);
    tomas.ok(&["ls"]);
    let last = ines.fails(1, &["account", "set", "ines", "--role", "member"]);
    assert!(last.contains("last administrator"), "{last}");
    let alike = ines.fails(1, &["group", "new", "  ARCHIVE"]);
    assert!(alike.contains("looks like it"), "{alike}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_administrator_makes_people_and_groups_and_access_follows_at_once_in_the_other_browser() {
    let (service, owner) = Service::ready().await;
    let home = owner.place("home:/", None).await.unwrap().node.id;
    let plans = owner.make_folder(home, "Plans").await.unwrap().id;
    owner.put(plans, "tower.txt", None, &Default::default(), b"92 steps".to_vec().into()).await.unwrap();
    let sign_in = async |name: &str, password: &str| {
        let browser = Browser::open(1280, 947).await;
        browser.page.goto(&service.address).await.unwrap();
        browser.fill("Sign-in name", name).await;
        browser.fill("Password", password).await;
        browser.press("Sign in").await;
        browser.says("yours").await;
        browser
    };
    let ines = sign_in("ines", PASSWORD).await;
    ines.page.goto(&format!("{}/desk/groups", service.address)).await.unwrap();
    ines.says("No group yet").await;
    ines.press("New group").await;
    ines.fill("Name", "Archive").await;
    ines.press("Make group").await;
    ines.says("Made the group").await;
    ines.page.goto(&format!("{}/desk/people", service.address)).await.unwrap();
    ines.press("New account").await;
    ines.fill("Name", "Tomas Field").await;
    ines.press("Make account").await;
    ines.says("Pass this on to Tomas Field").await;
    let address = ines.find("input[readonly]").await.prop("value").await.unwrap().unwrap();
    assert!(address.starts_with(&format!("{}/welcome#", service.address)), "{address}");
    ines.press("Done").await;
    ines.says("no password yet").await;
    ines.is_accessible("people on the desk").await;

    // The invitation: a password is refused with the reason, another accepted; it counts once.
    let tomas = Browser::open(1280, 947).await;
    tomas.page.goto(&address).await.unwrap();
    tomas.says("Welcome, Tomas Field").await;
    tomas.is_accessible("an invitation").await;
    for (password, then) in [("harbour", "it needs at least 10"), (WORDS, "You are signed in")] {
        tomas.fill("Password", password).await;
        tomas.fill("The same once more", password).await;
        tomas.press("Choose it").await;
        tomas.says(then).await;
    }
    tomas.press("To the shelves").await;
    tomas.says("yours alone").await;
    let late = Browser::open(1280, 947).await;
    late.page.goto(&address).await.unwrap();
    late.says("A password was chosen by it already").await;
    late.close().await;
    // The desk is not theirs.
    tomas.page.goto(&format!("{}/desk/people", service.address)).await.unwrap();
    tomas.says("The desk is for administrators").await;
    tomas.page.goto(&service.address).await.unwrap();
    tomas.says("Nothing stands here yet").await;

    ines.page.goto(&format!("{}/shelf/home", service.address)).await.unwrap();
    ines.click(&row(&ines, "Plans").await).await;
    ines.says("Only you").await;
    ines.press("Give or take access").await;
    ines.fill("Give to", "Archive (group)").await;
    ines.press("Give").await;
    ines.find("[aria-label='End what is given to Archive']").await;
    ines.is_accessible("giving access").await;
    ines.press("Done").await;

    // Put into the group, Tomas sees it without a reload; taken out, it is gone.
    owner
        .change_group("Archive", &api::GroupChange { add: vec!["tomas".into()], ..Default::default() })
        .await
        .unwrap();
    tomas.says("Given to you").await;
    tomas.says("by Ines Marrow; you may look").await;
    tomas.is_accessible("shelves with something given").await;
    tomas.page.goto(&format!("{}/shelf/given/Plans", service.address)).await.unwrap();
    row(&tomas, "tower.txt").await;
    tomas.says("You may look, and download").await;
    owner
        .change_group("Archive", &api::GroupChange { remove: vec!["tomas".into()], ..Default::default() })
        .await
        .unwrap();
    tomas.says("was not found").await;

    // One's own password: the present one is asked for; another browser is signed out by it.
    let second = sign_in("tomas", WORDS).await;
    tomas.page.goto(&format!("{}/account", service.address)).await.unwrap();
    tomas.says("Sign out there").await;
    tomas.is_accessible("my account").await;
    for (present, then) in
        [("not this one", "That is not your password"), (WORDS, "Your password is changed")]
    {
        tomas.fill("Present password", present).await;
        tomas.fill("New password", "lamps along the quay").await;
        tomas.fill("The same once more", "lamps along the quay").await;
        tomas.press("Change password").await;
        tomas.says(then).await;
    }
    tomas.says_no_more("Sign out there").await;
    second.page.refresh().await.unwrap();
    second.says("Sign in").await;
    second.close().await;
    ines.close().await;
    tomas.close().await;
}
