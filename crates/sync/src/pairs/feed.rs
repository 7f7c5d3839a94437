//! What the service tells: a tree at one moment, and changes since.

use futures_util::StreamExt;
use yellow_attic_client::{Client, Error, api};
use yellow_attic_core::merge::observe::{Change, Node, Rollback};
use yellow_attic_core::{Moment, NodeId};

/// Changes asked for at once.
const PAGE: usize = 1000;

/// Why the service's changes cannot be gone on with.
#[derive(Debug)]
pub enum FeedError {
    /// The service, or the line to it.
    Service(Error),
    /// Ids and moments mean other things by now: both sides are compared anew.
    OtherTimeline,
    /// Not all that went is known any more: the tree is read anew.
    Forgotten,
}

impl From<Error> for FeedError {
    fn from(error: Error) -> FeedError {
        match error.code() {
            Some("other_timeline") => FeedError::OtherTimeline,
            Some("forgotten" | "moment_malformed" | "no_such_moment") => FeedError::Forgotten,
            _ => FeedError::Service(error),
        }
    }
}

/// All that is beneath a folder at one moment.
pub struct Tree {
    /// What names the timeline.
    pub timeline: String,
    /// The moment.
    pub moment: Moment,
    /// What is there.
    pub nodes: Vec<Node>,
}

/// Changes since a moment.
pub struct Changes {
    /// Oldest first.
    pub changes: Vec<Change>,
    /// Rollbacks that changed something since.
    pub rollbacks: Vec<Rollback>,
    /// Up to here.
    pub upto: Moment,
    /// Whether there are more.
    pub more: bool,
}

fn strange(what: &str) -> Error {
    Error::Strange(format!("the service's answer has {what}"))
}

/// What a node is, as a pair knows it.
pub fn node(told: &api::Node) -> Result<Node, Error> {
    let moment = Moment::from_token(&told.moment).ok_or_else(|| strange("no moment"))?;
    let bytes = match told.kind {
        api::Kind::Folder => None,
        api::Kind::File => {
            let hash = told.blake3.as_deref().and_then(|text| blake3::Hash::from_hex(text).ok());
            Some((*hash.ok_or_else(|| strange("no hash"))?.as_bytes(), told.size.max(0) as u64))
        }
    };
    // A name that could not be here is never taken: whoever sends it wants out of the folder.
    let name = yellow_attic_core::Name::new(&told.name).map_err(|_| strange("a name that cannot be"))?;
    Ok(Node {
        node: NodeId(told.id),
        parent: NodeId(told.parent.unwrap_or(0)),
        name: name.as_str().to_string(),
        bytes,
        executable: told.executable,
        modified: crate::pairs::read_time(&told.modified).unwrap_or(0),
        moment,
    })
}

/// Reads a tree. Only a whole one counts.
pub async fn tree(client: &Client, top: i64) -> Result<Tree, Error> {
    let lines = client.tree(top, None).await?;
    let mut lines = std::pin::pin!(lines);
    let mut tree: Option<Tree> = None;
    while let Some(line) = lines.next().await {
        match (line?, &mut tree) {
            (api::TreeLine::Begin { timeline, moment, .. }, None) => {
                let moment = Moment::from_token(&moment).ok_or_else(|| strange("no moment"))?;
                tree = Some(Tree { timeline, moment, nodes: Vec::new() });
            }
            (api::TreeLine::Entry { node: told }, Some(tree)) => tree.nodes.push(node(&told)?),
            (api::TreeLine::End { count, .. }, Some(tree)) if count == tree.nodes.len() as u64 => {
                return Ok(Tree {
                    nodes: std::mem::take(&mut tree.nodes),
                    timeline: tree.timeline.clone(),
                    ..*tree
                });
            }
            _ => return Err(strange("a line out of its order")),
        }
    }
    Err(Error::Line("the tree ended before its last line".into()))
}

/// Reads the next changes on a shelf.
pub async fn changes(
    client: &Client,
    shelf: i64,
    since: Moment,
    timeline: &str,
) -> Result<Changes, FeedError> {
    let query = api::ChangesQuery {
        since: Some(since.token()),
        timeline: Some(timeline.to_string()),
        limit: Some(PAGE),
    };
    let told = client.changes(shelf, &query).await?;
    let mut changes = Vec::with_capacity(told.changes.len());
    for change in &told.changes {
        let moment = Moment::from_token(&change.moment).ok_or_else(|| strange("no moment"))?;
        let id = NodeId(change.node.id);
        changes.push(match change.what.as_str() {
            "changed" | "arrived" => Change::Is(node(&change.node)?),
            "removed" | "left" => Change::Gone(id, moment),
            "out_of_sight" => Change::OutOfSight(id, moment),
            other => return Err(strange(&format!("a change that is {other}")).into()),
        });
    }
    let moment = |token: &str| Moment::from_token(token).ok_or_else(|| strange("no moment"));
    let mut rollbacks = Vec::with_capacity(told.rollbacks.len());
    for one in &told.rollbacks {
        let until = one.until.as_deref().map(moment).transpose()?;
        rollbacks.push(Rollback { node: NodeId(one.node), begun: moment(&one.begun)?, until });
    }
    Ok(Changes { changes, rollbacks, upto: moment(&told.upto)?, more: told.more })
}
