//! Second factors, one's own account, looking as somebody, guests, signing up.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A second factor.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Factor {
    /// To remove it by.
    pub id: i64,
    /// `codes` or `passkey`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// When it was set up.
    pub made: String,
    /// When it was last used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used: Option<String>,
}

/// The caller's second factors.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Factors {
    /// The oldest first.
    pub factors: Vec<Factor>,
    /// Recovery codes that are left.
    pub recovery_left: i64,
    /// From which day on a second factor is demanded of the caller.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub demanded_from: Option<String>,
    /// Whether passkeys can be set up under the address that was asked.
    pub passkeys: bool,
}

/// An authenticator to be set up. It counts when a code of it was confirmed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewCodes {
    /// To confirm it by, for ten minutes.
    pub ticket: String,
    /// The secret, base32, for typing in.
    pub secret: String,
    /// The same as an `otpauth` address.
    pub address: String,
    /// The same as a QR code, an SVG picture.
    pub picture: String,
}

/// Confirms an authenticator.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfirmCodes {
    /// From when it was begun.
    pub ticket: String,
    /// A code that it shows.
    pub code: String,
    /// What to call it.
    #[serde(default)]
    pub name: String,
}

/// A passkey to be set up.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewPasskey {
    /// To confirm it by, for ten minutes.
    pub ticket: String,
    /// What `navigator.credentials.create` takes (WebAuthn, JSON form).
    #[schema(value_type = Object)]
    pub options: serde_json::Value,
}

/// Confirms a passkey.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfirmPasskey {
    /// From when it was begun.
    pub ticket: String,
    /// What the browser answered (WebAuthn, JSON form).
    #[schema(value_type = Object)]
    pub credential: serde_json::Value,
    /// What to call it.
    #[serde(default)]
    pub name: String,
}

/// Recovery codes. They are shown only here.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct Recovery {
    /// Each counts once; none if the ones of before still count.
    pub codes: Vec<String>,
}

/// The second step of signing in.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SecondStep {
    /// From the first step.
    pub ticket: String,
    /// A code of the authenticator, or a recovery code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// What the browser answered for a passkey (WebAuthn, JSON form).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Object)]
    pub passkey: Option<serde_json::Value>,
}

/// The ticket of a first step.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Ticket {
    /// The ticket.
    pub ticket: String,
}

/// What `navigator.credentials.get` takes.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct PasskeyQuestion {
    /// WebAuthn, JSON form.
    #[schema(value_type = Object)]
    pub options: serde_json::Value,
}

/// One's own account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Own {
    /// The sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// The mail address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// administrator, member or guest.
    pub role: String,
    /// The names of its groups.
    pub groups: Vec<String>,
    /// How many bytes its home may hold.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Bytes on its home shelf.
    pub bytes: i64,
    /// Ways in that are closed to it: console, sync.
    pub closed: Vec<String>,
    /// When its picture was set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub picture: Option<String>,
    /// Letters that can be done without.
    pub letters: Vec<OwnLetter>,
    /// Who looked as it, the latest first.
    pub looks: Vec<Looked>,
}

/// A kind of letter.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnLetter {
    /// given, computer or look.
    pub kind: String,
    /// What it tells.
    pub title: String,
    /// Whether it is wanted.
    pub wanted: bool,
}

/// An administrator looked as the caller.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Looked {
    /// Who.
    pub by: String,
    /// When.
    pub at: String,
}

/// A change of one's own account.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnChange {
    /// The name to show.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// The letters that are not wanted: given, computer, look.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub muted: Option<Vec<String>>,
}

/// Whom an administrator looks as.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Look {
    /// The sign-in name.
    pub account: String,
}

/// A look that began.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookBegun {
    /// As whom.
    pub account: String,
    /// When it ends by itself.
    pub ends: String,
    /// Whether that person is told.
    pub told: bool,
}

/// A guest to be invited to a file or folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewGuest {
    /// The mail address.
    pub mail: String,
    /// The name to show; the mail address if it is empty.
    #[serde(default)]
    pub display_name: String,
    /// The file or folder.
    pub node: i64,
    /// view, add or edit.
    pub can: String,
    /// Until when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// A word that goes with it.
    #[serde(default)]
    pub message: String,
}

/// A guest who was invited.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GuestInvited {
    /// The sign-in name; the mail address can be used as well.
    pub sign_in: String,
    /// Whether an account was made; `false`: it was there already, and was given the right.
    pub made: bool,
    /// Where the guest chooses a password; none if there is one already. It is shown only here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Whether it goes out by mail.
    pub mailed: bool,
}

/// Somebody asks for an account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignUp {
    /// The wanted sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// The mail address; the way to choose a password is sent there.
    pub mail: String,
}
