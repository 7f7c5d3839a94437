//! The mounted folder: the real client and service, and programs of this system that know nothing of either.

mod apart;
mod around;
mod attacked;
mod likeness;
mod ordinary;
mod programs;
mod room;
mod then;

use crate::support::{PATIENCE, Service, Yattic, wait_for};
use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::Instant;

/// A computer with a mounted folder.
pub struct Mounted {
    pub yattic: Yattic,
    dir: tempfile::TempDir,
    running: Option<Child>,
    options: Vec<String>,
    /// The network that it runs in, if it is one of its own.
    apart: Option<String>,
}

impl Mounted {
    /// Connected, and mounted.
    pub fn new(service: &Service, device: &str, options: &[&str]) -> Mounted {
        let yattic = Yattic::new();
        yattic.connect_as(service, device);
        Mounted::of(yattic, options)
    }

    /// The same of a client that is connected already.
    pub fn of(yattic: Yattic, options: &[&str]) -> Mounted {
        Mounted::in_network(yattic, options, None)
    }

    /// The same in a network of its own.
    pub fn in_network(yattic: Yattic, options: &[&str], apart: Option<String>) -> Mounted {
        let dir = tempfile::Builder::new().prefix("attic").tempdir().unwrap();
        let options = options.iter().map(ToString::to_string).collect();
        let mut mounted = Mounted { yattic, dir, running: None, options, apart };
        mounted.mount();
        mounted
    }

    /// Where it is mounted.
    pub fn top(&self) -> PathBuf {
        self.dir.path().join("m")
    }

    /// A place on the own shelf.
    pub fn at(&self, path: &str) -> PathBuf {
        self.top().join("home").join(path)
    }

    /// Mounts, and waits until it says so.
    pub fn mount(&mut self) {
        let top = self.top().display().to_string();
        let mut arguments = vec!["mount", &top];
        arguments.extend(self.options.iter().map(String::as_str));
        let mut command = self.yattic.command(&arguments);
        if let Some(network) = &self.apart {
            let mut entering = std::process::Command::new("nsenter");
            entering.arg(format!("--net=/run/netns/{network}")).arg(command.get_program()).args(&arguments);
            entering.env_clear().stdin(Stdio::null());
            entering.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
            command = entering;
        }
        let mut child =
            command.current_dir("/").stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut said = String::new();
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        lines.read_line(&mut said).unwrap();
        if !said.contains("is mounted") {
            let mut why = String::new();
            std::io::Read::read_to_string(&mut child.stderr.take().unwrap(), &mut why).unwrap();
            panic!("not mounted: {said}{why}");
        }
        // Whoever reads it no more would stop what writes to it.
        std::thread::spawn(move || std::io::copy(&mut lines, &mut std::io::sink()));
        self.running = Some(child);
    }

    /// Ends it as people do.
    pub fn end(&mut self) -> String {
        let said = self.yattic.ok(&["mount", "--end", self.top().to_str().unwrap()]);
        if let Some(mut child) = self.running.take() {
            child.wait().unwrap();
        }
        said
    }

    /// Its process, while it runs.
    pub fn process(&self) -> &Child {
        self.running.as_ref().unwrap()
    }

    /// Its process is gone from one moment to the next.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.running.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    /// What its process left standing is taken away.
    pub fn unmount(&self) {
        let _ = std::process::Command::new("umount").arg("-l").arg(self.top()).stderr(Stdio::null()).status();
    }

    /// How much lies here, of at most how much, is owed, and was fetched.
    pub fn sums(&self) -> serde_json::Value {
        let told: serde_json::Value = serde_json::from_str(&self.yattic.ok(&["--json", "mount"])).unwrap();
        told[0]["sums"].clone()
    }

    pub fn sum(&self, of: &str) -> u64 {
        self.sums()[of].as_u64().unwrap()
    }

    /// An attribute that the mount tells.
    pub fn told(&self, path: &Path, name: &str) -> String {
        attribute(path, &format!("user.yattic.{name}")).unwrap_or_default()
    }

    /// Waits until the service has all that was written.
    pub fn all_sent(&self) {
        let all = || self.sum("owed") == 0 && self.sums()["in_step"] == true;
        assert!(wait_for(all), "{}\n{}", self.sums(), self.said());
    }

    /// What its pairs say.
    fn said(&self) -> String {
        let pairs = fs::read_dir(self.state().join("pairs")).unwrap().flatten();
        let told = pairs.filter(|e| e.file_name().to_string_lossy().ends_with(".json"));
        told.filter_map(|e| fs::read_to_string(e.path()).ok()).collect()
    }

    /// The folder of what must not be lost.
    pub fn state(&self) -> PathBuf {
        let mut mounts = fs::read_dir(self.yattic.home.path().join("mounts")).unwrap();
        mounts.next().unwrap().unwrap().path()
    }

    /// The folder of what may be deleted.
    pub fn cache(&self) -> PathBuf {
        self.yattic.home.path().join("cache").join(self.state().file_name().unwrap())
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        self.kill();
        self.unmount();
    }
}

/// An extended attribute; none if there is none.
pub fn attribute(path: &Path, name: &str) -> Option<String> {
    let mut value = [0_u8; 4096];
    let length = rustix::fs::getxattr(path, name, value.as_mut_slice()).ok()?;
    Some(String::from_utf8_lossy(&value[..length]).into_owned())
}

/// Bytes that nobody else has, by a name.
pub fn bytes_of(name: &str, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// Waits until a file here has these bytes.
pub fn becomes(path: &Path, bytes: &[u8]) {
    let begun = Instant::now();
    loop {
        match fs::read(path) {
            Ok(now) if now == bytes => return,
            other if begun.elapsed() > PATIENCE => {
                panic!("{}: {:?} and not {} bytes", path.display(), other.map(|b| b.len()), bytes.len())
            }
            _ => std::thread::sleep(std::time::Duration::from_millis(50)),
        }
    }
}
