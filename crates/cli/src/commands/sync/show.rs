//! `yattic sync status`: pairs, and one file.

use super::{list, pairs, pick, shown_state, state_failed};
use crate::output::{Done, Failure, Output, time};
use std::path::Path;
use yellow_attic_core::merge::Facets;
use yellow_attic_sync::pairs::state::{About, State, file_of};
use yellow_attic_sync::pairs::status::Status;
use yellow_attic_sync::pairs::tell::{held, left_out};

pub(super) async fn status(folder: &Path, which: Option<&str>, output: Output) -> Done {
    let all = pairs(folder).await?;
    if let Some((pair, way)) = which.and_then(|which| within(&all, which)) {
        return one(folder, pair, &way, output).await;
    }
    let picked: Vec<&About> = match which {
        Some(which) => vec![pick(&all, which)?],
        None => all.iter().collect(),
    };
    let mut told = Vec::new();
    for pair in picked {
        let status = Status::read(folder, &pair.id)?.unwrap_or_else(|| Status {
            id: pair.id.clone(),
            local: pair.local.display().to_string(),
            remote: pair.remote.clone(),
            state: "stopped".into(),
            ..Status::default()
        });
        told.push(status);
    }
    if output.object(&told)? {
        return Ok(());
    }
    if told.is_empty() {
        output.say("There is no pair yet. Make one: yattic sync add ~/Museum home:/");
    }
    for status in &told {
        println!("{}  <->  {}", status.local, status.remote);
        println!("  {}; {} the same, {} to do", shown_state(status), status.same, status.to_do);
        if let Some(rests) = &status.rests {
            println!("  {rests}");
        }
        if let Some(trouble) = &status.trouble {
            println!("  trouble: {trouble}");
        }
        if let Some(at) = &status.in_step_at {
            println!("  all was the same at {}", time(at));
        }
        list("under way", status.doing.iter().cloned());
        if status.out > 0 {
            println!(
                "  {} files are left out as the pair was told: yattic sync set {} --preview lists them",
                status.out, status.local
            );
        }
        list("left alone", status.left.iter().map(|l| format!("{}: {}", l.path, l.why)));
        list("kept twice", status.copies.iter().cloned());
        list(
            "lately",
            status.lately.iter().take(10).map(|d| format!("{}  {} {}", time(&d.at), d.what, d.path)),
        );
    }
    Ok(())
}

/// The pair in which a local path lies, below its top, and the way from there.
fn within<'p>(all: &'p [About], which: &str) -> Option<(&'p About, Vec<String>)> {
    let path = crate::connection::absolute(Path::new(which))?;
    let pair = all.iter().find(|pair| path.starts_with(&pair.local) && path != pair.local)?;
    let rest = path.strip_prefix(&pair.local).ok()?;
    Some((pair, rest.iter().map(|part| part.to_string_lossy().into_owned()).collect()))
}

/// How one file or folder is.
#[derive(serde::Serialize)]
struct One {
    path: String,
    remote: String,
    state: &'static str,
    why: String,
}

async fn one(folder: &Path, pair: &About, way: &[String], output: Output) -> Done {
    let status = Status::read(folder, &pair.id)?;
    let mut state = State::open(&file_of(folder, &pair.id)).await.map_err(state_failed)?;
    let known = state.pair().await.map_err(state_failed)?;
    state.close().await.map_err(state_failed)?;
    let rest = way.join("/");
    let item = known.as_ref().and_then(|known| known.at(way));
    let facets = known.as_ref().zip(item).and_then(|(known, item)| known.facets(item));
    let left = known.as_ref().zip(item).and_then(|(known, item)| known.why_left(item));
    let alone = status.iter().flat_map(|s| &s.left).find(|left| left.path == rest);
    let (state, mut why) = match (facets, left, alone) {
        (_, Some(why), _) => ("left out", left_out(&why)),
        (_, None, Some(left)) => ("left alone", left.why.clone()),
        (Some(facets), None, None) => how(facets),
        (None, None, None) => ("unknown", "the pair has not seen it yet".into()),
    };
    if status.is_some_and(|status| status.copies.contains(&rest)) {
        why.push_str("; it keeps what two changed at once: remove or rename it once that is settled");
    }
    let slash = if pair.remote.ends_with('/') { "" } else { "/" };
    let path = pair.local.join(&rest);
    if state == "unknown" && !path.exists() {
        return Err(Failure::failed(format!("{} is not there", path.display()), ""));
    }
    let remote = format!("{}{slash}{rest}", pair.remote);
    let one = One { path: path.display().to_string(), remote, state, why };
    if output.object(&one)? {
        return Ok(());
    }
    println!("{}  <->  {}\n  {}: {}", one.path, one.remote, one.state, one.why);
    Ok(())
}

fn how(facets: &Facets) -> (&'static str, String) {
    if let Some(why) = &facets.held {
        return ("held", held(why));
    }
    match (&facets.here, &facets.there, &facets.common) {
        (Some(here), Some(there), Some(_)) => {
            let bytes = there.bytes.map(|(hash, _)| hash);
            let same = here.hash == bytes && (here.parent, &here.name) == (there.parent, &there.name);
            match same {
                true => ("the same", "both sides have it".into()),
                false => ("waiting", "it differs, and is carried over next".into()),
            }
        }
        (Some(_), None, _) => ("waiting", "it is only here, and is sent or removed next".into()),
        (None, Some(_), _) => ("waiting", "it is only there, and is fetched or removed next".into()),
        _ => ("waiting", "it is looked at next".into()),
    }
}
