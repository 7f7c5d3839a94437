//! WebDAV: through programs that others wrote, and word for word.

mod basics;
mod hostile;
mod others;
mod sync;

use crate::support::{PASSWORD, Service};
use base64::Engine as _;
use std::collections::BTreeMap;
use yellow_attic_core::dav::xml::Element;

/// A caller that speaks WebDAV.
pub struct Dav {
    http: reqwest::Client,
    pub address: String,
    auth: String,
}

/// What came back.
pub struct Answer {
    pub status: u16,
    pub headers: reqwest::header::HeaderMap,
    pub body: String,
}

impl Answer {
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default()
    }

    /// It must have this status.
    #[track_caller]
    pub fn is(self, status: u16) -> Answer {
        assert_eq!(self.status, status, "{}", self.body);
        self
    }

    pub fn xml(&self) -> Element {
        Element::read(self.body.as_bytes()).unwrap_or_else(|e| panic!("{e}: {}", self.body))
    }

    /// The properties found, by address and name, as text; of what became of an address, its status.
    pub fn found(&self) -> BTreeMap<String, BTreeMap<String, String>> {
        let mut all = BTreeMap::new();
        for response in self.xml().elements().filter(|e| e.name.is_dav("response")) {
            let href = response.dav("href").unwrap().text();
            let mut props = BTreeMap::new();
            if let Some(status) = response.dav("status") {
                props.insert("status".into(), status.text().split(' ').nth(1).unwrap().into());
            }
            for group in response.elements().filter(|e| e.name.is_dav("propstat")) {
                if !group.dav("status").unwrap().text().contains(" 200 ") {
                    continue;
                }
                for prop in group.dav("prop").unwrap().elements() {
                    let inner = prop.elements().next().map_or(prop.text(), |e| match e.text().is_empty() {
                        true => e.name.name.clone(),
                        false => e.text(),
                    });
                    props.insert(prop.name.name.clone(), inner);
                }
            }
            assert!(all.insert(href.clone(), props).is_none(), "{href} is told of twice: {}", self.body);
        }
        all
    }
}

impl Dav {
    pub fn with(service: &Service, name: &str, password: &str) -> Dav {
        let pair = base64::engine::general_purpose::STANDARD.encode(format!("{name}:{password}"));
        Dav { http: reqwest::Client::new(), address: service.address.clone(), auth: format!("Basic {pair}") }
    }

    pub fn ines(service: &Service) -> Dav {
        Dav::with(service, "ines", PASSWORD)
    }

    pub async fn ask(
        &self,
        method: &str,
        path: &str,
        headers: &[(&str, &str)],
        body: impl Into<Vec<u8>>,
    ) -> Answer {
        let method = reqwest::Method::from_bytes(method.as_bytes()).unwrap();
        let mut call = self.http.request(method, format!("{}{path}", self.address));
        if !headers.iter().any(|(name, _)| *name == "authorization") {
            call = call.header("authorization", &self.auth);
        }
        for (name, value) in headers {
            call = call.header(*name, *value);
        }
        let answer = call.body(body.into()).send().await.unwrap();
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        Answer { status, headers, body: String::from_utf8_lossy(&answer.bytes().await.unwrap()).into_owned() }
    }

    pub async fn put(&self, path: &str, body: impl Into<Vec<u8>>) -> Answer {
        self.ask("PUT", path, &[], body).await
    }

    pub async fn find(&self, path: &str, depth: &str, names: &str) -> Answer {
        let body = format!("<propfind xmlns=\"DAV:\"><prop>{names}</prop></propfind>");
        self.ask("PROPFIND", path, &[("depth", depth)], body).await
    }

    /// Takes a lock; its token.
    pub async fn lock(&self, path: &str, depth: &str, scope: &str) -> Answer {
        let body = format!(
            "<lockinfo xmlns=\"DAV:\"><lockscope><{scope}/></lockscope><locktype><write/></locktype>\
             <owner>Ines at the desk</owner></lockinfo>"
        );
        self.ask("LOCK", path, &[("depth", depth), ("timeout", "Second-600")], body).await
    }
}

/// The token in the header of an answer to LOCK.
pub fn token(answer: &Answer) -> String {
    answer.header("lock-token").trim_matches(['<', '>']).to_string()
}

/// A right for Oona.
pub fn for_oona(can: &str) -> yellow_attic_client::api::NewGrant {
    let (to, can) = ("account:oona".to_string(), can.to_string());
    yellow_attic_client::api::NewGrant { to, can, until: None, message: String::new() }
}

/// An account for Oona, with the same password as everybody's here.
pub async fn make_oona(client: &yellow_attic_client::Client) {
    let new = yellow_attic_client::api::NewAccount {
        sign_in: "oona".into(),
        password: Some(PASSWORD.into()),
        ..Default::default()
    };
    client.make_account(&new).await.unwrap();
}
