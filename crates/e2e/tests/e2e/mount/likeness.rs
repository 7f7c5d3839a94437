//! Programs on the mounted folder and the same on a plain one: what each call answers, and what is there in the end, is equal,
//! but for what the docs list as different.

use super::Mounted;
use crate::support::{Service, Yattic};
use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::Path;
use std::process::Stdio;

/// A program: files that it has open, and what it did.
struct Program<'p> {
    top: &'p Path,
    open: BTreeMap<u64, File>,
}

fn told<T: std::fmt::Debug>(done: std::io::Result<T>) -> String {
    match done {
        Ok(value) => format!("{value:?}"),
        Err(e) => format!("errno {:?}", e.raw_os_error()),
    }
}

impl Program<'_> {
    fn does(&mut self, kind: u64, mut chance: impl FnMut(u64) -> u64) -> String {
        let names = ["a", "b", "c", "d/a", "d/b", "d/e/a", "d", "d/e", "f"];
        let mut name = || names[chance(names.len() as u64) as usize];
        let (one, two) = (name(), name());
        let (at, to) = (self.top.join(one), self.top.join(two));
        let (length, place, slot) = (chance(70_000), chance(200_000), chance(3));
        let bytes = super::bytes_of(&format!("{length} {place}"), length as usize);
        let done = match kind {
            0 => told(fs::create_dir(&at)),
            1 => told(fs::write(&at, &bytes)),
            2 => told(fs::rename(&at, &to)),
            3 => told(fs::remove_file(&at)),
            4 => told(fs::remove_dir(&at)),
            5 => {
                let file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&at);
                let done = told(
                    file.as_ref()
                        .map(|_| ())
                        .map_err(|e| std::io::Error::from_raw_os_error(e.raw_os_error().unwrap())),
                );
                file.into_iter().for_each(|file| drop(self.open.insert(slot, file)));
                done
            }
            6 => self.with(slot, |file| told(file.write_all_at(&bytes, place))),
            7 => self.with(slot, |file| {
                let mut got = vec![0; length as usize];
                let n = file.read_at(&mut got, place).unwrap_or(usize::MAX).min(got.len());
                blake3::hash(&got[..n]).to_hex().to_string()
            }),
            8 => self.with(slot, |file| told(file.set_len(place))),
            9 => self.with(slot, |file| told(file.sync_all())),
            10 => told(
                self.open
                    .remove(&slot)
                    .map(drop)
                    .ok_or_else(|| std::io::Error::from_raw_os_error(libc::EBADF)),
            ),
            11 => told(fs::read(&at).map(|bytes| blake3::hash(&bytes).to_hex().to_string())),
            12 => {
                let listed = fs::read_dir(&at).and_then(|entries| {
                    let mut names: Vec<_> =
                        entries.map(|e| e.map(|e| e.file_name())).collect::<Result<_, _>>()?;
                    names.sort();
                    Ok(names)
                });
                told(listed)
            }
            13 => told(fs::set_permissions(
                &at,
                fs::Permissions::from_mode(if length % 2 == 0 { 0o644 } else { 0o755 }),
            )),
            14 => told(fs::metadata(&at).map(|m| (m.len() * u64::from(m.is_file()), m.is_dir()))),
            15 => self.with(slot, |file| told(file.metadata().map(|m| m.len()))),
            16 => told(
                OpenOptions::new()
                    .append(true)
                    .open(&at)
                    .and_then(|mut file| std::io::Write::write_all(&mut file, &bytes)),
            ),
            17 => told(OpenOptions::new().write(true).create_new(true).open(&at).map(drop)),
            _ => told(File::options().write(true).truncate(true).open(&at).map(drop)),
        };
        format!("{kind} {one} {two} {slot} {length} {place}: {done}")
    }

    fn with(&self, slot: u64, does: impl FnOnce(&File) -> String) -> String {
        self.open.get(&slot).map_or_else(|| "not open".into(), does)
    }
}

fn tree(top: &Path) -> BTreeMap<String, Option<(String, bool)>> {
    fn walk(dir: &Path, prefix: &str, all: &mut BTreeMap<String, Option<(String, bool)>>) {
        for entry in fs::read_dir(dir).unwrap() {
            let entry = entry.unwrap();
            let path = format!("{prefix}{}", entry.file_name().to_string_lossy());
            let facts = entry.metadata().unwrap();
            if facts.is_dir() {
                all.insert(path.clone(), None);
                walk(&entry.path(), &format!("{path}/"), all);
            } else {
                let hash = blake3::hash(&fs::read(entry.path()).unwrap()).to_hex().to_string();
                all.insert(path, Some((hash, facts.permissions().mode() & 0o100 != 0)));
            }
        }
    }
    let mut all = BTreeMap::new();
    walk(top, "", &mut all);
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn a_random_program_finds_no_difference() {
    let (service, _ines) = Service::ready().await;
    let mut laptop = Mounted::new(&service, "LAPTOP", &[]);
    let seed = std::env::var("YATTIC_SEED").ok().and_then(|seed| seed.parse().ok());
    let rounds: u64 = if seed.is_some() { 1 } else { 12 };
    for round in 0..rounds {
        let seed = seed.unwrap_or(20_261_201 + round);
        let plain = tempfile::tempdir().unwrap();
        let at = laptop.at(&format!("round {round}"));
        fs::create_dir(&at).unwrap();
        let mut one = Program { top: &at, open: BTreeMap::new() };
        let mut other = Program { top: plain.path(), open: BTreeMap::new() };
        let (mut chance, mut same) = (yellow_attic_trials::numbers(seed), yellow_attic_trials::numbers(seed));
        for step in 0..400 {
            let (kind, its) = (chance(19), same(19));
            assert_eq!(kind, its);
            let (mounted, ordinary) = (one.does(kind, &mut chance), other.does(kind, &mut same));
            assert_eq!(mounted, ordinary, "YATTIC_SEED={seed}, step {step}");
        }
        drop((one.open, other.open));
        assert_eq!(tree(&at), tree(plain.path()), "YATTIC_SEED={seed}");
        // And what the service has in the end is that, once and whole.
        laptop.all_sent();
        let out = Yattic::new();
        out.connect(&service);
        let fetched = out.home.path().join("out");
        let done = out
            .command(&["get", &format!("home:/round {round}"), fetched.to_str().unwrap(), "--quiet"])
            .stderr(Stdio::piped())
            .output()
            .unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        let told = tree(&fetched);
        assert_eq!(told, tree(plain.path()), "YATTIC_SEED={seed}, on the service");
    }
    // All of it is there when it is mounted anew.
    let before = tree(&laptop.at(""));
    laptop.end();
    laptop.mount();
    assert_eq!(tree(&laptop.at("")), before);
}
