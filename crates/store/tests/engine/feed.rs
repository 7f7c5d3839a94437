//! The feed: whoever follows it, as seldom and in as small pages as they like, ends with the true listing.

use crate::support::{Attic, name};
use std::collections::HashMap;
use yellow_attic_core::conditions::Conditions;
use yellow_attic_core::{Moment, NodeId};
use yellow_attic_store::timeline::changes::Change;
use yellow_attic_store::{NewShelf, Place, Row, ShelfKind};
use yellow_attic_trials::numbers;

type Known = HashMap<NodeId, (Option<NodeId>, String, Option<i64>)>;

fn enter(row: &Row, known: &mut Known) {
    if row.parent.is_none() {
        return;
    }
    known.insert(row.node, (row.parent, row.name().to_string(), row.content.as_ref().map(|c| c.size)));
}

async fn expand(attic: &Attic, folder: NodeId, known: &mut Known) {
    let mut waiting = vec![folder];
    while let Some(folder) = waiting.pop() {
        // Gone again meanwhile: a later change tells it.
        let page =
            attic.engine.files().list(&attic.ines, folder, Default::default(), false, 1000, None).await;
        for entry in page.map(|page| page.items).unwrap_or_default() {
            if entry.row.is_folder() {
                waiting.push(entry.row.node);
            }
            enter(&entry.row, known);
        }
    }
}

/// Takes all that came after `upto` up to `head`, or up to where the page of one shelf ends.
async fn follow(attic: &Attic, upto: Moment, head: Moment, known: &mut Known) -> Moment {
    let mut head = head;
    let mut told: Vec<Change> = Vec::new();
    let shelves = attic.engine.files().shelves_in_sight(&attic.ines).await.unwrap();
    let mut k = 0;
    while k < shelves.len() {
        let (found, reached, _) =
            attic.engine.files().changes_until(&attic.ines, &shelves[k], upto, head, 2).await.unwrap();
        k += 1;
        told.extend(found);
        if reached < head {
            (head, k) = (reached, 0);
            told.clear();
        }
    }
    told.sort_by_key(Change::order);
    for change in told {
        assert!(change.moment() > upto && change.moment() <= head);
        match change {
            Change::Changed(row) => enter(&row, known),
            Change::Arrived(row) => {
                enter(&row, known);
                expand(attic, row.node, known).await;
            }
            Change::Removed(past) | Change::Left(past) | Change::OutOfSight(past) => {
                known.remove(&past.row.node);
            }
        }
    }
    head
}

/// What is beneath something removed is gone with it, though only that was told.
fn alive(known: &Known, roots: &[NodeId]) -> Known {
    let reached = |mut at: NodeId| {
        for _ in 0..100 {
            if roots.contains(&at) {
                return true;
            }
            match known.get(&at).and_then(|(parent, _, _)| *parent) {
                Some(parent) => at = parent,
                None => return false,
            }
        }
        false
    };
    known.iter().filter(|(id, _)| reached(**id)).map(|(id, k)| (*id, k.clone())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_follows_behind_in_small_pages_over_several_shelves_ends_with_the_true_listing() {
    let mut most = 0;
    for seed in 0..12 {
        let attic = Attic::new().await;
        let shelf = NewShelf {
            kind: ShelfKind::Shared,
            name: name("Logbooks"),
            owner: attic.ines.account,
            grants: vec![],
        };
        let shelf = attic.engine.space().make_shelf(&attic.ines, shelf).await.unwrap();
        let roots = [attic.home, shelf.root];
        let mut next = numbers(seed);
        let (mut known, mut upto) = (Known::new(), Moment(0));
        let mut folders = roots.to_vec();
        let mut all: Vec<NodeId> = Vec::new();
        for _ in 0..120 {
            let parent = folders[next(folders.len() as u64) as usize];
            let wanted = name(&format!("n{}", next(12)));
            let some = (!all.is_empty()).then(|| all[next(all.len() as u64) as usize]);
            let free = Conditions::default();
            match (next(9), some) {
                (0 | 6, _) => {
                    if let Ok(made) = attic.engine.files().make_folder(&attic.ines, parent, wanted).await {
                        folders.push(made.row.as_ref().unwrap().node);
                        all.push(made.row.unwrap().node);
                    }
                }
                (1 | 7, _) => {
                    let staged = attic.engine.stage_small(vec![b'x'; next(50) as usize]).unwrap();
                    let now = attic.engine.now_ms();
                    if let Ok(made) =
                        attic.engine.files().put(&attic.ines, parent, wanted, staged, now, free).await
                    {
                        all.push(made.row.unwrap().node);
                    }
                }
                (2 | 3, Some(node)) => {
                    let _ =
                        attic.engine.files().move_node(&attic.ines, node, parent, wanted, false, free).await;
                    let _ = attic.engine.run_jobs().await;
                }
                (4, Some(node)) => {
                    let _ = attic.engine.files().remove(&attic.ines, node, free).await;
                }
                (5 | 8, Some(node)) => {
                    let _ = attic.engine.history().restore(&attic.ines, node, None, Place::Last).await;
                }
                _ => {}
            }
            if next(3) == 0 {
                // It reads up to a number behind the last one: more happened before it came to read.
                let head = attic.engine.history().now_moment().await.unwrap();
                let behind = Moment(upto.0 + next((head.0 - upto.0) as u64 + 1) as i64);
                upto = follow(&attic, upto, behind, &mut known).await;
            }
        }
        let head = attic.engine.history().now_moment().await.unwrap();
        while upto < head {
            upto = follow(&attic, upto, head, &mut known).await;
        }
        let mut truth = Known::new();
        for root in roots {
            expand(&attic, root, &mut truth).await;
        }
        most = most.max(truth.len());
        assert_eq!(alive(&known, &roots), truth, "seed {seed}");
    }
    assert!(most > 15, "{most}");
}
