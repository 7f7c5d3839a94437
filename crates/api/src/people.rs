//! Accounts and groups.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A password given once more, before something that matters.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Proof {
    /// The caller's own password.
    pub password: String,
    /// A code of the authenticator, or a recovery code: for what changes how one signs in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
    /// The same by a passkey: the ticket of the question.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ticket: Option<String>,
    /// What the browser answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub passkey: Option<serde_json::Value>,
}

/// Somebody or something whose next attempt has to wait.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Slowed {
    /// What is counted: `account`, `second factor`, `name`, `browser`, `link`, `address`, `address at links`, `proxy` or
    /// `everything`.
    pub kind: String,
    /// Of what.
    pub of: String,
    /// Failed attempts since the last quiet.
    pub failures: u32,
    /// When the last one was.
    pub last: String,
    /// When the next one is looked at.
    pub until: String,
}

/// All that have to wait.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AllSlowed {
    /// Those with the most failures first, at most 200.
    pub slowed: Vec<Slowed>,
    /// How many there are.
    pub total: usize,
    /// Machines that pass requests on and are not trusted to say for whom: all behind one count as one.
    pub proxies: Vec<String>,
}

/// Who may go on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct SlowedQuery {
    /// As `of` in the list; none: everybody.
    pub of: Option<String>,
}

/// How many were let go on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Released {
    /// How many.
    pub released: usize,
}

/// A question for a passkey, as a proof.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PasskeyProof {
    /// What to send back with the answer; counts for ten minutes, and once.
    pub ticket: String,
    /// For the browser.
    #[schema(value_type = Object)]
    pub options: serde_json::Value,
}

/// Somebody or a group, as a place to give something to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// `account:NAME`, `group:NAME` or `everyone`.
    pub to: String,
    /// The name to show.
    pub name: String,
}

/// All to whom something can be given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct People {
    /// Accounts and groups, by name.
    pub people: Vec<Person>,
}

/// An account as administrators see it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Account {
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
    /// Since when it can do nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disabled: Option<String>,
    /// It has no password yet: nobody can sign in until one is chosen by an invitation.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub invited: bool,
    /// Bytes on its home shelf.
    pub bytes: i64,
    /// Why it is disabled, if nobody said so: away, waiting or leaving.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why_disabled: String,
    /// When it is deleted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leaves: Option<String>,
    /// How many bytes its home may hold, by itself or by its groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Whether that is said of it alone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own_quota: bool,
    /// Doors that are closed to it alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub closed: Vec<String>,
    /// All doors that are closed to it, with who says so: `sync (group Board)`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub shut: Vec<String>,
    /// Whether it has a second factor.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub second_factor: bool,
    /// When it last signed in to the console.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Who invited it, if it is a guest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invited_by: Option<String>,
    /// When its picture was set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<String>,
}

/// Accounts, a page of them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Accounts {
    /// By sign-in name.
    pub accounts: Vec<Account>,
    /// How many there are in all, by this filter.
    #[serde(default)]
    pub total: usize,
    /// Where the next page begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// Which accounts are wanted.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct AccountsQuery {
    /// Words in sign-in names, names, mail addresses and groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// administrator, member or guest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// `active`, `disabled`, `waiting` (to be approved), `invited` (no password yet) or `leaving` (is deleted).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// How many, up to 1000; 200 if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// Where to go on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}

/// All that is known of one account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccountPage {
    /// The account.
    pub account: Account,
    /// When it was made.
    pub made: String,
    /// What it may reach, and why: its shelves first, then what was given to it.
    pub reaches: Vec<Reached>,
    /// Its connected computers.
    pub devices: Vec<crate::Device>,
    /// Where it is signed in to the console.
    pub sessions: Vec<Session>,
    /// Its second factors.
    pub factors: Vec<crate::Factor>,
    /// Recovery codes that are left.
    pub recovery_left: i64,
    /// An invitation that was not used yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invitation: Option<OpenInvitation>,
    /// Unfinished uploads.
    pub uploads: Vec<crate::Upload>,
    /// How many links, intakes and shares it gave out.
    pub given: usize,
    /// What it did last, the latest first, at most 50.
    pub record: Vec<RecordLine>,
}

/// A place that an account may reach.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reached {
    /// The top of the shelf, or the file or folder that was given.
    pub node: i64,
    /// Its name.
    pub name: String,
    /// Where it is, if the caller may see it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether it is a folder.
    pub folder: bool,
    /// What it may do there.
    pub level: String,
    /// Why, in sentences.
    pub why: Vec<String>,
}

/// An invitation that was not used yet. Its address is not kept.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenInvitation {
    /// When it was made.
    pub made: String,
    /// Until when it counts.
    pub expires: String,
    /// Who made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}

/// A line of the record.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordLine {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: String,
    /// What was done.
    pub action: String,
    /// To what.
    pub what: String,
    /// What is to be said besides.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// By which computer.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub device: String,
    /// From which address.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub from: String,
}

/// A new account.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAccount {
    /// The sign-in name: 1 to 64 of a-z, 0-9, ".", "-", "_".
    pub sign_in: String,
    /// The name to show; the sign-in name if it is empty.
    #[serde(default)]
    pub display_name: String,
    /// The mail address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// administrator or member; member if it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// Its first password, to be handed over; without one, make an invitation.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// The groups it comes into.
    #[serde(default)]
    pub groups: Vec<String>,
    /// How much its home may hold: `20 GiB`; what its groups say if it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
}

/// What of an account is to be changed. What is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AccountChange {
    /// The name to show.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// The mail address; an empty one removes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// administrator or member.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
    /// A new password. It signs the account out everywhere and disconnects its computers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// `true`: it can do nothing, and nothing of its is lost. `false`: it can again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disabled: Option<bool>,
    /// How much its home may hold: `20 GiB`, or `none`: what its groups say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
    /// The doors that are closed to it alone: console, sync.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<Vec<String>>,
    /// All groups that it is in from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
}

/// A group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub note: String,
    /// Its members' sign-in names and names to show; in a list of groups the first eight.
    pub members: Vec<Person>,
    /// How many members it has.
    #[serde(default)]
    pub people: usize,
    /// How many bytes the home of each member may hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Doors that are closed to its members by it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub closed: Vec<String>,
}

/// Groups, a page of them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Groups {
    /// By name.
    pub groups: Vec<Group>,
    /// How many there are in all, by this filter.
    #[serde(default)]
    pub total: usize,
    /// Where the next page begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// Which groups are wanted.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct GroupsQuery {
    /// Words in names and in what they are for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// How many, up to 1000; 200 if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// Where to go on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}

/// A new group.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewGroup {
    /// Its name: 1 to 64 characters, no colon.
    pub name: String,
    /// What it is for.
    #[serde(default)]
    pub note: String,
    /// The sign-in names of its members.
    #[serde(default)]
    pub members: Vec<String>,
}

/// What of a group is to be changed. What is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GroupChange {
    /// Its name. What was given to it stays given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Sign-in names that come in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<String>,
    /// Sign-in names that go.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remove: Vec<String>,
    /// How much the home of each member may hold: `20 GiB`, or `none`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
}

/// An address that lets somebody choose a password, once. It is shown only here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invitation {
    /// To be passed on. Without a public address in the settings it begins with a slash.
    pub address: String,
    /// Whether it goes out by mail, too.
    #[serde(default)]
    pub mailed: bool,
    /// Until when it counts.
    pub expires: String,
}

/// The secret of an invitation: what follows the # of its address.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationSecret {
    /// The secret.
    pub secret: String,
}

/// Whom an invitation is for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invited {
    /// The sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// Whether there is a password already, which the new one replaces.
    pub again: bool,
    /// Until when it counts.
    pub expires: String,
}

/// A password chosen by an invitation.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Accept {
    /// The secret.
    pub secret: String,
    /// The password.
    pub password: String,
}

/// A change of one's own password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PasswordChange {
    /// The present one.
    pub present: String,
    /// The new one.
    pub new: String,
}

/// A session in a browser.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// To end it by.
    pub id: String,
    /// When it was opened.
    pub opened: String,
    /// When it ends by itself.
    pub ends: String,
    /// The address from which it was opened.
    pub from: String,
    /// What the browser said of itself.
    pub agent: String,
    /// Whether it is the one that asks.
    pub this: bool,
}

/// Where one is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sessions {
    /// The latest first.
    pub sessions: Vec<Session>,
}
