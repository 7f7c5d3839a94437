//! Small contents of the past go into packs, and come back out of them.

use crate::keeping::packed;
use crate::support::{Attic, StopAfter, as_after_a_crash, name, on_disk, options};
use std::sync::Arc;
use yellow_attic_store::fs::fault_points::{AllSteps, Steps};
use yellow_attic_store::{ContentState, Engine, Options, StoreError};

/// Opens a store anew, and has what is small and past go into packs at once.
async fn gathered_by(
    attic: &Attic,
    data: &std::path::Path,
    steps: Arc<dyn Steps>,
) -> Result<Engine, StoreError> {
    let options = Options { gather_after_ms: 0, ..options(data, &attic.clock, steps) };
    let engine = Engine::open(options).await?;
    while engine.is_packing() {
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
    Ok(engine)
}

async fn gathered(attic: Attic) -> Attic {
    attic.engine.stop().await;
    let engine = gathered_by(&attic, &attic.data(), Arc::new(AllSteps)).await.unwrap();
    Attic { engine, ..attic }
}

#[tokio::test(flavor = "multi_thread")]
async fn small_past_states_go_into_packs_and_come_back_out_of_them() {
    let attic = Attic::new().await;
    let text = |n: usize, state: usize| {
        format!("report {n}, state {state}\n{}", "all as before\n".repeat(n * 7)).into_bytes()
    };
    for state in 0..4 {
        for n in 0..40 {
            attic.put(&format!("r{n}"), &text(n, state)).await;
        }
    }
    attic.put("left", b"alone").await;
    attic.rm("left").await;
    packed(&attic).await;
    let files = |attic: &Attic| {
        let past = on_disk(&attic.data().join("past"));
        let (packs, wholes): (Vec<String>, Vec<String>) =
            past.into_keys().partition(|name| name.starts_with("packs/"));
        (packs.len(), wholes.len())
    };
    assert_eq!(files(&attic), (0, 121), "the first day they stay as they are");
    let attic = gathered(attic).await;
    let (packs, wholes) = files(&attic);
    assert_eq!((packs, wholes), (1, 0));
    let all = async |attic: &Attic, which: &dyn Fn(usize, usize) -> bool| {
        for n in 0..40 {
            let node = attic.find(&format!("r{n}")).await.unwrap().node;
            let states = attic.engine.history().states(&attic.ines, node, 100).await.unwrap();
            let mut found = Vec::new();
            for entry in &states {
                if entry.row.content.is_some_and(|c| c.life != ContentState::Gone) {
                    found.push(attic.bytes_of(&entry.row).await);
                }
            }
            for state in (0..4).filter(|state| which(n, *state)) {
                assert!(found.contains(&text(n, state)), "r{n}, state {state}");
            }
        }
    };
    all(&attic, &|_, _| true).await;
    // What comes to the past again with the same bytes is dropped in favour of what is packed.
    attic.put("r3", &text(3, 0)).await;
    attic.put("r3", b"another").await;
    packed(&attic).await;
    for n in 50..90 {
        attic.put(&format!("r{n}"), &text(n, 0)).await;
        attic.put(&format!("r{n}"), &text(n, 1)).await;
    }
    let attic = gathered(attic).await;
    assert_eq!(files(&attic).1, 0);
    all(&attic, &|_, _| true).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn stopped_between_any_two_steps_of_gathering_no_small_state_is_lost() {
    let attic = Attic::new().await;
    for n in 0..36u8 {
        attic.put(&format!("f{n}"), &[n; 300]).await;
        attic.put(&format!("f{n}"), b"now").await;
    }
    packed(&attic).await;
    let mut ended = false;
    for steps in (0..90).step_by(2) {
        let crash = as_after_a_crash(&attic.data());
        let data = crash.path().join("data");
        if let Ok(engine) = gathered_by(&attic, &data, Arc::new(StopAfter(steps.into()))).await {
            engine.stop().await;
        }
        let again = as_after_a_crash(&data);
        let engine = gathered_by(&attic, &again.path().join("data"), Arc::new(AllSteps)).await.unwrap();
        for n in 0..36u8 {
            let row = engine.files().resolve(&attic.ines, "home", &[name(&format!("f{n}"))]).await.unwrap();
            let states = engine.history().states(&attic.ines, row.node, 10).await.unwrap();
            let mut found = Vec::new();
            for state in &states {
                let (mut file, _) = engine.files().open_bytes(&state.row).await.unwrap();
                let mut bytes = Vec::new();
                std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
                found.push(bytes);
            }
            assert!(found.contains(&vec![n; 300]), "f{n} after {steps} steps: {found:?}");
        }
        ended |= on_disk(&again.path().join("data/past")).keys().all(|name| name.starts_with("packs/"));
        engine.stop().await;
    }
    assert!(ended, "nothing was ever gathered");
}
