//! `yattic sync conflicts` and `settle`: what two changed at once.

use super::pick;
use crate::output::{Done, Failure, Output, count, size, table, time};
use std::path::Path;
use yellow_attic_sync::computer::Computer;
use yellow_attic_sync::computer::copies::Keep;

/// Which of both stays.
#[derive(Clone, Copy, clap::ValueEnum)]
pub enum Stays {
    /// The copy takes the file's place.
    Copy,
    /// The copy goes.
    Original,
    /// The copy gets a plain name.
    Both,
}

pub(super) async fn list(computer: &Computer, output: Output) -> Done {
    let found = computer.copies(&computer.pairs().await?)?;
    if output.object(&found)? {
        return Ok(());
    }
    if found.is_empty() {
        output.say("Nothing is kept twice.");
        return Ok(());
    }
    let mut rows = vec![["copy", "size", "changed", "the file now"].map(String::from).to_vec()];
    for twice in &found {
        let original = twice.original.as_ref().map_or("is not there any more".into(), |side| {
            format!("{}, changed {}", size(side.size as i64), time(&side.modified))
        });
        let copy = &twice.copy;
        rows.push(vec![
            copy.local.display().to_string(),
            size(copy.size as i64),
            time(&copy.modified),
            original,
        ]);
    }
    table(&rows, &[1]);
    output.say(format!(
        "{} to settle: yattic sync settle COPY --keep copy, original or both",
        count(found.len() as i64, "copy").replace("copys", "copies")
    ));
    Ok(())
}

pub(super) async fn settle(computer: &Computer, copy: &Path, keep: Stays, output: Output) -> Done {
    let path = crate::connection::absolute(copy);
    let pairs = computer.pairs().await?;
    let found = computer.copies(&pairs)?;
    let twice =
        found.into_iter().find(|twice| Some(&twice.copy.local) == path.as_ref()).ok_or_else(|| {
            Failure::usage(
                format!("{} is no copy that is to be settled", copy.display()),
                "yattic sync conflicts lists them.",
            )
        })?;
    let (keep, said) = match keep {
        Stays::Copy => (Keep::Copy, "has the copy's bytes now; what it had before stays in its history"),
        Stays::Original => (Keep::Original, "stays as it is; the copy goes, and stays in the trash"),
        Stays::Both => (Keep::Both, "is what the copy is called now"),
    };
    let stays = computer.settle(pick(&pairs, &twice.pair)?, &twice, keep).await?;
    output.done(&serde_json::json!({ "stays": stays }), format!("{} {said}.", stays.display()))
}
