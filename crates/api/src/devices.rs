//! Connected computers: how one is connected, what it may reach, and what it says of itself.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Connecting a computer.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDevice {
    /// The sign-in name.
    pub sign_in: String,
    /// The password.
    pub password: String,
    /// What to call the computer.
    pub device: String,
    /// A code of the authenticator or a recovery code, where there is a second factor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// A connected computer's token. It is told once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct DeviceToken {
    /// Sent as `Authorization: Bearer …`.
    pub token: String,
}

/// A computer asks to be connected: somebody who is signed in answers.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewConnection {
    /// What to call the computer.
    pub device: String,
    /// Its program, with the version.
    #[serde(default)]
    pub program: String,
}

/// What a computer that asks to be connected is told (the members are those of RFC 8628, section 3.2).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Connection {
    /// What the computer comes back with. It tells nobody.
    pub device_code: String,
    /// What somebody types in the console.
    pub user_code: String,
    /// Where they type it.
    pub verification_uri: String,
    /// For how many seconds it counts.
    pub expires_in: u64,
    /// How many seconds to wait between two questions.
    pub interval: u64,
}

/// A computer asks whether it was answered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Collect {
    /// What it was told at first.
    pub device_code: String,
}

/// A code that somebody typed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TypedCode {
    /// The code; small letters, spaces and hyphens do not count.
    pub code: String,
}

/// The computer that waits under a code.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AskedConnection {
    /// What it calls itself.
    pub device: String,
    /// Its program, with the version.
    pub program: String,
    /// The network address from which it asks.
    pub from: String,
    /// When it asked.
    pub asked: String,
    /// Until when the code counts.
    pub ends: String,
}

/// What somebody answers to a computer that asks.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectionAnswer {
    /// The code.
    pub code: String,
    /// Whether it is connected.
    pub connect: bool,
    /// Another name for the computer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Nothing outside these folders; all that the account may see where there is none. At most 50.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<i64>,
    /// Whether it only reads.
    #[serde(default)]
    pub read_only: bool,
}

/// How far a computer's token reaches.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokenReach {
    /// Whether it only reads.
    pub read_only: bool,
    /// The folders outside of which nothing is; none: all that the account may see.
    pub within: Vec<ReachedFolder>,
}

/// A folder that a computer's token reaches.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReachedFolder {
    /// Its id; none if it is not there any more, or not to be seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<i64>,
    /// Where it is; none likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
}

/// What a computer says of itself, each time that it changes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeviceReport {
    /// Its program, with the version.
    pub program: String,
    /// Its pairs. At most 100.
    #[serde(default)]
    pub pairs: Vec<DevicePair>,
}

/// A local folder that is kept in step, as the computer tells it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DevicePair {
    /// The folder on the computer.
    pub folder: String,
    /// The folder here.
    pub place: String,
    /// `both`, `down` or `up`.
    pub way: String,
    /// `in step`, `working`, `waiting`, `paused` or `stopped`.
    pub state: String,
    /// When both sides were last the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_step: Option<String>,
    /// How many things wait.
    #[serde(default)]
    pub waiting: u64,
    /// How many want somebody to look: conflicts, names that cannot be, questions.
    #[serde(default)]
    pub trouble: u64,
    /// The most pressing of it, in a sentence.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub says: String,
}

/// One of the caller's computers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// Its id.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// When it was connected.
    pub connected: String,
    /// When it was last used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used: Option<String>,
    /// The address from which it was last used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_from: Option<String>,
    /// How far its token reaches, where that is not all of the account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reach: Option<TokenReach>,
    /// What it says of itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<DeviceReport>,
    /// When it said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reported: Option<String>,
    /// Whether it is the one that asks.
    #[serde(default)]
    pub this: bool,
}

/// The caller's computers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Devices {
    /// The oldest first.
    pub devices: Vec<Device>,
}

/// The client's program, as the service has it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClientProgram {
    /// What it is called.
    pub name: String,
    /// Its version.
    pub version: String,
    /// For which machines it is, as in `linux x86_64`.
    pub system: String,
    /// Its size, in bytes.
    pub size: u64,
    /// Its SHA-256, in hexadecimal digits.
    pub sha256: String,
}
