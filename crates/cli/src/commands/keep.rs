//! `yattic keep` and `yattic release`

use crate::connection;
use crate::output::{Done, Failure, Output, count, size};
use std::path::{Path, PathBuf};
use yellow_attic_sync::mount::Came;
use yellow_attic_sync::mount::control::{self, Answer, Ask};

/// Keep files or folders of a mounted folder on this computer, so that they are there without the service.
///
/// Of a folder, all that is in it and all that comes into it later. What was there before is fetched now.
#[derive(clap::Args)]
pub struct Keep {
    /// Files or folders in a mounted folder
    #[arg(required = true)]
    paths: Vec<PathBuf>,
}

/// Give the room of files or folders of a mounted folder back at once.
///
/// They stay where they are, and their bytes come again when a program opens them. What the service does not have yet, and
/// what a program has open, is not released. Nothing is removed on the service.
#[derive(clap::Args)]
pub struct Release {
    /// Files or folders in a mounted folder
    #[arg(required = true)]
    paths: Vec<PathBuf>,
}

/// Asks the mount in which a path lies.
pub async fn ask(path: &Path, what: impl Fn(PathBuf) -> Ask) -> Result<Answer, Failure> {
    let Some((state, mount, rest)) = connection::in_a_mount(path) else {
        return Err(Failure::usage(
            format!("{} is not in a mounted folder", path.display()),
            "yattic mount lists what is mounted.",
        ));
    };
    match control::ask(&state, &what(rest)).await {
        Ok(Answer::Not(why)) => Err(Failure::failed(format!("{}: {why}", path.display()), "")),
        Ok(answer) => Ok(answer),
        Err(_) => Err(Failure::failed(
            format!("{} is not mounted", mount.at.display()),
            format!("Mount it: yattic mount {}", mount.at.display()),
        )
        .coded("not_mounted")),
    }
}

async fn all(paths: &[PathBuf], what: impl Fn(PathBuf) -> Ask) -> Result<Came, Failure> {
    let mut sum = Came::default();
    for path in paths {
        if let Answer::Came(came) = ask(path, &what).await? {
            sum.files += came.files;
            sum.done += came.done;
            sum.were += came.were;
            sum.not += came.not;
            sum.bytes += came.bytes;
            sum.why = sum.why.or(came.why);
        }
    }
    Ok(sum)
}

fn ends(sum: &Came, did: &str) -> Done {
    if sum.done + sum.were + sum.not != sum.files {
        return Err(Failure::partly(format!("of {} files not all have a known fate", sum.files)));
    }
    match sum.not {
        0 => Ok(()),
        not => Err(Failure::partly(format!(
            "{not} of {} files were not {did}: {}",
            sum.files,
            sum.why.as_deref().unwrap_or("nobody knows why")
        ))),
    }
}

impl Keep {
    pub async fn run(self, output: Output) -> Done {
        let sum = all(&self.paths, |path| Ask::Keep { path }).await?;
        output.done(
            &sum,
            format!(
                "Kept here: {}. {} fetched now ({}), {} here already.",
                count(sum.files as i64, "file"),
                sum.done,
                size(sum.bytes as i64),
                sum.were
            ),
        )?;
        ends(&sum, "fetched")
    }
}

impl Release {
    pub async fn run(self, output: Output) -> Done {
        let sum = all(&self.paths, |path| Ask::Release { path }).await?;
        output.done(
            &sum,
            format!(
                "{} given back: {} released, {} took no room.",
                size(sum.bytes as i64),
                count(sum.done as i64, "file"),
                sum.were
            ),
        )?;
        ends(&sum, "released")
    }
}
