//! What `put` and `get` have in common: where things go, how they are interrupted, and how they end.

use crate::connection;
use crate::output::{self, Done, Failure, Output, count, size};
use std::path::{Path, PathBuf};
use yellow_attic_client::{Client, Error, api};
use yellow_attic_sync::Progress;

/// Where something goes. Decided by how the command is written alone, never by what stands there by now: so the same
/// command, given again, means the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Goes {
    /// Into this folder, under its own name.
    Into(String),
    /// To this very place.
    As(String),
}

impl Goes {
    /// Several things, a last slash or `--into`: into a folder. Else it is the new name.
    pub fn read(to: &str, several: bool, into: bool) -> Goes {
        let last = to.rsplit('/').next().unwrap_or_default();
        match several || into || to.ends_with(['/', ':']) || [".", ".."].contains(&last) {
            true => Goes::Into(to.to_string()),
            false => Goes::As(to.to_string()),
        }
    }
}

/// A place on a shelf where something goes: its folder, and its name there.
pub async fn remote(
    client: &Client,
    goes: &Goes,
    usual: &str,
    folder: bool,
) -> Result<(i64, String), Failure> {
    match goes {
        Goes::Into(to) => {
            let there = connection::place(client, to, None).await?;
            match there.node.kind {
                api::Kind::Folder => Ok((there.node.id, usual.to_string())),
                api::Kind::File => Err(Failure::usage(
                    format!("\"{}\" is a file, and things are to go into it", there.path),
                    "Name a folder.",
                )),
            }
        }
        Goes::As(to) => {
            let (above, name) = connection::split(to)?;
            let Some(name) = name else {
                let there = connection::place(client, to, None).await?;
                return Ok((there.node.id, usual.to_string()));
            };
            let above = connection::place(client, &above, None).await?;
            if above.node.kind != api::Kind::Folder {
                return Err(Failure::failed(format!("\"{}\" is a file", above.path), "Name a folder above."));
            }
            match client.place(&connection::normalised(to)?, None).await {
                Ok(there) if there.node.kind == api::Kind::Folder && !folder => Err(Failure::usage(
                    format!("\"{}\" is a folder", there.path),
                    format!("To put it into that folder, write a slash at the end: {to}/"),
                )),
                Ok(there) if there.node.kind == api::Kind::File && folder => Err(Failure::usage(
                    format!("\"{}\" is a file, and a folder is to go there", there.path),
                    "Choose another name.",
                )),
                Err(Error::Refused(problem)) if problem.status != 404 => Err(Error::Refused(problem).into()),
                Err(error @ Error::Line(_)) => Err(error.into()),
                _ => Ok((above.node.id, name)),
            }
        }
    }
}

/// A local place where something goes.
pub fn local(goes: &Goes, usual: &str) -> PathBuf {
    match goes {
        Goes::Into(to) => Path::new(to).join(usual),
        Goes::As(to) => PathBuf::from(to),
    }
}

/// A failure that names what it is about.
pub fn about(what: &str, error: Error) -> Failure {
    match error {
        Error::Refused(_) | Error::Line(_) => error.into(),
        other => Failure::failed(format!("{what}: {other}"), ""),
    }
}

/// Does it, unless somebody presses Ctrl-C: then it is said how far it was.
pub async fn unless_stopped<T>(
    progress: &Progress,
    word: &str,
    doing: impl Future<Output = Result<T, Failure>>,
) -> Result<T, Failure> {
    tokio::select! {
        done = doing => done,
        _ = tokio::signal::ctrl_c() => {
            let sum = progress.sum();
            Err(Failure::stopped(
                format!("stopped: {} {word}, {} moved", count(sum.done + sum.same, "file"), size(progress.bytes_moved() as i64)),
                "What was begun is kept. The same command again goes on; --skip-same leaves out what is there.",
            ))
        }
    }
}

/// Tells what became of everything, and ends accordingly.
pub fn tell(output: Output, progress: &Progress, word: &str, mut object: serde_json::Value) -> Done {
    let (exceptions, sum, bytes) = (progress.exceptions(), progress.sum(), progress.bytes_moved());
    if output.json {
        if let Some(told) = object.as_object_mut() {
            let sums = serde_json::json!({
                "given": sum.given, "done": sum.done, "same": sum.same, "skipped": sum.skipped,
                "failed": sum.failed, "bytes": bytes, "not": exceptions,
            });
            told.extend(sums.as_object().cloned().unwrap_or_default());
        }
        output.object(&object)?;
    } else {
        for fate in &exceptions {
            println!("{}: {}: {}", fate.fate, fate.path, fate.reason.as_deref().unwrap_or_default());
        }
        let mut more = String::new();
        if sum.same > 0 {
            more.push_str(&format!(" {} there already.", were(sum.same)));
        }
        if sum.skipped > 0 {
            more.push_str(&format!(" {} left out.", were(sum.skipped)));
        }
        if sum.failed > 0 {
            more.push_str(&format!(" {} not {word}.", were(sum.failed)));
        }
        output.say(format!("{} {word}, {}.{more}", count(sum.done, "file"), size(bytes as i64)));
    }
    output::settle(&sum, word)
}

fn were(n: u64) -> String {
    if n == 1 { "1 was".into() } else { format!("{n} were") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_it_is_written_decides_where_things_go() {
        let into = |to: &str| Goes::Into(to.into());
        let exactly = |to: &str| Goes::As(to.into());
        for to in ["home:/", "home:", "home:/Letters/", "./", ".", "..", "a/..", "dest/"] {
            assert_eq!(Goes::read(to, false, false), into(to));
        }
        for to in ["home:/Letters", "dest", "a/dest", "home:/a.b"] {
            assert_eq!(Goes::read(to, false, false), exactly(to));
            assert_eq!(Goes::read(to, true, false), into(to));
            assert_eq!(Goes::read(to, false, true), into(to));
        }
    }
}
