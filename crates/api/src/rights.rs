//! Who may do what, and why.

use crate::Node;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A grant to be given. It takes the place of an earlier one to the same.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewGrant {
    /// `account:NAME`, `group:NAME` or `everyone`.
    pub to: String,
    /// view, add, edit, manage, or deny.
    pub can: String,
    /// Until when (RFC 3339).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// A word to whom it is given.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub message: String,
}

/// A grant.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Grant {
    /// Its id.
    pub id: i64,
    /// `account:NAME`, `group:NAME` or `everyone`.
    pub to: String,
    /// The name to show for that.
    pub to_name: String,
    /// view, add, edit, manage, or deny.
    pub can: String,
    /// Until when.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// The word that goes with it.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub message: String,
    /// Who gave it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// When.
    pub at: String,
    /// Where: the node it is given on.
    pub node: i64,
    /// The path of that node, if the caller may see it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// `false`: it is over, or does not reach down to here.
    pub counts: bool,
}

/// All that is set on the way to a node.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reach {
    /// Who owns the shelf, and may do everything.
    pub owners: Vec<String>,
    /// Whether levels given further up do not reach here.
    pub afresh: bool,
    /// What is given here and further up, the nearest first.
    pub grants: Vec<Grant>,
    /// How many people may do something here, the owner among them.
    pub people: usize,
}

/// Whether rights start afresh at a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Afresh {
    /// `true`: levels given further up do not reach beyond here. Denials do.
    pub afresh: bool,
}

/// Why a grant counts or does not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// The grant.
    pub grant: Grant,
    /// `decides`, `gives less`, `denied`, `cut off` or `ended`.
    pub effect: String,
    /// The same as a sentence.
    pub sentence: String,
}

/// What somebody may do at a place, and why.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The sign-in name.
    pub account: String,
    /// The name to show.
    pub display_name: String,
    /// view, add, edit or manage; none: nothing at all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub level: Option<String>,
    /// The whole as a sentence.
    pub sentence: String,
    /// The grants on the way, from the top down.
    pub reasons: Vec<Reason>,
}

/// Everybody who may do something at a place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// By name.
    pub people: Vec<Why>,
}

/// Whose right is asked for.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct WhyQuery {
    /// The sign-in name; one's own if it is left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
}

/// Something that was given to the caller below the top of a shelf.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GivenPlace {
    /// The file or folder.
    pub node: Node,
    /// Where the caller finds it: `given:/NAME`.
    pub path: String,
    /// view, add, edit or manage.
    pub level: String,
    /// Who gave it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Until when.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// The word that goes with it.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub message: String,
    /// The grant, if it is to the caller alone: it can be given back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub grant: Option<i64>,
}
