//! What the file system under a data folder can do.

use crate::fs::error::{Result, StoreError};
use std::fs;
use std::os::fd::AsRawFd;
use std::path::Path;

/// What was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Probed {
    /// `A` and `a` are two names.
    pub case_sensitive: bool,
    /// A name keeps the normalisation form in which it was given.
    pub keeps_form: bool,
    /// Objects carry the time of their birth.
    pub birth_times: bool,
    /// Copies can share their blocks.
    pub reflinks: bool,
}

/// Tries it out in a folder of its own, which is removed again.
pub fn probe(data: &Path) -> Result<Probed> {
    let io = |e: &std::io::Error| StoreError::io("trying out the file system", e);
    let dir = data.join("staging/probe");
    let _ = fs::remove_dir_all(&dir);
    fs::create_dir_all(&dir).map_err(|e| io(&e))?;
    let tried = (|| {
        fs::write(dir.join("case-a"), b"x")?;
        let case_sensitive = !dir.join("CASE-A").exists();
        fs::write(dir.join("form-e\u{301}"), b"x")?;
        let keeps_form = !dir.join("form-\u{e9}").exists();
        let file = fs::File::open(dir.join("case-a"))?;
        let birth_times = crate::fs::disk::look_at_open(&file)?.id.btime != 0;
        let copy = fs::File::create(dir.join("copy"))?;
        let reflinks = crate::fs::syscalls::reflink(file.as_raw_fd(), copy.as_raw_fd());
        Ok::<_, std::io::Error>(Probed { case_sensitive, keeps_form, birth_times, reflinks })
    })();
    let _ = fs::remove_dir_all(&dir);
    tried.map_err(|e| io(&e))
}

impl Probed {
    /// Refuses a file system on which two files of the catalogue could be one on the disk.
    pub fn usable(&self) -> Result<()> {
        if self.case_sensitive && self.keeps_form {
            return Ok(());
        }
        Err(StoreError::BadInput(
            "this file system takes two different names for one; choose a data folder on one that keeps capital letters and characters apart"
                .into(),
        ))
    }
}
