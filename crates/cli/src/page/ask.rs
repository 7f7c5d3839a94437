//! Asks the yattic sync run of this account, over its socket.

use super::SOCKET;
use crate::output::Failure;
use reqwest::Method;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fs::File;
use std::os::fd::AsRawFd;
use std::path::Path;

/// Whoever is at work on the pairs.
pub struct Runner {
    http: reqwest::Client,
    /// The socket is named by it.
    _folder: File,
}

#[derive(serde::Deserialize)]
struct Says {
    detail: String,
    remedy: String,
}

impl Runner {
    /// None if nobody is at work.
    pub fn of(folder: &Path) -> Result<Option<Runner>, Failure> {
        let folder = File::open(folder)?;
        let path = format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd());
        // A socket that nobody listens on is left over.
        if std::os::unix::net::UnixStream::connect(&path).is_err() {
            return Ok(None);
        }
        yellow_attic_client::choose_tls();
        let http = reqwest::Client::builder().unix_socket(path).build();
        let http = http.map_err(|e| Failure::failed(e.to_string(), ""))?;
        Ok(Some(Runner { http, _folder: folder }))
    }

    /// Asks it something.
    pub async fn ask<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, Failure> {
        let away = |e: reqwest::Error| {
            Failure::failed(format!("yattic sync run does not answer: {e}"), "See whether it still runs.")
        };
        let asked = self.http.request(method, format!("http://here{path}")).json(body).send();
        let answer = asked.await.map_err(away)?;
        if answer.status().is_success() {
            return answer.json().await.map_err(away);
        }
        let says: Says = answer.json().await.map_err(away)?;
        Err(Failure::failed(says.detail, says.remedy))
    }
}
