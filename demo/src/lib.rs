//! The sample scenario: a small museum in a disused lighthouse, with three months of history.
//! Everything is made up and generated from one seed, with moments relative to today.
//!
//! [`people`]: who is in it; [`make`]: makes it in an empty data folder; `files` draws and
//! writes the files themselves; `story` is what happened to them.

#![forbid(unsafe_code)]

pub mod files;
mod story;

use serde::Serialize;
use std::path::Path;

/// Somebody in the scenario.
#[derive(Clone, Debug, Serialize)]
pub struct Person {
    /// The sign-in name.
    pub sign_in: String,
    /// The password.
    pub password: String,
    /// administrator or member.
    pub role: String,
    /// The name to show.
    #[serde(skip)]
    pub name: &'static str,
}

/// Hashes a password.
pub type Hash = dyn Fn(&str) -> Result<String, String> + Sync;
/// Anything that can go wrong.
pub type Failure = Box<dyn std::error::Error>;

/// Everybody in the scenario, the administrator first.
pub fn people() -> Vec<Person> {
    [
        ("ines", "Ines Marrow", "lantern-gallery-brass", "administrator"),
        ("tomas", "Tomas Field", "harbour-ledger-slate", "member"),
        ("oona", "Oona Vale", "caption-feather-tide", "member"),
        ("bruno", "Bruno Alder", "drawing-compass-oak", "member"),
        ("celia", "Celia Frost", "ticket-window-gull", "member"),
        ("dario", "Dario Stone", "foghorn-kettle-rust", "member"),
        ("edda", "Edda Winter", "minutes-velvet-anchor", "member"),
        ("felix", "Felix Brook", "winch-copper-rope", "member"),
        ("greta", "Greta Lind", "season-paper-lamp", "member"),
        ("hugo", "Hugo Marsh", "stairs-ninety-two", "member"),
        ("ivy", "Ivy Holm", "postcard-shelf-salt", "member"),
        ("jonas", "Jonas Reed", "keeper-window-frost", "member"),
        ("nora", "Nora Quill", "charcoal-easel-pier", "guest"),
    ]
    .into_iter()
    .map(|(sign_in, name, password, role)| Person {
        sign_in: sign_in.into(),
        password: password.into(),
        role: role.into(),
        name,
    })
    .collect()
}

/// Makes the scenario in an empty data folder, as it is at `now_ms`.
#[async_recursion::async_recursion(?Send)]
pub async fn make(data: &Path, now_ms: i64, hash: &Hash) -> Result<(), Failure> {
    story::tell(data, now_ms, hash).await
}

/// Writes where the demo is served and who can sign in.
pub fn write_json(path: &Path, address: &str, people: &[Person]) -> std::io::Result<()> {
    let text = serde_json::to_string_pretty(&serde_json::json!({ "address": address, "accounts": people }))?;
    let fresh = path.with_extension("new");
    std::fs::write(&fresh, text + "\n")?;
    std::fs::rename(fresh, path)
}

/// Numbers that look random and are the same every time.
pub struct Dice(u64);

impl Dice {
    /// Dice for one purpose.
    pub fn new(purpose: &str) -> Dice {
        let hash = blake3::hash(purpose.as_bytes());
        let mut seed = [0; 8];
        seed.copy_from_slice(&hash.as_bytes()[..8]);
        Dice(u64::from_le_bytes(seed) | 1)
    }

    /// A number below `n` (xorshift64*, Vigna 2016).
    pub fn below(&mut self, n: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 33) % n.max(1)
    }

    /// One of these.
    pub fn pick<'a, T>(&mut self, list: &'a [T]) -> &'a T {
        &list[self.below(list.len() as u64) as usize]
    }
}
