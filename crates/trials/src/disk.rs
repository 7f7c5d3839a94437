//! File systems in images on loop devices, and how they lose their power.
//!
//! A plain image stops at an instant: what its file system had not written is lost. A nested one lies on another image
//! that stops: what the inner file system had written and not flushed is lost as well, as in the cache of a real disk.

use crate::run;
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A file system, and how it is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// ext4 as it is made usually: `data=ordered`.
    Ext4,
    /// ext4 with `data=writeback`.
    Ext4Writeback,
    /// ext4 with `data=journal`.
    Ext4DataJournal,
    /// ext4 with fast commits.
    Ext4FastCommit,
    /// ext4 that can hold few files.
    Ext4FewFiles,
    /// ext4 without a journal: no promise holds on it.
    Ext4NoJournal,
    /// xfs.
    Xfs,
    /// btrfs.
    Btrfs,
}

impl Kind {
    /// Those on which the promise holds.
    pub const SAFE: [Kind; 6] = [
        Kind::Ext4,
        Kind::Ext4Writeback,
        Kind::Ext4DataJournal,
        Kind::Ext4FastCommit,
        Kind::Xfs,
        Kind::Btrfs,
    ];

    fn make(self, image: &Path) {
        let image = image.to_str().expect("a path in UTF-8");
        const NOW: &str = "lazy_itable_init=0,lazy_journal_init=0";
        match self {
            Kind::Ext4 | Kind::Ext4Writeback | Kind::Ext4DataJournal => {
                run("mkfs.ext4", &["-q", "-E", NOW, image])
            }
            Kind::Ext4FewFiles => run("mkfs.ext4", &["-q", "-E", NOW, "-N", "3000", image]),
            Kind::Ext4FastCommit => run("mkfs.ext4", &["-q", "-E", NOW, "-O", "fast_commit", image]),
            Kind::Ext4NoJournal => run("mkfs.ext4", &["-q", "-E", NOW, "-O", "^has_journal", image]),
            Kind::Xfs => run("mkfs.xfs", &["-q", image]),
            Kind::Btrfs => run("mkfs.btrfs", &["-q", image]),
        }
    }

    fn options(self) -> &'static str {
        match self {
            Kind::Ext4Writeback => "loop,data=writeback",
            Kind::Ext4DataJournal => "loop,data=journal",
            _ => "loop",
        }
    }
}

/// A file system of its own.
pub struct Image {
    dir: tempfile::TempDir,
    kind: Kind,
    nested: bool,
    /// Where it is mounted.
    pub at: PathBuf,
}

impl Image {
    /// A plain one.
    pub fn make(kind: Kind, mib: u64) -> Image {
        Image::new(kind, mib, false)
    }

    /// One on a disk with a cache.
    pub fn nested(kind: Kind, mib: u64) -> Image {
        Image::new(kind, mib, true)
    }

    fn new(kind: Kind, mib: u64, nested: bool) -> Image {
        let dir = tempfile::tempdir().expect("a folder");
        for name in ["disk", "outer"] {
            std::fs::create_dir(dir.path().join(name)).expect("a folder");
        }
        let image = Image { at: dir.path().join("disk"), dir, kind, nested };
        if nested {
            sized(&image.path("outer.img"), mib + 200);
            Kind::Ext4.make(&image.path("outer.img"));
            image.mount_outer();
        }
        match nested {
            true => written(&image.inner(), mib),
            false => sized(&image.inner(), mib),
        }
        kind.make(&image.inner());
        image.mount();
        image
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    fn inner(&self) -> PathBuf {
        self.path(if self.nested { "outer/inner.img" } else { "inner.img" })
    }

    fn mount_outer(&self) {
        mount(&self.path("outer.img"), &self.path("outer"), "loop");
    }

    fn mount(&self) {
        mount(&self.inner(), &self.at, self.kind.options());
    }

    /// The power goes (EXT4_IOC_SHUTDOWN without flushing the log). Not for a plain image of another file system than
    /// ext4.
    pub fn cut_power(&self) {
        self.cut(|| {});
    }

    /// The same, and the program that writes to it stops at that moment too: no power, no answers. A file system that is
    /// shut down says yes to a few flushes on its way out, and no machine is there any more to pass that on.
    pub fn cut_power_under(&self, program: &std::process::Child) {
        let pid = program.id().to_string();
        self.cut(|| run("kill", &["-STOP", &pid]));
    }

    fn cut(&self, before: impl FnOnce()) {
        let stopped = if self.nested { self.path("outer") } else { self.at.clone() };
        // Ready before the moment itself: a program takes longer to start than a disk to lose its power.
        let script = "import fcntl,os,struct,sys; at = os.open(sys.argv[1], os.O_RDONLY); print(flush=True); \
            sys.stdin.read(1); fcntl.ioctl(at, 0x8004587d, struct.pack('I', 2))";
        let mut switch = Command::new("python3")
            .args(["-c", script])
            .arg(&stopped)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("python3");
        let mut ready = [0];
        switch.stdout.take().expect("its output").read_exact(&mut ready).expect("a disk to cut off");
        before();
        switch.stdin.take().expect("its input").write_all(b"x").expect("a switch that listens");
        assert!(
            switch.wait().expect("the switch").success(),
            "the power of {} was not cut",
            stopped.display()
        );
    }

    /// It comes back. Whatever had files open on it must have ended.
    pub fn mount_again(&self) {
        unmount(&self.at);
        if self.nested {
            unmount(&self.path("outer"));
            self.mount_outer();
        }
        self.mount();
    }

    /// Mounts it in another way: `ro`, `rw`.
    pub fn remount(&self, how: &str) {
        run("mount", &["-o", &format!("remount,{how}"), self.at.to_str().expect("a path in UTF-8")]);
    }
}

impl Drop for Image {
    fn drop(&mut self) {
        for at in [&self.at, &self.path("outer")] {
            let _ = Command::new("umount").arg("-l").arg(at).output();
        }
    }
}

fn sized(path: &Path, mib: u64) {
    File::create(path).and_then(|file| file.set_len(mib << 20)).expect("room for an image");
}

/// Every block is there before it is used. A disk keeps what it has acknowledged as flushed; a file system that is shut
/// down while it turns new blocks of a file into written ones answers a flush with success and forgets them.
fn written(path: &Path, mib: u64) {
    let mut file = File::create(path).expect("an image");
    let zeros = vec![0; 1 << 20];
    for _ in 0..mib {
        file.write_all(&zeros).expect("room for an image");
    }
    file.sync_all().expect("a disk that can be written");
}

fn mount(image: &Path, at: &Path, options: &str) {
    let text = |path: &Path| path.to_str().expect("a path in UTF-8").to_string();
    run("mount", &["-o", options, &text(image), &text(at)]);
}

fn unmount(at: &Path) {
    let begun = Instant::now();
    while !Command::new("umount").arg(at).output().is_ok_and(|done| done.status.success()) {
        assert!(begun.elapsed() < Duration::from_secs(20), "{} stays in use", at.display());
        std::thread::sleep(Duration::from_millis(50));
    }
}
