//! Moving, one thing or many.

use crate::Node;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Where to move or copy, and under which name.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Target {
    /// The folder; the present one if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parent: Option<i64>,
    /// The name; the present one if it is not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Whether a file of that name may be replaced (moving only).
    pub replace: bool,
    /// Which file that is, by its id, and the last moment that is known of it: nothing else is replaced. Needed where
    /// the header `Thing` or `Seen` says which thing is moved.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub onto: Option<Onto>,
    /// The file's own time of modification (RFC 3339), changed without new bytes (moving only). It makes no state, and is
    /// in nobody's way: no condition is asked for it alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub modified: Option<String>,
    /// Whether the file is a program, changed without new bytes (moving only).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub executable: Option<bool>,
}

/// The file that a move replaces.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Onto {
    /// Its id.
    pub node: i64,
    /// The last moment that is known of it.
    pub seen: String,
}

/// Many moves as one change.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Moves {
    /// At most 1,000. A name that one of them leaves is free for another: they may go round in circles.
    pub moves: Vec<OneMove>,
}

/// One of many moves.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OneMove {
    /// What is moved.
    pub node: i64,
    /// The folder; the present one if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<i64>,
    /// The name; the present one if it is not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The last moment that is known of it: all is refused if something happened to it since.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
}

/// What was moved, in the order in which it was asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MovedTogether {
    /// As each is since then.
    pub nodes: Vec<Node>,
}
