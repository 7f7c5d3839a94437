//! What joining two folders for the first time would do.

use super::run::{AT_ONCE, Running, Stopped};
use super::status::Left;
use super::tell::left_out;
use yellow_attic_core::merge::plan::Does;
use yellow_attic_core::merge::{Facets, Pair, TOP};

/// What joining both for the first time would do.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct Preview {
    /// Equal on both sides: matched, and not carried over.
    pub same: Count,
    /// To be sent to the service.
    pub send: Count,
    /// To be fetched from it.
    pub fetch: Count,
    /// Different under one name: kept twice. They are counted under what is sent and fetched too.
    pub twice: Vec<String>,
    /// What cannot be carried, each with its reason.
    pub left: Vec<Left>,
    /// What the pair leaves out because it was told to.
    pub out: Out,
}

/// What a pair leaves out.
#[derive(Clone, Debug, Default, serde::Serialize)]
pub struct Out {
    /// Files.
    pub count: Count,
    /// Folders.
    pub folders: u64,
    /// The first of it.
    pub examples: Vec<Left>,
}

impl Out {
    /// What a pair leaves out of what it knows.
    pub fn of(pair: &Pair) -> Out {
        let mut out = Out::default();
        for (item, facets) in pair.items().filter(|(item, _)| *item != TOP) {
            let Some(why) = pair.why_left(item) else { continue };
            match size_of(facets) {
                Some(size) => {
                    out.count.files += 1;
                    out.count.bytes += size;
                }
                None => out.folders += 1,
            }
            // Of a folder that is left out, what is in it is counted, and not named.
            let above = [facets.there.as_ref().map(|t| t.parent), facets.here.as_ref().map(|h| h.parent)];
            if above.into_iter().flatten().any(|above| pair.why_left(above).is_some()) {
                continue;
            }
            if out.examples.len() < EXAMPLES {
                let path = pair.path_here(item).or_else(|| pair.path_there(item)).unwrap_or_default();
                out.examples.push(Left { path: path.join("/"), why: left_out(&why) });
            }
        }
        out
    }
}

/// How many bytes a file has, here or else there.
fn size_of(facets: &Facets) -> Option<u64> {
    let here = facets.here.as_ref().and_then(|here| here.stat).map(|stat| stat.size);
    here.or_else(|| facets.there.as_ref()?.bytes.map(|(_, size)| size))
}

/// So many are named.
const EXAMPLES: usize = 100;

/// Files and their bytes.
#[derive(Clone, Copy, Debug, Default, serde::Serialize)]
pub struct Count {
    /// How many.
    pub files: u64,
    /// In bytes.
    pub bytes: u64,
}

impl Running {
    /// What joining both for the first time would do: nothing is done but reading.
    pub async fn preview(mut self) -> Result<Preview, Stopped> {
        let mut twice = Vec::new();
        let mut quiet = 0;
        while quiet < 3 {
            self.stirred_at = None;
            self.look_here().await?;
            if !self.hear().await {
                return Err(Stopped::Asks(
                    self.trouble.map_or("the service does not answer".into(), |t| t.words()),
                ));
            }
            self.settle();
            let actions = self.pair.next(AT_ONCE, "preview");
            quiet = if actions.is_empty() { quiet + 1 } else { 0 };
            for action in actions {
                if let Does::MoveHere { follows: false, .. } | Does::SetAside(..) = &action.does {
                    twice.push(self.path_of(action.item));
                }
                if matches!(action.does, Does::ReadHash(_)) {
                    let task = self.task(action);
                    let came = self.hands.carry_out(&task).await;
                    self.came(&task.action, came);
                }
            }
        }
        let mut preview =
            Preview { twice, left: self.left.values().flatten().cloned().collect(), ..Preview::default() };
        for (item, facets) in self.pair.items().filter(|(item, _)| *item != TOP) {
            if self.pair.why_left(item).is_some() {
                continue;
            }
            let count = match (&facets.here, &facets.there) {
                (Some(_), Some(_)) => &mut preview.same,
                (Some(_), None) => &mut preview.send,
                _ => &mut preview.fetch,
            };
            if let Some(size) = size_of(facets) {
                count.files += 1;
                count.bytes += size;
            }
        }
        preview.out = Out::of(&self.pair);
        Ok(preview)
    }
}
