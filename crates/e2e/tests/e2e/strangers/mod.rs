//! What people outside see and do: links and intakes, through the network, in Chromium, and as their
//! makers keep track of them.

mod intakes;
mod links;
mod pages;
mod track;

use base64::Engine as _;
use reqwest::{Method, Response};
use serde_json::{Value, json};
use yellow_attic_client::{Client, api};

/// Somebody without an account: no redirect is followed, no cookie is kept but by hand.
pub struct Stranger {
    pub http: reqwest::Client,
    pub cookie: String,
}

impl Stranger {
    pub fn new() -> Stranger {
        let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        Stranger { http, cookie: String::new() }
    }

    pub async fn call(
        &self,
        method: Method,
        address: &str,
        headers: &[(&str, &str)],
        body: Vec<u8>,
    ) -> Response {
        let mut call = self.http.request(method, address).header("cookie", &self.cookie).body(body);
        for (name, value) in headers {
            call = call.header(*name, *value);
        }
        call.send().await.unwrap()
    }

    pub async fn get(&self, address: &str) -> Response {
        self.call(Method::GET, address, &[], Vec::new()).await
    }

    /// A page: its status and text.
    pub async fn page(&self, address: &str) -> (u16, String) {
        let answer = self.call(Method::GET, address, &[("accept", "text/html")], Vec::new()).await;
        (answer.status().as_u16(), answer.text().await.unwrap())
    }

    pub async fn code(&self, address: &str) -> (u16, String) {
        let answer = self.get(address).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap_or_default();
        (status, body["code"].as_str().unwrap_or_default().to_string())
    }

    pub async fn enter(&mut self, address: &str, password: &str) -> u16 {
        let form = [("content-type", "application/x-www-form-urlencoded")];
        let body = format!("password={}", password.replace(' ', "+")).into_bytes();
        let answer = self.call(Method::POST, &format!("{address}/enter"), &form, body).await;
        if let Some(cookie) = answer.headers().get("set-cookie") {
            self.cookie = cookie.to_str().unwrap().split(';').next().unwrap().to_string();
        }
        answer.status().as_u16()
    }

    /// Takes a slip: where it leads to, or the status and code of the refusal.
    pub async fn slip(&self, address: &str, way: &str) -> Result<String, u16> {
        let answer = self.call(Method::POST, &format!("{address}/slip/{way}"), &[], Vec::new()).await;
        match answer.status().as_u16() {
            303 => {
                let origin = &address[..address.find("/open/").unwrap()];
                Ok(format!("{origin}{}", answer.headers()["location"].to_str().unwrap()))
            }
            other => Err(other),
        }
    }

    /// Sends a file by an intake or a link in one request. The status, and the code of a refusal.
    pub async fn send(
        &self,
        address: &str,
        delivery: &str,
        way: &str,
        name: &str,
        bytes: &[u8],
    ) -> (u16, String) {
        let word = |text: &str| base64::engine::general_purpose::STANDARD.encode(text);
        let metadata = format!("filename {},way {}", word(name), word(way));
        let length = bytes.len().to_string();
        let headers = [
            ("tus-resumable", "1.0.0"),
            ("upload-length", length.as_str()),
            ("upload-metadata", metadata.as_str()),
            ("content-type", "application/offset+octet-stream"),
            ("delivery", delivery),
        ];
        let answer = self.call(Method::POST, &format!("{address}/uploads"), &headers, bytes.to_vec()).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap_or_default();
        (status, body["code"].as_str().unwrap_or_default().to_string())
    }

    pub async fn begin(&self, address: &str, name: &str) -> Result<String, (u16, String)> {
        let body = json!({ "name": name }).to_string().into_bytes();
        let json = [("content-type", "application/json")];
        let answer = self.call(Method::POST, &format!("{address}/deliveries"), &json, body).await;
        let status = answer.status().as_u16();
        let body: Value = answer.json().await.unwrap();
        match status {
            201 => Ok(body["delivery"].as_str().unwrap().to_string()),
            _ => Err((status, body["code"].as_str().unwrap_or_default().to_string())),
        }
    }

    pub async fn done(&self, address: &str, delivery: &str) -> (u16, Value) {
        let answer =
            self.call(Method::POST, &format!("{address}/done"), &[("delivery", delivery)], Vec::new()).await;
        (answer.status().as_u16(), answer.json().await.unwrap())
    }
}

pub fn link(node: i64, set: api::OpeningSet) -> api::NewOpening {
    api::NewOpening { kind: "link".into(), node, ending: None, set }
}

pub fn intake(node: i64, set: api::OpeningSet) -> api::NewOpening {
    api::NewOpening { kind: "intake".into(), node, ending: None, set }
}

pub fn set() -> api::OpeningSet {
    api::OpeningSet::default()
}

pub async fn made(client: &Client, new: api::NewOpening) -> (i64, String) {
    let made = client.make_opening(&new).await.unwrap();
    (made.id, made.address.unwrap())
}

pub async fn home(client: &Client) -> i64 {
    client.place("home:/", None).await.unwrap().node.id
}

pub async fn put(client: &Client, folder: i64, name: &str, bytes: &[u8]) -> i64 {
    client.put(folder, name, None, &Default::default(), bytes.to_vec().into()).await.unwrap().id
}

pub fn refused<T: std::fmt::Debug>(done: Result<T, yellow_attic_client::Error>) -> String {
    done.unwrap_err().code().unwrap_or_default().to_string()
}

/// A time as the service takes it.
pub fn hours(from_now: i64) -> String {
    seconds(from_now * 3600)
}

/// The same, so many seconds from now.
pub fn seconds(from_now: i64) -> String {
    let at = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() as i64;
    let days = (at + from_now) / 86_400;
    let rest = (at + from_now).rem_euclid(86_400);
    // Civil date from days (proleptic Gregorian).
    let z = days + 719_468;
    let (era, doe) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let (mp, y) = ((5 * doy + 2) / 153, yoe + era * 400);
    let (d, m) = (doy - (153 * mp + 2) / 5 + 1, if mp < 10 { mp + 3 } else { mp - 9 });
    let y = if m <= 2 { y + 1 } else { y };
    format!("{y:04}-{m:02}-{d:02}T{:02}:{:02}:{:02}Z", rest / 3600, rest / 60 % 60, rest % 60)
}

/// A member with a computer of their own.
pub async fn member(ines: &Client, name: &str) -> (Client, String) {
    let words = "gulls over the harbour".to_string();
    let new = api::NewAccount { sign_in: name.into(), password: Some(words.clone()), ..Default::default() };
    ines.make_account(&new).await.unwrap();
    let asked = api::NewDevice {
        sign_in: name.into(),
        password: words.clone(),
        device: "d".into(),
        ..Default::default()
    };
    let token = ines.connect(&asked).await.unwrap().token;
    (Client::new(ines.address(), Some(&token)).unwrap(), words)
}

pub async fn shelf_for(ines: &Client, name: &str, who: &str, level: &str) -> i64 {
    let people = vec![api::ShelfPerson { to: format!("account:{who}"), level: level.into() }];
    ines.make_shelf(&api::NewShelf { name: name.into(), people, ..Default::default() }).await.unwrap().root
}

pub trait Reads {
    async fn read(&self, node: i64) -> Vec<u8>;
}

impl Reads for Client {
    async fn read(&self, node: i64) -> Vec<u8> {
        let http = reqwest::Client::new();
        let call = http.get(format!("{}/api/v1/nodes/{node}/content", self.address()));
        call.bearer_auth(self.token().unwrap()).send().await.unwrap().bytes().await.unwrap().to_vec()
    }
}

pub fn picture() -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = png::Encoder::new(&mut bytes, 8, 8).write_header().unwrap();
    writer.write_image_data(&[128; 64]).unwrap();
    writer.finish().unwrap();
    bytes
}
