//! The console's built files, compressed once here: they go out as they are to nearly everybody.

use std::io::Write;
use std::path::{Path, PathBuf};

/// What shrinks; pictures and fonts are compressed already.
const TEXTS: [&str; 8] = ["js", "mjs", "css", "html", "json", "svg", "webmanifest", "txt"];

fn main() -> std::io::Result<()> {
    let built = Path::new("../../console/dist");
    println!("cargo:rerun-if-changed={}", built.display());
    let out = PathBuf::from(std::env::var_os("OUT_DIR").unwrap_or_default()).join("console");
    let _ = std::fs::remove_dir_all(&out);
    std::fs::create_dir_all(&out)?;
    if built.is_dir() { copy(built, &out) } else { Ok(()) }
}

fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        let (source, target) = (entry.path(), to.join(entry.file_name()));
        if source.is_dir() {
            std::fs::create_dir_all(&target)?;
            copy(&source, &target)?;
            continue;
        }
        let bytes = std::fs::read(&source)?;
        let ending = source.extension().and_then(|e| e.to_str()).unwrap_or_default();
        if TEXTS.contains(&ending) {
            let mut name = target.into_os_string();
            name.push(".gz");
            let mut encoder =
                flate2::write::GzEncoder::new(std::fs::File::create(name)?, flate2::Compression::best());
            encoder.write_all(&bytes)?;
            encoder.finish()?;
        } else {
            std::fs::write(target, bytes)?;
        }
    }
    Ok(())
}
