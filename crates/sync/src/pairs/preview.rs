//! What joining two folders for the first time would do.

use super::run::{AT_ONCE, Running, Stopped};
use super::status::Left;
use yellow_attic_core::merge::TOP;
use yellow_attic_core::merge::plan::Does;

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
    /// Left out, each with its reason.
    pub left: Vec<Left>,
}

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
            Preview { twice, left: self.left.into_values().flatten().collect(), ..Preview::default() };
        for (_, facets) in self.pair.items().filter(|(item, _)| *item != TOP) {
            let count = match (&facets.here, &facets.there) {
                (Some(_), Some(_)) => &mut preview.same,
                (Some(_), None) => &mut preview.send,
                _ => &mut preview.fetch,
            };
            let here = facets.here.as_ref().and_then(|here| here.stat).map(|stat| stat.size);
            let there = facets.there.as_ref().and_then(|there| there.bytes).map(|(_, size)| size);
            if let Some(size) = here.or(there) {
                count.files += 1;
                count.bytes += size;
            }
        }
        Ok(preview)
    }
}
