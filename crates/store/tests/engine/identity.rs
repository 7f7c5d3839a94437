//! However a program saves, the document stays itself (rule 4).

use crate::support::Attic;
use yellow_attic_core::NodeId;

async fn node(attic: &Attic, path: &str) -> NodeId {
    attic.find(path).await.unwrap().node
}

/// The texts of a node's history, newest first.
async fn texts(attic: &Attic, node: NodeId) -> Vec<String> {
    let mut found = Vec::new();
    for state in attic.engine.history().states(&attic.ines, node, 100).await.unwrap() {
        found.push(String::from_utf8(attic.bytes_of(&state.row).await).unwrap());
    }
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn moving_aside_and_renaming_onto_keeps_history_on_the_document() {
    let attic = Attic::new().await;
    let laptop = attic.device(1);
    attic.put_as(&laptop, "doc", b"old").await.unwrap();
    let doc = node(&attic, "doc").await;
    attic.clock.advance(3_600_000);
    attic.put_as(&laptop, "tmp", b"new").await.unwrap();
    attic.mv_as(&laptop, "doc", "doc~", false).await.unwrap();
    attic.mv_as(&laptop, "tmp", "doc", false).await.unwrap();
    assert_eq!(node(&attic, "doc").await, doc);
    assert_eq!(attic.cat("doc~").await, b"old");
    attic.rm("doc~").await;
    assert_eq!(node(&attic, "doc").await, doc);
    assert_eq!(attic.cat("doc").await, b"new");
    assert_eq!(texts(&attic, doc).await, ["new", "old", "old"]);
    attic.engine.settle().await.unwrap();
    assert_eq!(attic.cat("doc").await, b"new");
    let attic = attic.reopen().await;
    assert_eq!(texts(&attic, doc).await, ["new", "old", "old"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn moving_aside_and_writing_anew_keeps_history_on_the_document() {
    let attic = Attic::new().await;
    let laptop = attic.device(1);
    attic.put_as(&laptop, "doc", b"old").await.unwrap();
    let doc = node(&attic, "doc").await;
    attic.mv_as(&laptop, "doc", "doc~", false).await.unwrap();
    attic.put_as(&laptop, "doc", b"new").await.unwrap();
    assert_eq!(node(&attic, "doc").await, doc);
    assert_ne!(node(&attic, "doc~").await, doc);
    assert_eq!(attic.cat("doc~").await, b"old");
}

#[tokio::test(flavor = "multi_thread")]
async fn removing_and_writing_anew_keeps_history_on_the_document() {
    let attic = Attic::new().await;
    let laptop = attic.device(1);
    attic.put_as(&laptop, "doc", b"old").await.unwrap();
    let doc = node(&attic, "doc").await;
    attic.engine.files().remove(&laptop, doc, Default::default()).await.unwrap();
    attic.put_as(&laptop, "doc", b"new").await.unwrap();
    assert_eq!(node(&attic, "doc").await, doc);
    assert_eq!(texts(&attic, doc).await, ["new", "old"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn renaming_onto_a_file_gives_that_file_a_new_state() {
    let attic = Attic::new().await;
    attic.put("doc", b"old").await;
    let doc = node(&attic, "doc").await;
    attic.put("tmp", b"new").await;
    attic.mv_as(&attic.ines, "tmp", "doc", true).await.unwrap();
    assert_eq!(attic.ls("").await, ["doc"]);
    assert_eq!(node(&attic, "doc").await, doc);
    assert_eq!(texts(&attic, doc).await, ["new", "old"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn another_device_a_later_minute_or_another_folder_makes_a_new_file() {
    let attic = Attic::new().await;
    let (laptop, desk) = (attic.device(1), attic.device(2));
    attic.mkdir("archive").await;
    for (name, who, wait, to) in
        [("a", &desk, 0, "a~"), ("b", &laptop, 61_000, "b~"), ("c", &laptop, 0, "archive/c")]
    {
        attic.put_as(&laptop, name, b"old").await.unwrap();
        let old = node(&attic, name).await;
        attic.mv_as(&laptop, name, to, false).await.unwrap();
        attic.clock.advance(wait);
        attic.put_as(who, name, b"new").await.unwrap();
        assert_ne!(node(&attic, name).await, old, "{name}");
        assert_eq!(node(&attic, to).await, old, "{name}");
    }
}
