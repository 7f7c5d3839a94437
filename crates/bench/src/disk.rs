//! A journaled ext4 image on a loop device, mounted in a folder of its own.

use crate::cases::Failure;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Mounted until it is dropped.
pub struct Disk {
    image: PathBuf,
    /// Where it is mounted.
    pub at: PathBuf,
}

/// Runs a command, and fails with what it said.
pub fn run(program: &str, arguments: &[&str]) -> Result<String, Failure> {
    let done = Command::new(program).args(arguments).output().map_err(|e| format!("{program}: {e}"))?;
    if !done.status.success() {
        return Err(
            format!("{program} {}: {}", arguments.join(" "), String::from_utf8_lossy(&done.stderr)).into()
        );
    }
    Ok(String::from_utf8_lossy(&done.stdout).into_owned())
}

impl Disk {
    /// Makes and mounts it. The image is sparse: it takes what is written.
    pub fn make(folder: &Path) -> Result<Disk, Failure> {
        let (image, at) = (folder.join("disk.img"), folder.join("disk"));
        std::fs::create_dir_all(&at)?;
        std::fs::File::create(&image)?.set_len(40 << 30)?;
        let (image_text, at_text) = (image.display().to_string(), at.display().to_string());
        run(
            "mkfs.ext4",
            &["-q", "-N", "3000000", "-E", "lazy_itable_init=0,lazy_journal_init=0", &image_text],
        )?;
        run("mount", &["-o", "loop", &image_text, &at_text])?;
        Ok(Disk { image, at })
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = run("umount", &["-l", &self.at.display().to_string()]);
        let _ = std::fs::remove_file(&self.image);
    }
}
