//! A sync of the catalogue's log that fails once, in a real process: a library that is loaded before all others.

use crate::run;
use std::path::{Path, PathBuf};

const SOURCE: &str = r#"
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* Fails the sync of a file whose name ends with "-wal", once for each time that the file $FAIL_SYNC appears. */
static int fails(int fd) {
    const char *flag = getenv("FAIL_SYNC");
    char link[64], name[4096];
    if (!flag) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t n = readlink(link, name, sizeof name - 1);
    if (n < 4) return 0;
    name[n] = 0;
    return strcmp(name + n - 4, "-wal") == 0 && unlink(flag) == 0;
}

int fdatasync(int fd) {
    static int (*real)(int);
    if (!real) real = dlsym(RTLD_NEXT, "fdatasync");
    if (fails(fd)) { errno = EIO; return -1; }
    return real(fd);
}

int fsync(int fd) {
    static int (*real)(int);
    if (!real) real = dlsym(RTLD_NEXT, "fsync");
    if (fails(fd)) { errno = EIO; return -1; }
    return real(fd);
}
"#;

/// Builds the library in a folder.
pub fn library(dir: &Path) -> PathBuf {
    let (source, library) = (dir.join("fail-sync.c"), dir.join("fail-sync.so"));
    std::fs::write(&source, SOURCE).expect("room for a source file");
    let text = |path: &Path| path.to_str().expect("a path in UTF-8").to_string();
    run("gcc", &["-shared", "-fPIC", "-O1", "-o", &text(&library), &text(&source), "-ldl"]);
    library
}
