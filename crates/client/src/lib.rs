//! The typed client of a service's API. No terminal, no files of its own.
//!
//! [`Client`] has one verb per route; [`Error`] tells a refusal of the service (with its
//! problem, code and remedy) from a line that broke.

#![forbid(unsafe_code)]

use base64::Engine as _;
use bytes::Bytes;
use futures_util::Stream;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::sync::Arc;
use std::time::Duration;
pub use yellow_attic_api as api;

mod desk;
mod devices;
mod kept;
mod openings;
mod people;

const KEEP: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Why a call did not succeed.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The service refused, and says why.
    #[error("{}", .0.detail)]
    Refused(Box<api::Problem>),
    /// The service could not be reached, or the line broke.
    #[error("{0}")]
    Line(String),
    /// The answer is none of this API.
    #[error("the answer is not one of a Yellow Attic service: {0}")]
    Strange(String),
    /// Something on this side, such as reading the file to send.
    #[error("{0}")]
    Local(#[from] std::io::Error),
}

impl Error {
    /// The problem's code, if the service refused.
    pub fn code(&self) -> Option<&str> {
        match self {
            Error::Refused(problem) => Some(&problem.code),
            _ => None,
        }
    }
}

fn line(error: &reqwest::Error) -> Error {
    // The innermost cause says most: "Connection refused" instead of "error sending request".
    let mut cause: &dyn std::error::Error = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    Error::Line(cause.to_string())
}

/// The answer of a call.
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// Talks to one service as one device.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    address: Arc<str>,
    token: Option<Arc<str>>,
    stated: Stated,
}

/// What a program that keeps a tree in step says of its writes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Stated {
    /// Which thing is written: `new`, or its id.
    pub thing: Option<String>,
    /// The last moment that is known of it: a write is refused if something happened to it since.
    pub seen: Option<String>,
    /// What the request is called: its repeat gets the first answer.
    pub request: Option<String>,
    /// Whether the file that is put is a program; if it is not said, the file that stands there stays what it is.
    pub executable: Option<bool>,
}

/// Bytes to send.
pub struct Body {
    /// How many, if known.
    pub length: Option<u64>,
    /// The bytes.
    pub body: reqwest::Body,
}

impl From<Vec<u8>> for Body {
    fn from(bytes: Vec<u8>) -> Body {
        Bytes::from(bytes).into()
    }
}

impl From<Bytes> for Body {
    fn from(bytes: Bytes) -> Body {
        Body { length: Some(bytes.len() as u64), body: bytes.into() }
    }
}

impl Body {
    /// Bytes that come piece by piece.
    pub fn stream<S>(length: Option<u64>, stream: S) -> Body
    where
        S: Stream<Item = std::io::Result<Bytes>> + Send + 'static,
    {
        Body { length, body: reqwest::Body::wrap_stream(stream) }
    }
}

/// What a write demands.
#[derive(Clone, Debug, Default)]
pub struct When {
    /// Only if the present state has this ETag.
    pub matches: Option<String>,
    /// Only if nothing is there.
    pub nothing_there: bool,
}

/// Chooses between rustls's providers, of which both can be in a build: before any client is made.
pub fn choose_tls() {
    let _ = rustls::crypto::ring::default_provider().install_default();
}

impl Client {
    /// A client of the service at an address such as `https://files.example.org`.
    pub fn new(address: &str, token: Option<&str>) -> Result<Client> {
        choose_tls();
        let http = reqwest::Client::builder()
            .connect_timeout(Duration::from_secs(10))
            .read_timeout(Duration::from_secs(120))
            .tcp_nodelay(true)
            .pool_max_idle_per_host(32)
            .build()
            .map_err(|e| line(&e))?;
        Ok(Client {
            http,
            address: address.trim_end_matches('/').into(),
            token: token.map(Into::into),
            stated: Stated::default(),
        })
    }

    /// The token with which it asks.
    pub fn token(&self) -> Option<&str> {
        self.token.as_deref()
    }

    /// The service's address.
    pub fn address(&self) -> &str {
        &self.address
    }

    fn call(&self, method: Method, path: &str) -> RequestBuilder {
        let mut call = self.http.request(method, format!("{}/api/v1{path}", self.address));
        let Stated { thing, seen, request, executable: _ } = &self.stated;
        for (name, value) in [("thing", thing), ("seen", seen), ("idempotency-key", request)] {
            if let Some(value) = value {
                call = call.header(name, value);
            }
        }
        match &self.token {
            Some(token) => call.bearer_auth(token),
            None => call,
        }
    }

    async fn send(call: RequestBuilder) -> Result<Response> {
        let answer = call.send().await.map_err(|e| line(&e))?;
        let status = answer.status();
        if status.is_success() || status == StatusCode::NOT_MODIFIED {
            return Ok(answer);
        }
        let body = answer.bytes().await.map_err(|e| line(&e))?;
        match serde_json::from_slice::<api::Problem>(&body) {
            Ok(problem) => Err(Error::Refused(Box::new(problem))),
            Err(_) => Err(Error::Strange(format!("status {status}"))),
        }
    }

    async fn read<T: DeserializeOwned>(call: RequestBuilder) -> Result<T> {
        let answer = Self::send(call).await?;
        let bytes = answer.bytes().await.map_err(|e| line(&e))?;
        serde_json::from_slice(&bytes).map_err(|e| Error::Strange(e.to_string()))
    }

    async fn get<T: DeserializeOwned>(&self, path: &str, query: &impl Serialize) -> Result<T> {
        Self::read(self.call(Method::GET, &format!("{path}{}", encode_query(query)))).await
    }

    async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T> {
        Self::read(self.call(Method::POST, path).json(body)).await
    }

    /// What a page must know first.
    pub async fn welcome(&self) -> Result<api::Welcome> {
        self.get("/welcome", &()).await
    }

    /// Makes the first administrator.
    pub async fn set_up(&self, body: &api::SetUp) -> Result<api::Me> {
        self.post("/set-up", body).await
    }

    /// The shelves one may enter.
    pub async fn shelves(&self) -> Result<api::Shelves> {
        self.get("/shelves", &()).await
    }

    /// What stands, or stood, at a place.
    pub async fn place(&self, path: &str, at: Option<&str>) -> Result<api::Facts> {
        self.get("/place", &api::PlaceQuery { path: path.into(), at: at.map(Into::into) }).await
    }

    /// The facts of a node.
    pub async fn facts(&self, node: i64) -> Result<api::Facts> {
        self.get(&format!("/nodes/{node}"), &()).await
    }

    /// One page of a folder.
    pub async fn entries(&self, node: i64, query: &api::ListQuery) -> Result<api::Entries> {
        self.get(&format!("/nodes/{node}/entries"), query).await
    }

    /// All entries of a folder.
    pub async fn all_entries(&self, node: i64, query: &api::ListQuery) -> Result<Vec<api::Node>> {
        let mut query = api::ListQuery { limit: Some(1000), ..query.clone() };
        let mut all = Vec::new();
        loop {
            let page = self.entries(node, &query).await?;
            all.extend(page.entries);
            match page.next {
                Some(next) => query.cursor = Some(next),
                None => return Ok(all),
            }
        }
    }

    /// Makes a folder.
    pub async fn make_folder(&self, parent: i64, name: &str) -> Result<api::Node> {
        self.post(&format!("/nodes/{parent}/folders"), &api::NewFolder { name: name.into() }).await
    }

    /// Moves or renames.
    pub async fn change(&self, node: i64, target: &api::Target) -> Result<api::Node> {
        Self::read(self.call(Method::PATCH, &format!("/nodes/{node}")).json(target)).await
    }

    /// Copies.
    pub async fn copy(&self, node: i64, target: &api::Target) -> Result<api::Node> {
        // A large folder takes as long as its bytes take.
        let call = self.call(Method::POST, &format!("/nodes/{node}/copy")).json(target);
        Self::read(call.timeout(Duration::from_secs(24 * 3600))).await
    }

    /// Removes.
    pub async fn remove(&self, node: i64) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/nodes/{node}"))).await.map(|_| ())
    }

    /// The chunks of a file, as it is or was.
    pub async fn chunks(&self, node: i64, at: Option<&str>) -> Result<api::Chunks> {
        self.get(&format!("/nodes/{node}/chunks"), &api::StateQuery { at: at.map(Into::into) }).await
    }

    /// Puts a file that is made of parts of others and of bytes that come along: a delta.
    pub async fn assemble(&self, parent: i64, name: &str, body: Body) -> Result<api::Node> {
        let path = format!("/nodes/{parent}/assembled/{}", encode(name));
        Self::read(self.call(Method::POST, &path).body(body.body)).await
    }

    /// A part of the bytes of a file.
    pub async fn content_part(
        &self,
        node: i64,
        at: Option<&str>,
        from: u64,
        length: u64,
    ) -> Result<impl Stream<Item = Result<Bytes>> + use<>> {
        let query = encode_query(&api::StateQuery { at: at.map(Into::into) });
        let call = self.call(Method::GET, &format!("/nodes/{node}/content{query}"));
        let answer = Self::send(call.header("range", format!("bytes={from}-{}", from + length - 1))).await?;
        if answer.status() != reqwest::StatusCode::PARTIAL_CONTENT {
            return Err(Error::Strange("a part was asked for, and something else came".into()));
        }
        Ok(futures_util::StreamExt::map(answer.bytes_stream(), |piece| piece.map_err(|e| line(&e))))
    }

    /// A small picture of a picture, as it is or was: PNG or JPEG.
    pub async fn thumbnail(&self, node: i64, at: Option<&str>) -> Result<Bytes> {
        let query = encode_query(&api::StateQuery { at: at.map(Into::into) });
        let answer = Self::send(self.call(Method::GET, &format!("/nodes/{node}/thumbnail{query}"))).await?;
        answer.bytes().await.map_err(|e| line(&e))
    }

    /// Locks for so many minutes.
    pub async fn lock(&self, node: i64, minutes: u32) -> Result<api::Lock> {
        let body = api::NewLock { minutes: Some(minutes) };
        Self::read(self.call(Method::PUT, &format!("/nodes/{node}/lock")).json(&body)).await
    }

    /// Ends one's own locks.
    pub async fn unlock(&self, node: i64) -> Result<()> {
        Self::send(self.call(Method::DELETE, &format!("/nodes/{node}/lock"))).await.map(|_| ())
    }

    /// Brings back.
    pub async fn restore(&self, node: i64, body: &api::Restore) -> Result<api::Node> {
        self.post(&format!("/nodes/{node}/restore"), body).await
    }

    /// The history of a node.
    pub async fn history(&self, node: i64) -> Result<api::History> {
        self.get(&format!("/nodes/{node}/history"), &()).await
    }

    /// What the time strip is drawn from.
    pub async fn activity(&self, node: i64) -> Result<api::Activity> {
        self.get(&format!("/nodes/{node}/activity"), &()).await
    }

    /// Changes on a shelf since a moment.
    pub async fn changes(&self, root: i64, query: &api::ChangesQuery) -> Result<api::Changes> {
        self.get(&format!("/shelves/{root}/changes"), query).await
    }

    /// Puts a file into a folder. The answer comes when it is on the disk.
    pub async fn put(
        &self,
        parent: i64,
        name: &str,
        modified: Option<&str>,
        when: &When,
        body: Body,
    ) -> Result<api::Node> {
        let query = encode_query(&api::PutQuery {
            modified: modified.map(Into::into),
            executable: self.stated.executable,
        });
        let mut call = self.call(Method::PUT, &format!("/nodes/{parent}/files/{}{query}", encode(name)));
        if let Some(length) = body.length {
            call = call.header("content-length", length);
        }
        if let Some(tag) = &when.matches {
            call = call.header("if-match", tag);
        }
        if when.nothing_there {
            call = call.header("if-none-match", "*");
        }
        Self::read(call.body(body.body)).await
    }

    /// Moves and renames many things as one change: all of them, or none.
    pub async fn move_together(&self, moves: Vec<api::OneMove>) -> Result<api::MovedTogether> {
        self.post("/moves", &api::Moves { moves }).await
    }

    /// Gives a file a new state, wherever it is by now.
    pub async fn put_onto(&self, node: i64, modified: Option<&str>, body: Body) -> Result<api::Node> {
        let query = encode_query(&api::PutQuery {
            modified: modified.map(Into::into),
            executable: self.stated.executable,
        });
        let mut call = self.call(Method::PUT, &format!("/nodes/{node}/content{query}"));
        if let Some(length) = body.length {
            call = call.header("content-length", length);
        }
        Self::read(call.body(body.body)).await
    }

    /// The same client, whose writes say what they are of.
    pub fn stating(&self, stated: Stated) -> Client {
        Client { stated, ..self.clone() }
    }

    /// The bytes of a file from an offset on, as they are or were.
    pub async fn content(
        &self,
        node: i64,
        at: Option<&str>,
        from: u64,
    ) -> Result<impl Stream<Item = Result<Bytes>> + use<>> {
        let query = encode_query(&api::StateQuery { at: at.map(Into::into) });
        let mut call = self.call(Method::GET, &format!("/nodes/{node}/content{query}"));
        if from > 0 {
            call = call.header("range", format!("bytes={from}-"));
        }
        let answer = Self::send(call).await?;
        Ok(futures_util::StreamExt::map(answer.bytes_stream(), |piece| piece.map_err(|e| line(&e))))
    }
}

/// A file that arrives in parts, as it is announced.
#[derive(Clone, Debug)]
pub struct NewUpload {
    /// The folder it goes to.
    pub parent: i64,
    /// Its name there.
    pub name: String,
    /// In bytes.
    pub size: u64,
    /// Its own time of modification, RFC 3339.
    pub modified: Option<String>,
    /// The BLAKE3 hash that the whole will have, in hexadecimal digits: other bytes are refused at the end.
    pub blake3: Option<String>,
    /// Whether the bytes are only kept when they are all there, until [`Client::place_upload`] says where they go.
    pub only_kept: bool,
}

const TUS: (&str, &str) = ("tus-resumable", "1.0.0");

impl Client {
    /// One's unfinished uploads.
    pub async fn uploads(&self) -> Result<api::Uploads> {
        self.get("/uploads", &()).await
    }

    /// Begins an upload in parts; the answer is its id.
    pub async fn begin_upload(&self, new: &NewUpload) -> Result<String> {
        let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
        let mut said = format!("parent {},filename {}", word(&new.parent.to_string()), word(&new.name));
        if let Some(modified) = &new.modified {
            said.push_str(&format!(",modified {}", word(modified)));
        }
        if let Some(hash) = &new.blake3 {
            said.push_str(&format!(",blake3 {}", word(hash)));
        }
        let call = self
            .call(Method::POST, "/uploads")
            .header(TUS.0, TUS.1)
            .header("upload-length", new.size)
            .header("upload-metadata", said);
        let call = if new.only_kept { call.header("upload-concat", "partial") } else { call };
        let answer = Self::send(call).await?;
        let location = answer.headers().get("location").and_then(|v| v.to_str().ok());
        let id = location.and_then(|l| l.rsplit('/').next()).map(str::to_string);
        id.ok_or_else(|| Error::Strange("the answer names no upload".into()))
    }

    /// How many bytes of an upload have arrived.
    pub async fn upload_offset(&self, id: &str) -> Result<u64> {
        let call = self.call(Method::HEAD, &format!("/uploads/{id}")).header(TUS.0, TUS.1);
        let answer = call.send().await.map_err(|e| line(&e))?;
        if !answer.status().is_success() {
            // A HEAD has no body: ask again in a way that says why.
            let again = self.call(Method::PATCH, &format!("/uploads/{id}")).header(TUS.0, TUS.1);
            let again =
                again.header("content-type", OFFSET_OCTETS).header("upload-offset", 0).body(Vec::new());
            return Self::send(again).await.and_then(|a| offset(&a));
        }
        offset(&answer)
    }

    /// Goes on with an upload at an offset; the answer is how many bytes have arrived. When
    /// they are all, the file is in its place, on the disk.
    pub async fn append(&self, id: &str, from: u64, body: Body) -> Result<u64> {
        let mut call = self
            .call(Method::PATCH, &format!("/uploads/{id}"))
            .header(TUS.0, TUS.1)
            .header("content-type", OFFSET_OCTETS)
            .header("upload-offset", from);
        if let Some(length) = body.length {
            call = call.header("content-length", length);
        }
        Self::send(call.body(body.body)).await.and_then(|answer| offset(&answer))
    }

    /// Puts an upload whose bytes are all there at another place.
    pub async fn place_upload(&self, id: &str, place: &api::UploadPlace) -> Result<api::Node> {
        self.post(&format!("/uploads/{id}/place"), place).await
    }

    /// Ends an upload.
    pub async fn end_upload(&self, id: &str) -> Result<()> {
        let call = self.call(Method::DELETE, &format!("/uploads/{id}")).header(TUS.0, TUS.1);
        Self::send(call).await.map(|_| ())
    }

    /// Sends a tar stream into a folder; each entry's fate comes back as it goes.
    pub async fn send_tar(
        &self,
        folder: i64,
        body: Body,
    ) -> Result<impl Stream<Item = Result<api::TarLine>> + use<>> {
        let call = self
            .call(Method::POST, &format!("/nodes/{folder}/tar"))
            .header("content-type", "application/x-tar")
            .body(body.body);
        let answer = Self::send(call).await?;
        Ok(lines_of(answer))
    }

    /// The bytes of many states of files, as a tar stream: each under its place in the list.
    pub async fn states(
        &self,
        states: Vec<api::WantedState>,
    ) -> Result<impl Stream<Item = Result<Bytes>> + use<>> {
        let call = self.call(Method::POST, "/states").json(&api::WantedStates { states });
        let answer = Self::send(call).await?;
        Ok(futures_util::StreamExt::map(answer.bytes_stream(), |piece| piece.map_err(|e| line(&e))))
    }

    /// What one may do in a folder, and where beneath it that is otherwise.
    pub async fn levels(&self, node: i64) -> Result<api::Levels> {
        self.get(&format!("/nodes/{node}/levels"), &()).await
    }

    /// All that is, or was, beneath a folder at one moment. Without its last line it is not whole.
    pub async fn tree(
        &self,
        node: i64,
        at: Option<&str>,
    ) -> Result<impl Stream<Item = Result<api::TreeLine>> + use<>> {
        let query = encode_query(&api::StateQuery { at: at.map(Into::into) });
        let answer = Self::send(self.call(Method::GET, &format!("/nodes/{node}/tree{query}"))).await?;
        Ok(lines_of(answer))
    }

    /// What happens on the service, as it happens: server-sent events, as they come.
    pub async fn events(&self) -> Result<impl Stream<Item = Result<Bytes>> + use<>> {
        let call = self.call(Method::GET, "/events").timeout(Duration::from_secs(24 * 3600));
        let answer = Self::send(call).await?;
        Ok(futures_util::StreamExt::map(answer.bytes_stream(), |piece| piece.map_err(|e| line(&e))))
    }

    /// Files and folders whose names hold every word of a text.
    pub async fn find(&self, query: &api::FindQuery) -> Result<api::Found> {
        self.get("/find", query).await
    }

    /// Gathers files and folders into one archive.
    pub async fn gather(&self, body: &api::NewArchive) -> Result<api::Archive> {
        self.post("/archives", body).await
    }
}

const OFFSET_OCTETS: &str = "application/offset+octet-stream";

fn offset(answer: &Response) -> Result<u64> {
    let said =
        answer.headers().get("upload-offset").and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
    said.ok_or_else(|| Error::Strange("the answer has no Upload-Offset".into()))
}

/// A part of an address.
pub fn encode(text: &str) -> String {
    utf8_percent_encode(text, KEEP).to_string()
}

fn encode_query(query: &impl Serialize) -> String {
    let mut text = String::new();
    if let Ok(serde_json::Value::Object(fields)) = serde_json::to_value(query) {
        for (key, value) in fields {
            let value = match value {
                serde_json::Value::Null => continue,
                serde_json::Value::String(s) => s,
                other => other.to_string(),
            };
            text.push(if text.is_empty() { '?' } else { '&' });
            text.push_str(&format!("{key}={}", encode(&value)));
        }
    }
    text
}

/// The lines of an answer, as they come.
fn lines_of<T: DeserializeOwned>(answer: Response) -> impl Stream<Item = Result<T>> + use<T> {
    let pieces = answer.bytes_stream();
    futures_util::stream::unfold((pieces, Vec::new(), 0), |(mut pieces, mut text, mut at)| async move {
        loop {
            if let Some(end) = text[at..].iter().position(|b| *b == b'\n') {
                let read = serde_json::from_slice(&text[at..at + end]);
                at += end + 1;
                let read = read.map_err(|e| Error::Strange(e.to_string()));
                return Some((read, (pieces, text, at)));
            }
            text.drain(..at);
            at = 0;
            match futures_util::StreamExt::next(&mut pieces).await? {
                Ok(piece) => text.extend_from_slice(&piece),
                Err(e) => return Some((Err(line(&e)), (pieces, Vec::new(), 0))),
            }
        }
    })
}
