//! `yattic sync install`: a unit of the user's systemd.

use crate::output::{Done, Failure, Output};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

const NAME: &str = "yattic-sync.service";

fn place() -> Result<PathBuf, Failure> {
    let base = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")));
    let base = base.ok_or_else(|| Failure::failed("there is no home folder", "Set HOME."))?;
    Ok(base.join("systemd/user").join(NAME))
}

/// A word of a command, as a unit has it.
fn word(text: &str) -> String {
    let text = text.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{}\"", text.replace('%', "%%").replace('$', "$$"))
}

fn text(program: &Path) -> String {
    let home = std::env::var("YATTIC_HOME")
        .map(|home| format!("Environment={}\n", word(&format!("YATTIC_HOME={home}"))));
    format!(
        "[Unit]\n\
         Description=Keeps folders the same as those of a Yellow Attic service\n\
         After=network-online.target\n\
         \n\
         [Service]\n\
         ExecStart={} sync run\n\
         {}\
         Restart=on-failure\n\
         RestartSec=10\n\
         Nice=5\n\
         \n\
         [Install]\n\
         WantedBy=default.target\n",
        word(&program.display().to_string()),
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
    let program = std::env::current_exe()?;
    if print {
        print!("{}", text(&program));
        return Ok(());
    }
    let place = place()?;
    if remove {
        let stopped = systemctl(&["disable", "--now", NAME]);
        match fs::remove_file(&place) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
            _ => {}
        }
        let _ = systemctl(&["daemon-reload"]);
        let said = match stopped {
            Ok(()) => "yattic sync run begins with your session no more.".to_string(),
            Err(why) => format!("{} is gone. Whether it still runs is not known: {why}", place.display()),
        };
        return output.done(&serde_json::json!({ "removed": place }), said);
    }
    if let Some(folder) = place.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(&place, text(&program))?;
    let begun = systemctl(&["daemon-reload"]).and_then(|()| systemctl(&["enable", "--now", NAME]));
    if let Err(why) = begun {
        return Err(Failure::failed(
            format!("{} is written, and systemd did not begin it: {why}", place.display()),
            "Where there is no systemd, let your session begin: yattic sync run",
        ));
    }
    let lingers = lingers();
    let linger = match lingers {
        true => "",
        false => " It stops when you sign out of this computer; so that it does not: loginctl enable-linger",
    };
    output.done(
        &serde_json::json!({ "unit": place, "lingers": lingers }),
        format!("yattic sync run works now, and begins with your session.{linger}"),
    )
}
