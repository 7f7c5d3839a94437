//! Links and intakes: addresses that open something to strangers, and all that was given out.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A link or intake to be made. Times are RFC 3339, sizes bytes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOpening {
    /// `link` or `intake`.
    pub kind: String,
    /// The file or folder that it opens.
    pub node: i64,
    /// An ending of one's own for its address: a to z, digits, hyphens; none: a random one of 130 bits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ending: Option<String>,
    /// All else.
    #[serde(default)]
    pub set: OpeningSet,
}

/// What of a link or intake can be set; what is left out stays as it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpeningSet {
    /// Of a link: view, download, add or edit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub can: Option<String>,
    /// A title for strangers; empty: the name of the file or folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// A message for strangers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// A password; empty: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// When it begins; empty: at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub begins: Option<String>,
    /// When it ends; empty: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
    /// How many downloads (link) or deliveries (intake); 0: any number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<u32>,
    /// Of an intake: the largest file; 0: no limit of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub largest_file: Option<u64>,
    /// Of an intake: the most of one delivery; 0: no limit of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub largest_all: Option<u64>,
    /// Of an intake: pictures, documents, sound, video, archives, or endings such as .pdf; empty: anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kinds: Option<String>,
    /// Of an intake: whether senders are asked for a mail address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asks_mail: Option<bool>,
    /// Paused, or going on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// Confirms one whose file or folder was removed and brought back.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub confirmed: bool,
    /// Ended, or opened again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<bool>,
}

/// A link or intake.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Opening {
    /// Its id.
    pub id: i64,
    /// `link` or `intake`.
    pub kind: String,
    /// `open`, or why it does not open: not yet, over, used up, paused, ended, asleep, target removed,
    /// maker disabled, maker lost the right, door closed, against a rule.
    pub state: String,
    /// Why, and what to do about it; empty if it opens.
    pub sentence: String,
    /// The file or folder.
    pub node: i64,
    /// Its name; empty if it is gone.
    pub name: String,
    /// Where it is, if the caller may see it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether it is a folder.
    pub folder: bool,
    /// The address; only for who decides over it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Whether somebody chose its ending: it can be guessed.
    pub own_ending: bool,
    /// What a link lets do.
    pub can: String,
    /// The title for strangers.
    pub title: String,
    /// The message for strangers.
    pub message: String,
    /// Whether a password is asked for.
    pub password: bool,
    /// When it begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub begins: Option<String>,
    /// When it ends, as it was set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
    /// When it ends at the latest: a rule may shorten it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// How many downloads or deliveries.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most: Option<u32>,
    /// How many there were.
    pub used: u32,
    /// When it was used last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_at: Option<String>,
    /// From which network address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_from: Option<String>,
    /// When too many passwords were tried last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub guessed_at: Option<String>,
    /// Uploads through it that are not whole yet.
    #[serde(default)]
    pub coming: u64,
    /// How many bytes of them are here.
    #[serde(default)]
    pub coming_bytes: u64,
    /// The largest file that is taken, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest_file: Option<u64>,
    /// The most of one delivery, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest_all: Option<u64>,
    /// What is taken; empty: anything.
    pub kinds: String,
    /// Whether senders are asked for a mail address.
    pub asks_mail: bool,
    /// Who made it: the name to show.
    pub by: String,
    /// When.
    pub at: String,
    /// Whether the caller decides over it.
    pub mine: bool,
}

/// Links and intakes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Openings {
    /// The latest first.
    pub openings: Vec<Opening>,
}

/// Of which node, or kind.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct OpeningsQuery {
    /// `link` or `intake`; both if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Those of one file or folder that one manages; one's own if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<i64>,
}

/// A letter with the address of a link or intake.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpeningMail {
    /// To which addresses.
    pub to: Vec<String>,
    /// A word besides.
    #[serde(default)]
    pub message: String,
}

/// What somebody handed in, in one go.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    /// Its id.
    pub id: i64,
    /// The sender's name, as they gave it.
    pub sender: String,
    /// Their mail address, if they were asked for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// From which network address.
    pub from: String,
    /// The folder in which it lies, once a file has arrived.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub folder: Option<i64>,
    /// When it began.
    pub begun: String,
    /// When its sender was done, or it was closed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done: Option<String>,
    /// `under way`, `done`, or `broken off`: nobody went on with it.
    pub state: String,
    /// How many files have arrived.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// The deliveries of an intake.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Deliveries {
    /// The latest first; at most 1000.
    pub deliveries: Vec<Delivery>,
}

/// A file on a receipt.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Received {
    /// As the sender named it, with the folders it was in.
    pub path: String,
    /// In bytes.
    pub size: u64,
    /// BLAKE3, 64 hexadecimal digits.
    pub blake3: String,
}

/// What a sender is given for a delivery.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Receipt {
    /// The sender's name.
    pub sender: String,
    /// When it began.
    pub begun: String,
    /// When it was done; none while it is under way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done: Option<String>,
    /// What has arrived.
    pub files: Vec<Received>,
    /// All bytes.
    pub bytes: u64,
}

/// Who hands something in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDelivery {
    /// The sender's name.
    pub name: String,
    /// Their mail address, if the intake asks for it.
    #[serde(default)]
    pub mail: Option<String>,
}

/// A delivery that has begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeliveryBegun {
    /// What all that belongs to it carries in the header `Delivery`.
    pub delivery: String,
}

/// Something that was given out, or is taken in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Given {
    /// `link`, `intake`, or `share`: a right given to people.
    pub kind: String,
    /// Its id among those of its kind.
    pub id: i64,
    /// The file or folder.
    pub node: i64,
    /// Its name; empty if it is gone.
    pub name: String,
    /// Where it is, if the caller may see it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Whether it is a folder.
    pub folder: bool,
    /// For whom: a name, or anybody who has the address.
    pub to: String,
    /// What they may do.
    pub can: String,
    /// `open`, or why it does not count.
    pub state: String,
    /// Why, and what to do about it.
    pub sentence: String,
    /// Until when.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// How often it was used; none for a share.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used: Option<u32>,
    /// How often it may be used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most: Option<u32>,
    /// When it was used last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_at: Option<String>,
    /// From which network address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used_from: Option<String>,
    /// The address, for who decides over it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Whether a password is asked for.
    pub password: bool,
    /// Who gave it.
    pub by: String,
    /// When.
    pub at: String,
    /// Whether the caller decides over it.
    pub mine: bool,
}

/// A page of what was given out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GivenOut {
    /// The latest first.
    pub given: Vec<Given>,
    /// How many there are in all, by this filter.
    pub total: usize,
    /// Where the next page begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

/// What of it is wanted.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct GivenQuery {
    /// Everybody's, for administrators; else one's own.
    #[serde(default)]
    pub all: bool,
    /// Of one account, by its sign-in name; for administrators.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Words in names, paths, titles and names of people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// link, intake or share.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// `open`, `shut`, or a state.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// `csv`: the whole list as a table.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// How many, up to 1000; 200 if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<usize>,
    /// Where to go on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
}

/// One of what was given out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GivenId {
    /// link, intake or share.
    pub kind: String,
    /// Its id.
    pub id: i64,
}

/// A change of many at once.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct GivenChange {
    /// Of which.
    pub of: Vec<GivenId>,
    /// Ends them.
    #[serde(default)]
    pub end: bool,
    /// Pauses links and intakes, or lets them go on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// A new end; empty: none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ends: Option<String>,
}

/// One that was not changed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GivenRefused {
    /// Which.
    pub kind: String,
    /// Which.
    pub id: i64,
    /// Why.
    pub reason: String,
}

/// What came of a change of many.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GivenChanged {
    /// How many were changed.
    pub done: usize,
    /// Those that were not.
    pub refused: Vec<GivenRefused>,
}

/// Something about the public address.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddressFinding {
    /// Whether all is well there.
    pub good: bool,
    /// What was found.
    pub what: String,
    /// What to do; empty if nothing.
    pub remedy: String,
}

/// An address under which requests came.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddressSeen {
    /// Scheme and host.
    pub address: String,
    /// How often since the service began.
    pub times: u64,
    /// When last.
    pub last: String,
    /// Whether it is the public one.
    pub right: bool,
}

/// What a stranger would get.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddressCheck {
    /// What links begin with.
    pub address: String,
    /// What was found.
    pub findings: Vec<AddressFinding>,
    /// Under which addresses requests came.
    pub seen: Vec<AddressSeen>,
}

/// A link or intake that breaks a stricter rule.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleBroken {
    /// `link` or `intake`.
    pub kind: String,
    /// Its id.
    pub id: i64,
    /// What it opens.
    pub name: String,
    /// Who made it.
    pub by: String,
    /// What of the rule it breaks.
    pub breaks: String,
    /// When it would end if it were shortened; none: it can only be ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shorten: Option<String>,
}
