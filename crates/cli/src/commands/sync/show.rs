//! `yattic sync status`: pairs, and one file.

use super::{pick, shown_state};
use crate::commands::keep::ask;
use crate::connection;
use crate::output::{Done, Failure, Output, count, time};
use console::{Key, Term, truncate_str};
use std::path::Path;
use std::time::Duration;
use yellow_attic_core::merge::Facets;
use yellow_attic_core::size::human;
use yellow_attic_sync::computer::Computer;
use yellow_attic_sync::mount;
use yellow_attic_sync::mount::control::{Answer, Ask};
use yellow_attic_sync::pairs::state::About;
use yellow_attic_sync::pairs::status::Status;
use yellow_attic_sync::pairs::tell::{held, left_out};

pub(super) async fn status(computer: &Computer, which: Option<&str>, once: bool, output: Output) -> Done {
    let all = computer.pairs().await?;
    if let Some(which) = which
        && connection::in_a_mount(Path::new(which)).is_some()
    {
        return mounted(which, output).await;
    }
    if let Some((pair, way)) = which.and_then(|which| within(&all, which)) {
        return one(computer, pair, &way, output).await;
    }
    let term = Term::stdout();
    if term.is_term() && !once && !output.json && !output.quiet {
        return live(computer, which, &term).await;
    }
    let told = told(computer, which).await?;
    if output.object(&told)? {
        return Ok(());
    }
    if told.is_empty() {
        output.say(NONE);
    }
    for status in &told {
        lines(status, usize::MAX).iter().for_each(|line| println!("{line}"));
    }
    Ok(())
}

const NONE: &str = "There is no pair yet. Make one: yattic sync add ~/Museum home:/";

async fn told(computer: &Computer, which: Option<&str>) -> Result<Vec<Status>, Failure> {
    let all = computer.pairs().await?;
    let picked: Vec<&About> = match which {
        Some(which) => vec![pick(&all, which)?],
        None => all.iter().collect(),
    };
    let mut told: Vec<Status> =
        picked.into_iter().map(|pair| computer.status(pair)).collect::<Result<_, _>>()?;
    if which.is_none() {
        told.extend(of_mounts().await?);
    }
    Ok(told)
}

/// What the pairs of mounted folders are doing, by where they are seen.
async fn of_mounts() -> Result<Vec<Status>, Failure> {
    let mut told = Vec::new();
    for (state, mount) in connection::mounts() {
        let folder = mount::pairs_of(&state);
        if !folder.exists() {
            continue;
        }
        let computer = Computer::new(folder, connection::clients());
        for pair in computer.pairs().await? {
            let mut status = computer.status(&pair)?;
            if let Ok(rest) = pair.local.strip_prefix(state.join("body")) {
                status.local = mount.at.join(rest).display().to_string();
            }
            told.push(status);
        }
    }
    Ok(told)
}

/// Where the bytes are of a file in a mounted folder, or of all beneath a folder.
async fn mounted(which: &str, output: Output) -> Done {
    let path = Path::new(which);
    let Answer::State(state) = ask(path, |path| Ask::State { path }).await? else {
        return Err(Failure::failed(format!("{which}: nobody knows"), ""));
    };
    let shown = std::path::absolute(path)?.display().to_string();
    let remote = connection::normalised(which).unwrap_or_default();
    if output.object(&serde_json::json!({ "path": shown, "remote": remote, "state": state }))? {
        return Ok(());
    }
    let kept = if state.kept { ", kept here" } else { "" };
    let why = state.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    println!("{shown}  <->  {remote}");
    println!("  {}{why}; {} of {} here{kept}", state.words(), human(state.here), human(state.size));
    Ok(())
}

/// What one pair is doing, as people read it: of each list at most so many.
fn lines(status: &Status, most: usize) -> Vec<String> {
    let mut lines = vec![format!("{}  <->  {}", status.local, status.remote)];
    let mut how = format!("{}; {} the same, {} to do", shown_state(status), status.same, status.to_do);
    if status.to_move > 0 && status.is_live() {
        how.push_str(&format!(" ({})", human(status.to_move)));
    }
    if status.rate > 0 && status.is_live() && status.state == "working" {
        how.push_str(&format!(", {} a second", human(status.rate)));
    }
    if let Some(left) = status.seconds_left().filter(|_| status.is_live() && status.state == "working") {
        how.push_str(&format!(", about {} left", stretch(left)));
    }
    lines.push(format!("  {how}"));
    lines.extend(status.rests.iter().map(|rests| format!("  {rests}")));
    lines.extend(status.trouble.iter().map(|trouble| format!("  trouble: {trouble}")));
    lines.extend(status.in_step_at.iter().map(|at| format!("  all was the same at {}", time(at))));
    let mut list = |head: &str, all: Vec<String>| {
        if all.is_empty() {
            return;
        }
        lines.push(format!("  {head}:"));
        let more = all.len().saturating_sub(most);
        lines.extend(all.into_iter().take(most).map(|line| format!("    {line}")));
        if more > 0 {
            lines.push(format!("    and {more} more"));
        }
    };
    let doing = status.doing.iter().map(|doing| match doing.of {
        0 => format!("{} {}", doing.what, doing.path),
        of => {
            let part = doing.done.saturating_mul(100) / of;
            format!("{} {}  {part} % of {}", doing.what, doing.path, human(of))
        }
    });
    list("under way", doing.collect());
    list("left alone", status.left.iter().map(|l| format!("{}: {}", l.path, l.why)).collect());
    list("kept twice (yattic sync settle)", status.copies.clone());
    let lately = status.lately.iter().take(10);
    list("lately", lately.map(|d| format!("{}  {} {}", time(&d.at), done(&d.what), d.path)).collect());
    if status.out > 0 {
        lines.push(format!(
            "  {} {} left out as the pair was told: yattic sync set {} --preview lists them",
            count(status.out, "file"),
            if status.out == 1 { "is" } else { "are" },
            status.local
        ));
    }
    lines
}

/// A deed, as it is told when it is over.
fn done(what: &str) -> &str {
    match what {
        "fetches" => "fetched",
        "sends" => "sent",
        "makes here" => "made here",
        "makes there" => "made there",
        "moves here" => "moved here",
        "moves there" => "moved there",
        "keeps beside" => "kept beside",
        "removes here" => "removed here",
        "removes there" => "removed there",
        "brings back" => "brought back",
        "marks here" => "marked here",
        "marks there" => "marked there",
        other => other,
    }
}

/// `40 seconds`, `5 minutes`, `3 hours`.
fn stretch(seconds: u64) -> String {
    match seconds {
        0..=90 => count(seconds, "second"),
        91..=5400 => count(seconds.div_ceil(60), "minute"),
        _ => count(seconds.div_ceil(3600), "hour"),
    }
}

/// Between two looks.
const LOOK: Duration = Duration::from_millis(500);

/// Shows it until somebody has seen enough.
async fn live(computer: &Computer, which: Option<&str>, term: &Term) -> Done {
    let (ends, mut ended) = tokio::sync::mpsc::channel(1);
    let keys = term.clone();
    std::thread::spawn(move || {
        while let Ok(key) = keys.read_key_raw() {
            if matches!(key, Key::Char('q' | 'Q' | '\u{3}' | '\u{4}') | Key::Escape | Key::CtrlC) {
                break;
            }
        }
        let _ = ends.blocking_send(());
    });
    // A screen of its own: what was there before comes back.
    term.write_str("\x1b[?1049h")?;
    term.hide_cursor()?;
    let shown = loop {
        if let Err(failure) = draw(computer, which, term).await {
            break Err(failure);
        }
        tokio::select! {
            _ = ended.recv() => break Ok(()),
            () = tokio::time::sleep(LOOK) => {}
        }
    };
    term.show_cursor()?;
    term.write_str("\x1b[?1049l")?;
    shown?;
    // The last of it stays.
    for status in told(computer, which).await? {
        lines(&status, 10).iter().for_each(|line| println!("{line}"));
    }
    Ok(())
}

async fn draw(computer: &Computer, which: Option<&str>, term: &Term) -> Done {
    let told = told(computer, which).await?;
    let (height, width) = term.size();
    let (height, width) = (usize::from(height).max(4), usize::from(width).max(20));
    // Each pair gets its part of the screen.
    let most = (height / told.len().max(1)).saturating_sub(6).clamp(2, 10) / 2;
    let mut all: Vec<String> = Vec::new();
    for status in &told {
        all.extend(lines(status, most.max(1)));
        all.push(String::new());
    }
    if told.is_empty() {
        all.push(NONE.into());
    }
    let more = all.len() > height - 1;
    all.truncate(height - 1 - usize::from(more));
    if more {
        all.push("and more: yattic sync status --once shows all".into());
    }
    all.resize(height - 1, String::new());
    all.push("q ends this view; the pairs go on".into());
    let mut screen = String::from("\x1b[H");
    for (n, line) in all.iter().enumerate() {
        screen.push_str(&truncate_str(line, width, "…"));
        screen.push_str(if n + 1 < all.len() { "\x1b[K\r\n" } else { "\x1b[K" });
    }
    term.write_str(&screen)?;
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

async fn one(computer: &Computer, pair: &About, way: &[String], output: Output) -> Done {
    let status = Status::read(&computer.folder, &pair.id)?;
    let known = computer.known(pair).await?;
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
        why.push_str("; it keeps what two changed at once: yattic sync settle");
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
