//! `yattic sync install --file-manager`: an extension for file managers.

use crate::output::{Done, Failure, Output};
use std::fs;
use std::path::PathBuf;

const TEXT: &str = include_str!("../../../../../packaging/file-manager/yellow_attic.py");
const NAME: &str = "yellow_attic.py";

/// Where the file managers that share this interface look for extensions.
const PLACES: [&str; 3] = ["nautilus-python/extensions", "nemo-python/extensions", "caja-python/extensions"];

fn places() -> Result<Vec<PathBuf>, Failure> {
    let base = std::env::var_os("XDG_DATA_HOME")
        .map(PathBuf::from)
        .or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/share")));
    let base = base.ok_or_else(|| Failure::failed("there is no home folder", "Set HOME."))?;
    Ok(PLACES.iter().map(|place| base.join(place).join(NAME)).collect())
}

/// The extension, that calls this program.
fn text() -> Result<String, Failure> {
    let program = std::env::current_exe()?.display().to_string();
    let quoted = program.replace('\\', "\\\\").replace('"', "\\\"");
    Ok(TEXT.replace("@YATTIC@", &quoted))
}

pub(super) fn install(remove: bool, print: bool, output: Output) -> Done {
    let text = text()?;
    if print {
        print!("{text}");
        return Ok(());
    }
    let places = places()?;
    for place in &places {
        if remove {
            match fs::remove_file(place) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
                _ => continue,
            }
        }
        if let Some(folder) = place.parent() {
            fs::create_dir_all(folder)?;
        }
        fs::write(place, &text)?;
    }
    let said = match remove {
        true => "File managers show nothing of your pairs any more, once they are started anew.",
        false => {
            "File managers show how what lies in a pair is, once they are started anew. They need their support for extensions in Python (python3-nautilus, python3-nemo or python3-caja)."
        }
    };
    output.done(&serde_json::json!({ "extension": places, "removed": remove }), said)
}
