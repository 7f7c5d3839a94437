//! Rules, mail, lists of people, plans, and accounts that leave.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// A value that is set somewhere.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleSet {
    /// `service`, `organisation`, `group:NAME` or `shelf:NAME`.
    pub scope: String,
    /// The value, as text.
    pub value: String,
    /// What it does, in a sentence.
    pub sentence: String,
}

/// A rule.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// What it is about.
    pub title: String,
    /// What counts where no group says more.
    pub value: String,
    /// What that does, in a sentence.
    pub sentence: String,
    /// What counts where nothing is set.
    pub usual: String,
    /// What can be said.
    pub wanted: String,
    /// The words to choose from, where there is a choice.
    pub choices: Vec<String>,
    /// Whether groups can have values of their own.
    pub for_groups: bool,
    /// Whether shelves can have values of their own.
    pub for_shelves: bool,
    /// Where it is set.
    pub set: Vec<RuleSet>,
}

/// All rules.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rules {
    /// In the order in which they are shown.
    pub rules: Vec<Rule>,
}

/// A rule to be set.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleChange {
    /// `service`, `organisation`, `group:NAME` or `shelf:NAME`.
    pub scope: String,
    /// The value; none: as further up.
    #[serde(default)]
    pub value: Option<String>,
    /// Only tell what it would do.
    #[serde(default)]
    pub preview: bool,
    /// What becomes of links and intakes that break it: `leave` (they do not open), `shorten` those that
    /// live too long, `end` all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub breaking: Option<String>,
}

/// What a change of a rule does to somebody.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleEffect {
    /// The sign-in name.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// What counted.
    pub before: String,
    /// What counts.
    pub after: String,
    /// What that means at once; empty if nothing.
    pub at_once: String,
}

/// What a change of a rule does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleEffects {
    /// What counts at that scope afterwards.
    pub value: String,
    /// What that does, in a sentence.
    pub sentence: String,
    /// For whom it changes something.
    pub people: Vec<RuleEffect>,
    /// Links and intakes that break it and did not before.
    pub broken: Vec<crate::RuleBroken>,
    /// What of the past the rules let go then, with the next look at them; none if the rule is about other things.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub going: Option<crate::Going>,
    /// What they let go as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub going_before: Option<u64>,
    /// How full everything would be, where what counts changes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub quotas: Vec<crate::Quota>,
    /// Whether it was done.
    pub done: bool,
}

/// A letter in the queue, or one that went out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Letter {
    /// Its id.
    pub id: i64,
    /// What it is about.
    pub kind: String,
    /// To which address.
    pub to: String,
    /// Its subject.
    pub subject: String,
    /// When it was written.
    pub written: String,
    /// `waiting`, `sent` or `given up`.
    pub state: String,
    /// How often it was tried.
    pub tries: i64,
    /// When it is tried next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub due: Option<String>,
    /// When it was sent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sent: Option<String>,
    /// What the mail server said last.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub said: String,
}

/// The mail server, and the latest letters.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Mail {
    /// The server, if one is set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub server: Option<String>,
    /// Whom mail comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Newest first.
    pub letters: Vec<Letter>,
}

/// A letter to try the mail server with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MailTest {
    /// To which address.
    pub to: String,
}

/// What the mail server said.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MailTested {
    /// Whether it took the letter.
    pub taken: bool,
    /// Its words, or the reason why it could not be asked.
    pub said: String,
    /// What to do about it.
    pub remedy: String,
}

/// What becomes of a letter that waits.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LetterChange {
    /// `true`: try it again now. `false`: give it up.
    pub again: bool,
}

/// How a list of people is read.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
#[into_params(parameter_in = Query)]
pub struct ListPeopleQuery {
    /// Only tell what would happen.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
    /// Change accounts that are there already.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub change: bool,
    /// Send an invitation to each new account with a mail address.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub invite: bool,
    /// Which heading is which column, as a JSON object: `{"Kürzel": "sign_in", "Notes": ""}`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub columns: String,
}

/// A column of a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListColumn {
    /// Its heading.
    pub heading: String,
    /// What it is taken for: sign_in, display_name, mail, groups, quota, role; none: left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
}

/// What becomes of a row.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListRow {
    /// The line on which it begins.
    pub line: usize,
    /// The sign-in name, as far as it can be read.
    pub sign_in: String,
    /// The name to show.
    pub display_name: String,
    /// `made`, `changed`, `same`, `there` or `wrong`.
    pub fate: String,
    /// What changes, or what is wrong, with the column.
    pub details: Vec<String>,
}

/// What becomes of a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListedPeople {
    /// Its columns.
    pub columns: Vec<ListColumn>,
    /// What stands between its fields.
    pub separator: String,
    /// Its rows.
    pub rows: Vec<ListRow>,
    /// How many of each fate.
    pub sums: BTreeMap<String, usize>,
    /// Whether it was done.
    pub done: bool,
    /// Letters that were written.
    pub invited: usize,
}

/// What becomes of the files of somebody who leaves.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Removal {
    /// The account's sign-in name once more, so that nobody is meant by mistake.
    pub name: String,
    /// After how many days it is deleted: 1 to 3650; 30 if it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
    /// Who gets its files then; without it they are out of reach.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heir: Option<String>,
}

/// What goes with an account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Goes {
    /// Files on its home shelf.
    pub files: i64,
    /// Their bytes.
    pub bytes: i64,
    /// What it has given to others on its home shelf.
    pub given: i64,
    /// What was given to it.
    pub received: i64,
    /// Computers it has connected.
    pub computers: i64,
    /// Its groups.
    pub groups: i64,
    /// Uploads that are not finished.
    pub uploads: i64,
    /// Shared shelves of which it is the only owner: they need another one first.
    pub sole_owner_of: Vec<String>,
    /// When it is deleted, if that is decided.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leaves: Option<String>,
    /// Who gets its files then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub heir: Option<String>,
}

/// A shared shelf as administrators see it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SharedShelf {
    /// Its name.
    pub name: String,
    /// The folder at its top.
    pub root: i64,
    /// What it is for.
    pub note: String,
    /// The sign-in names of its owners.
    pub owners: Vec<String>,
    /// Their names to show, in the same order.
    #[serde(default)]
    pub owner_names: Vec<String>,
    /// How many bytes it may hold.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Bytes on it.
    pub bytes: u64,
    /// Bytes of uploads that have begun.
    pub claimed: u64,
    /// Files on it.
    pub files: i64,
}

/// All shared shelves.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SharedShelves {
    /// By name.
    pub shelves: Vec<SharedShelf>,
}

/// What of a shared shelf is to be changed. What is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ShelfChange {
    /// What it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// How much it may hold: `20 GiB`, or `none`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
    /// The sign-in names of all its owners.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owners: Option<Vec<String>>,
}

/// The name of the shelf that a folder becomes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Raise {
    /// The shelf's name.
    pub name: String,
}

/// Where a shelf goes as a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Lower {
    /// Into which folder.
    pub parent: i64,
    /// Under which name.
    pub name: String,
}

/// A plan: accounts, groups, shelves, grants and rules as they are to be. Applied again, it changes
/// nothing more. It takes nothing away that it does not name.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Plan {
    /// Groups, by name.
    #[serde(rename = "group")]
    pub groups: Vec<PlanGroup>,
    /// Accounts, by sign-in name.
    #[serde(rename = "account")]
    pub accounts: Vec<PlanAccount>,
    /// Shared shelves, by name.
    #[serde(rename = "shelf")]
    pub shelves: Vec<PlanShelf>,
    /// Grants.
    #[serde(rename = "grant")]
    pub grants: Vec<PlanGrant>,
    /// Rules.
    #[serde(rename = "rule")]
    pub rules: Vec<PlanRule>,
}

/// A group of a plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PlanGroup {
    /// Its name.
    pub name: String,
    /// What it is for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// How much the home of each member may hold: `20 GiB`, or `none`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
}

/// An account of a plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PlanAccount {
    /// Its sign-in name.
    pub sign_in: String,
    /// The name to show.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub display_name: Option<String>,
    /// The mail address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// All its groups.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
    /// How much its home may hold: `20 GiB`, or `none`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
    /// administrator or member.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub role: Option<String>,
}

/// A shared shelf of a plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PlanShelf {
    /// Its name.
    pub name: String,
    /// What it is for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The sign-in names of all its owners; whoever applies the plan, if a new one names none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub owners: Option<Vec<String>>,
    /// How much it may hold: `20 GiB`, or `none`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub quota: Option<String>,
}

/// A grant of a plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PlanGrant {
    /// On what: `shelf:/path`.
    pub path: String,
    /// `account:NAME`, `group:NAME` or `everyone`.
    pub to: String,
    /// view, add, edit, manage or deny; `none` takes it away.
    pub can: String,
}

/// A rule of a plan.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PlanRule {
    /// Its name.
    pub name: String,
    /// `service`, `organisation` or `group:NAME`; service if it is left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scope: Option<String>,
    /// The value.
    pub value: String,
}

/// A plan to be looked at or applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ApplyPlan {
    /// The plan.
    pub plan: Plan,
    /// Only tell what would happen.
    #[serde(default)]
    pub preview: bool,
}

/// One step of a plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanStep {
    /// group, account, shelf, grant or rule.
    pub kind: String,
    /// Which.
    pub name: String,
    /// `made`, `changed`, `same` or `wrong`.
    pub fate: String,
    /// What changes, or what is wrong.
    pub details: Vec<String>,
}

/// What becomes of a plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanTold {
    /// In the order in which it is done.
    pub steps: Vec<PlanStep>,
    /// Whether it was done. A plan with something wrong is not.
    pub done: bool,
}
