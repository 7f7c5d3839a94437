//! `yattic mount`

use crate::commands::sync::unit;
use crate::connection;
use crate::output::{Done, Failure, Output, size, table};
use std::path::{Path, PathBuf};
use std::time::Duration;
use yellow_attic_core::size::read;
use yellow_attic_sync::mount::control::{self, Answer, Ask, Sums};
use yellow_attic_sync::mount::{self as mounted, Folders};
use yellow_attic_sync::pairs::name_of;

/// Mount all that you may see as an ordinary folder: everything is at hand, and little of it lies on this computer.
///
/// Names, sizes and times are there at once; bytes come when a program opens a file. What programs write lies on this
/// computer until the service has it, and a file that was synced is safe here whatever happens. In every folder a hidden
/// .then holds what it was: DIR/home/Letters/.then/2026-11-20T09:00. It works until it is stopped; without a folder it
/// lists what is mounted.
#[derive(clap::Args)]
pub struct Mount {
    /// An empty folder, or one that is made
    dir: Option<PathBuf>,
    /// How much of it may lie on this computer, such as 20GiB; of that, what was not used longest goes first. What you keep
    /// and what is not sent up yet counts too, and does not go.
    #[arg(long, value_name = "SIZE")]
    room: Option<String>,
    /// How much stays free on this computer's disk.
    #[arg(long, value_name = "SIZE")]
    floor: Option<String>,
    /// Let programs wait until the service has what they write, when they close or sync a file.
    #[arg(long, overrides_with = "no_through")]
    through: bool,
    /// Take that back: writing is safe on this computer first.
    #[arg(long)]
    no_through: bool,
    /// Lock a file on the service while a program here has it open for writing: nobody else changes it meanwhile, and what
    /// somebody else has locked does not open for writing ("busy").
    #[arg(long, overrides_with = "no_lock")]
    lock: bool,
    /// Take that back: what two change at once is kept twice.
    #[arg(long)]
    no_lock: bool,
    /// Take the folder away. What is not sent up yet is sent when it is mounted again.
    #[arg(long, requires = "dir", conflicts_with_all = ["room", "floor", "through", "lock", "install"])]
    end: bool,
    /// Let it begin with your session (a unit of systemd).
    #[arg(long, requires = "dir")]
    install: bool,
    /// With --install: take that back.
    #[arg(long, requires = "install")]
    remove: bool,
    /// With --install: only print what would be written.
    #[arg(long, requires = "install", conflicts_with = "remove")]
    print: bool,
}

/// So much at most, if nothing is said.
const ROOM: u64 = 20 << 30;
/// So much stays free.
const FLOOR: u64 = 1 << 30;

fn bytes(text: &str) -> Result<u64, Failure> {
    read(text)
        .ok_or_else(|| Failure::usage(format!("\"{text}\" is no size"), "Write it like 500MiB or 20GiB."))
}

impl Mount {
    pub async fn run(self, output: Output) -> Done {
        let Some(dir) = &self.dir else { return list(output).await };
        let at = std::path::absolute(dir)?;
        if self.end {
            return end(&at, output).await;
        }
        if self.install {
            return unit::install_mount(&at, self.remove, self.print, output);
        }
        let (state, mount) = self.mount(&at)?;
        let thumbnails = connection::thumbnails_folder();
        let folders = Folders { cache: cache_of(&mount)?, state, thumbnails };
        let stop = crate::commands::sync::stopped()?;
        mounted::run(mount, folders, connection::clients(), stop, |mount| {
            output.say(format!(
                "{} is mounted: {}. End it with Ctrl-C, or yattic mount --end {}",
                mount.at.display(),
                mount.service,
                mount.at.display()
            ));
        })
        .await?;
        output.say(format!("{} is not mounted any more.", at.display()));
        Ok(())
    }

    /// What is mounted there, with what was said before and is not said otherwise now.
    fn mount(&self, at: &Path) -> Result<(PathBuf, mounted::Mount), Failure> {
        let room = self.room.as_deref().map(bytes).transpose()?;
        let floor = self.floor.as_deref().map(bytes).transpose()?;
        if room.is_some_and(|room| room < 64 << 20) {
            return Err(Failure::usage(
                "less than 64 MiB is no room to work in",
                "Give --room 1GiB or more.",
            ));
        }
        let known = connection::mounts().into_iter().find(|(_, mount)| mount.at == *at);
        if let Some((state, mount)) = known {
            let through = (mount.through || self.through) && !self.no_through;
            let lock = (mount.lock || self.lock) && !self.no_lock;
            let mount = mounted::Mount {
                room: room.unwrap_or(mount.room),
                floor: floor.unwrap_or(mount.floor),
                through,
                lock,
                ..mount
            };
            return Ok((state, mount));
        }
        let service = connection::load()?.address;
        let id = name_of(&format!("{} {service}", at.display()));
        let folder = connection::mounts_folder()
            .ok_or_else(|| Failure::failed("there is no home folder", "Set HOME or YATTIC_HOME."))?;
        let mount = mounted::Mount {
            id: id.clone(),
            service,
            at: at.to_path_buf(),
            room: room.unwrap_or(ROOM),
            floor: floor.unwrap_or(FLOOR),
            through: self.through,
            lock: self.lock,
        };
        Ok((folder.join(id), mount))
    }
}

fn cache_of(mount: &mounted::Mount) -> Result<PathBuf, Failure> {
    let base = connection::cache_folder()
        .ok_or_else(|| Failure::failed("there is no home folder", "Set HOME or YATTIC_HOME."))?;
    Ok(base.join(&mount.id))
}

/// How much lies here, if it is mounted.
pub async fn sums(state: &Path) -> Option<Sums> {
    match tokio::time::timeout(Duration::from_secs(5), control::ask(state, &Ask::Sums)).await {
        Ok(Ok(Answer::Sums(sums))) => Some(sums),
        _ => None,
    }
}

/// How a mounted folder is, in few words.
fn state_of(sums: &Sums) -> &'static str {
    match sums {
        Sums { trouble, .. } if !trouble.is_empty() => "in trouble",
        Sums { away: Some(_), .. } => "mounted, waiting",
        Sums { in_step: true, owed: 0, .. } => "mounted, all sent up",
        _ => "mounted, at work",
    }
}

async fn list(output: Output) -> Done {
    let mut told = Vec::new();
    for (state, mount) in connection::mounts() {
        told.push((sums(&state).await, mount));
    }
    let objects: Vec<_> = told
        .iter()
        .map(|(sums, mount)| serde_json::json!({ "mount": mount, "mounted": sums.is_some(), "sums": sums }))
        .collect();
    if output.object(&objects)? {
        return Ok(());
    }
    if told.is_empty() {
        output.say("Nothing is mounted, or was. Mount all that you may see: yattic mount ~/Attic");
        return Ok(());
    }
    let mut rows = vec![
        ["FOLDER", "SERVICE", "STATE", "HERE", "OF AT MOST", "TO BE SENT UP"].map(String::from).to_vec(),
    ];
    let mut said = Vec::new();
    for (sums, mount) in told {
        let (state, here, owed) = match &sums {
            Some(sums) => (state_of(sums), size(sums.held as i64), size(sums.owed as i64)),
            None => ("not mounted", "-".into(), "-".into()),
        };
        if let Some(sums) = sums {
            said.extend(sums.away.map(|away| format!("{}: {away}", mount.at.display())));
            let trouble = sums.trouble.into_iter();
            said.extend(trouble.map(|left| format!("{}: {}", mount.at.join(left.path).display(), left.why)));
        }
        let room = size(mount.room as i64);
        rows.push(vec![mount.at.display().to_string(), mount.service, state.into(), here, room, owed]);
    }
    table(&rows, &[3, 4, 5]);
    if !said.is_empty() {
        println!();
    }
    said.iter().for_each(|line| println!("{line}"));
    Ok(())
}

async fn end(at: &Path, output: Output) -> Done {
    let found = connection::mounts().into_iter().find(|(_, mount)| mount.at == at);
    let Some((state, mount)) = found else {
        return Err(Failure::usage(
            format!("{} was never mounted by yattic", at.display()),
            "yattic mount lists what is mounted.",
        ));
    };
    let before = sums(&state).await;
    let asked = tokio::time::timeout(Duration::from_secs(5), control::ask(&state, &Ask::End)).await;
    if !matches!(asked, Ok(Ok(Answer::Ends))) {
        if !mounted::is_mounted(at) {
            return Err(Failure::failed(format!("{} is not mounted", at.display()), "").coded("not_mounted"));
        }
        // Its process is gone: what stands there is nobody's.
        mounted::detach(at);
    }
    let until = std::time::Instant::now() + Duration::from_secs(30);
    while mounted::is_mounted(at) || control::answers(&state) {
        if std::time::Instant::now() > until {
            return Err(Failure::failed(
                format!("{} is still mounted after half a minute", at.display()),
                "See what has files open there: fuser -vm names it.",
            ));
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let owed = before.map_or(0, |sums| sums.owed);
    let rest = match owed {
        0 => String::new(),
        owed => format!(
            " {} are not sent up yet; they lie safe here, and go up when it is mounted again.",
            size(owed as i64)
        ),
    };
    output.done(
        &serde_json::json!({ "ended": mount.at, "owed": owed }),
        format!("{} is not mounted any more.{rest}", at.display()),
    )
}
