//! The hourly look at the rules: what it lets go is what a look over all would.

use crate::keeping::rules;
use crate::support::Attic;
use yellow_attic_core::rules::{Rule, Rules};
use yellow_attic_store::Place;
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::timeline::retention::Reach;

const HOUR: i64 = 3_600_000;

/// Numbers that a seed stands for.
struct Chance(blake3::OutputReader);

impl Chance {
    fn of(seed: u64) -> Chance {
        Chance(blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof())
    }

    fn below(&mut self, n: u64) -> u64 {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        u64::from_le_bytes(bytes) % n
    }
}

/// Somebody works for a moment.
async fn work(attic: &Attic, chance: &mut Chance, n: usize) {
    let shelf = attic.engine.home_of(attic.ines.account.unwrap()).unwrap();
    let history = attic.engine.history();
    let path = format!("{}/{}", ["a", "b", "c"][chance.below(3) as usize], chance.below(4));
    let folder = path.split('/').next().unwrap().to_string();
    match chance.below(12) {
        0 => {
            let removed = attic.engine.history().trash(&attic.ines, attic.home, None, 50).await.unwrap();
            if let Some(one) = removed.items.first() {
                let _ = history.restore(&attic.ines, one.past.row.node, None, Place::Last).await;
            }
        }
        1 if attic.find(&folder).await.is_ok() => drop(attic.rm(&folder).await),
        2 | 3 if attic.find(&path).await.is_ok() => drop(attic.rm(&path).await),
        4 if attic.find(&path).await.is_ok() => drop(attic.mv_if(&path, &format!("{path} moved")).await),
        5 => {
            let ends =
                (chance.below(2) == 0).then(|| attic.engine.kept_ms() + chance.below(60) as i64 * HOUR + 1);
            history.take_snapshot(&attic.ines, &shelf, &format!("number {n}"), ends).await.unwrap();
        }
        6 => {
            let all = history.snapshots(&attic.ines, &shelf).await.unwrap();
            if let Some(last) = all.last() {
                history.end_snapshot(&attic.ines, last.id).await.unwrap();
            }
        }
        _ => {
            if attic.find(&folder).await.is_err() {
                attic.mkdir(&folder).await;
            }
            attic.put(&path, format!("state {n}").as_bytes()).await;
        }
    }
    attic.engine.run_jobs().await.unwrap();
    attic.engine.settle().await.unwrap();
}

/// What would still go if all were looked at.
async fn left(attic: &Attic, rules: &Rules) -> u64 {
    attic.engine.history().plan_purge(rules, &Reach::All).await.unwrap().total().states
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_due_goes_as_if_all_were_looked_at() {
    let ways = [
        rules(&[(Rule::Versions, "last 1, hourly for 2 days, daily for 5 days"), (Rule::TrashDays, "3")]),
        rules(&[(Rule::Versions, "everything for 20 hours, weekly for 8 days"), (Rule::EraseDays, "9")]),
        rules(&[(Rule::Versions, "last 2"), (Rule::TrashDays, "1"), (Rule::EraseDays, "4")]),
    ];
    for seed in [0, 1, 2, 3, 59, 77] {
        let attic = Attic::new().await;
        let mut chance = Chance::of(seed);
        let mut way = chance.below(3) as usize;
        let (mut went, mut hours) = (0, 0);
        for n in 0..70 {
            for _ in 0..chance.below(5) {
                work(&attic, &mut chance, n).await;
            }
            if chance.below(25) == 0 {
                way = chance.below(3) as usize;
            }
            attic.clock.advance(chance.below(9) as i64 * HOUR + chance.below(1000) as i64);
            attic.engine.run_jobs().await.unwrap();
            let history = attic.engine.history();
            let all = history.plan_purge(&ways[way], &Reach::All).await.unwrap();
            let due = history.plan_change(&ways[way]).await.unwrap();
            let what = format!("seed {seed}, hour {n}, rules {way}: {:?} {:?}", all.sums, due.sums);
            assert_eq!((due.total(), &due.token), (all.total(), &all.token), "{what}");
            let would = all.total().states;
            let gone = history.let_go_due(&ways[way], &Progress::default()).await.unwrap();
            attic.engine.settle().await.unwrap();
            assert_eq!(gone.states, would, "{what}");
            assert_eq!(left(&attic, &ways[way]).await, 0, "{what}");
            went += u64::from(would > 0);
            hours += 1;
        }
        assert!(went > 10 && went < hours, "{went}");
        attic.engine.stop().await;
        let found = yellow_attic_store::timeline::space::recount(&attic.data()).await.unwrap();
        assert!(found.agrees(), "{found:#?}");
    }
}
