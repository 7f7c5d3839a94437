//! `yattic sync install`: a unit of the user's systemd.

use crate::output::{Done, Failure, Output};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use yellow_attic_sync::pairs::name_of;

const NAME: &str = "yattic-sync.service";

/// What a unit is for.
struct Unit {
    /// Its file's name.
    name: String,
    /// What it does.
    about: String,
    /// What it runs, after the program.
    runs: String,
    /// The same, as people give it.
    command: String,
    /// What is to be done when it ends.
    stops: Option<String>,
}

impl Unit {
    fn sync() -> Unit {
        Unit {
            name: NAME.into(),
            about: "Keeps folders the same as those of a Yellow Attic service".into(),
            runs: "sync run".into(),
            command: "yattic sync run".into(),
            stops: None,
        }
    }

    fn mount(at: &Path) -> Unit {
        let shown = at.display();
        Unit {
            name: format!("yattic-mount-{}.service", name_of(&at.display().to_string())),
            about: format!(
                "Mounts the files of a Yellow Attic service at {}",
                shown.to_string().replace('%', "%%")
            ),
            runs: format!("mount {}", word(&shown.to_string())),
            command: format!("yattic mount {shown}"),
            stops: Some(format!("mount --end {}", word(&shown.to_string()))),
        }
    }
}

fn place(unit: &Unit) -> Result<PathBuf, Failure> {
    let base = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")));
    let base = base.ok_or_else(|| Failure::failed("there is no home folder", "Set HOME."))?;
    Ok(base.join("systemd/user").join(&unit.name))
}

/// A word of a command, as a unit has it.
fn word(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{}\"", text.replace('%', "%%").replace('$', "$$"))
}

fn text(unit: &Unit, program: &Path) -> String {
    let home = std::env::var("YATTIC_HOME")
        .map(|home| format!("Environment={}\n", word(&format!("YATTIC_HOME={home}"))));
    let program = word(&program.display().to_string());
    format!(
        "[Unit]\n\
         Description={}\n\
         After=network-online.target\n\
         \n\
         [Service]\n\
         ExecStart={program} {}\n\
         {}{}\
         Restart=on-failure\n\
         RestartSec=10\n\
         Nice=5\n\
         \n\
         [Install]\n\
         WantedBy=default.target\n",
        unit.about,
        unit.runs,
        unit.stops.as_ref().map(|stops| format!("ExecStop={program} {stops}\n")).unwrap_or_default(),
        home.unwrap_or_default()
    )
}

fn systemctl(arguments: &[&str]) -> Result<(), String> {
    let done = Command::new("systemctl").arg("--user").args(arguments).output().map_err(|e| e.to_string())?;
    match done.status.success() {
        true => Ok(()),
        false => Err(String::from_utf8_lossy(&done.stderr).trim().to_string()),
    }
}

/// Whether the user's units go on when nobody is signed in.
fn lingers() -> bool {
    let user = std::env::var("USER").unwrap_or_default();
    !user.is_empty() && Path::new("/var/lib/systemd/linger").join(user).exists()
}

pub(super) fn install(remove: bool, print: bool, output: Output) -> Done {
    install_unit(&Unit::sync(), remove, print, output)
}

/// The same for a mounted folder.
pub fn install_mount(at: &Path, remove: bool, print: bool, output: Output) -> Done {
    install_unit(&Unit::mount(at), remove, print, output)
}

fn install_unit(unit: &Unit, remove: bool, print: bool, output: Output) -> Done {
    let program = std::env::current_exe()?;
    if print {
        print!("{}", text(unit, &program));
        return Ok(());
    }
    let place = place(unit)?;
    if remove {
        let stopped = systemctl(&["disable", "--now", &unit.name]);
        match fs::remove_file(&place) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
            _ => {}
        }
        let _ = systemctl(&["daemon-reload"]);
        let said = match stopped {
            Ok(()) => format!("{} begins with your session no more.", unit.command),
            Err(why) => format!("{} is gone. Whether it still runs is not known: {why}", place.display()),
        };
        return output.done(&serde_json::json!({ "removed": place }), said);
    }
    if let Some(folder) = place.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(&place, text(unit, &program))?;
    let begun = systemctl(&["daemon-reload"]).and_then(|()| systemctl(&["enable", "--now", &unit.name]));
    if let Err(why) = begun {
        return Err(Failure::failed(
            format!("{} is written, and systemd did not begin it: {why}", place.display()),
            format!("Where there is no systemd, let your session begin: {}", unit.command),
        ));
    }
    let lingers = lingers();
    let linger = match lingers {
        true => "",
        false => " It stops when you sign out of this computer; so that it does not: loginctl enable-linger",
    };
    output.done(
        &serde_json::json!({ "unit": place, "lingers": lingers }),
        format!("{} works now, and begins with your session.{linger}", unit.command),
    )
}
