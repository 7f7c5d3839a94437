//! Events: a listener under random changes ends with exactly the true listing, whatever breaks.

use crate::support::{PASSWORD, PATIENCE, Service};
use futures_util::StreamExt;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use yellow_attic_client::{Client, api};
use yellow_attic_trials::line::Line;
use yellow_attic_trials::numbers;

/// Nodes by id: their folder, name and size.
type Known = HashMap<i64, (i64, String, i64)>;

/// Follows events and keeps what is in every folder, as a page would.
struct Listener {
    nodes: Arc<Mutex<Known>>,
    upto: Arc<Mutex<String>>,
    /// Each piece as it came, to be printed when it ends with something else.
    heard: Arc<Mutex<Vec<String>>>,
    following: tokio::task::JoinHandle<()>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.following.abort();
    }
}

async fn expand(client: &Client, folder: i64, nodes: &Mutex<Known>) {
    let mut waiting = vec![folder];
    while let Some(folder) = waiting.pop() {
        for node in client.all_entries(folder, &Default::default()).await.unwrap_or_default() {
            if node.kind == api::Kind::Folder {
                waiting.push(node.id);
            }
            enter(&node, nodes);
        }
    }
}

fn enter(node: &api::Node, nodes: &Mutex<Known>) {
    let size = if node.kind == api::Kind::Folder { 0 } else { node.size };
    nodes.lock().unwrap().insert(node.id, (node.parent.unwrap_or(0), node.name.clone(), size));
}

impl Listener {
    fn start(client: Client, address: &str, token: &str) -> Listener {
        let (nodes, upto) = (Arc::new(Mutex::new(HashMap::new())), Arc::new(Mutex::new(String::new())));
        let (address, token) = (format!("{address}/api/v1/events"), token.to_string());
        let (its_nodes, its_upto) = (nodes.clone(), upto.clone());
        let heard = Arc::new(Mutex::new(Vec::new()));
        let its_heard = heard.clone();
        let following = tokio::spawn(async move {
            loop {
                let last = its_upto.lock().unwrap().clone();
                let mut call = reqwest::Client::new().get(&address).bearer_auth(&token);
                if !last.is_empty() {
                    its_heard.lock().unwrap().push(format!("again after {last}"));
                    call = call.header("last-event-id", last);
                }
                if let Ok(answer) = call.send().await {
                    let mut pieces = answer.bytes_stream();
                    let mut text = String::new();
                    while let Some(Ok(piece)) = pieces.next().await {
                        text.push_str(&String::from_utf8_lossy(&piece));
                        while let Some((event, rest)) =
                            text.split_once("\n\n").map(|(a, b)| (a.to_string(), b.to_string()))
                        {
                            text = rest;
                            its_heard.lock().unwrap().push(event.clone());
                            take(&client, &event, &its_nodes, &its_upto).await;
                        }
                    }
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        });
        Listener { nodes, upto, heard, following }
    }
}

async fn take(client: &Client, event: &str, nodes: &Mutex<Known>, upto: &Mutex<String>) {
    let field = |name: &str| event.lines().find_map(|l| l.strip_prefix(name)).map(str::to_string);
    if field("event: ").as_deref() == Some("change") {
        let data: serde_json::Value = serde_json::from_str(&field("data: ").unwrap()).unwrap();
        let change: api::Change = serde_json::from_value(data["change"].clone()).unwrap();
        match change.what.as_str() {
            "removed" | "left" | "out_of_sight" => {
                nodes.lock().unwrap().remove(&change.node.id);
            }
            what => {
                enter(&change.node, nodes);
                if what == "arrived" {
                    expand(client, change.node.id, nodes).await;
                }
            }
        }
    }
    if let Some(id) = field("id: ") {
        *upto.lock().unwrap() = id;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn under_random_changes_and_breaks_a_listener_ends_with_exactly_the_true_listing() {
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "listener".into(),
        ..Default::default()
    };
    let token = client.connect(&asked).await.unwrap().token;
    let line = Line::to(&service.address, || None);
    let listener = Listener::start(client.clone(), &line.address, &token);
    while listener.upto.lock().unwrap().is_empty() {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let mut next = numbers(41);
    let mut folders = vec![home];
    let mut all: Vec<i64> = Vec::new();
    for step in 0..400 {
        let parent = folders[next(folders.len() as u64) as usize];
        let name = format!("n{}", next(40));
        match next(8) {
            0 | 1 => {
                if let Ok(made) = client.make_folder(parent, &name).await {
                    folders.push(made.id);
                    all.push(made.id);
                }
            }
            2..=4 => {
                let body = vec![b'x'; next(100) as usize];
                if let Ok(made) = client.put(parent, &name, None, &Default::default(), body.into()).await {
                    all.push(made.id);
                }
            }
            5 if !all.is_empty() => {
                let node = all[next(all.len() as u64) as usize];
                let target = api::Target { parent: Some(parent), name: Some(name), ..Default::default() };
                let _ = client.change(node, &target).await;
            }
            6 if !all.is_empty() => {
                let _ = client.remove(all[next(all.len() as u64) as usize]).await;
            }
            7 if !all.is_empty() => {
                let _ = client.restore(all[next(all.len() as u64) as usize], &Default::default()).await;
            }
            _ => {}
        }
        if step % 60 == 59 {
            line.cut_all();
        }
    }
    let truth = Mutex::new(HashMap::new());
    expand(&client, home, &truth).await;
    let truth = truth.into_inner().unwrap();
    assert!(truth.len() > 10, "{}", truth.len());
    // What is beneath something removed is gone with it, though only that was told.
    let seen = || {
        let nodes = listener.nodes.lock().unwrap();
        let alive = |id: i64| {
            let mut at = id;
            for _ in 0..300 {
                if at == home {
                    return true;
                }
                match nodes.get(&at) {
                    Some((parent, _, _)) => at = *parent,
                    None => return false,
                }
            }
            false
        };
        nodes.iter().filter(|(id, _)| alive(**id)).map(|(id, n)| (*id, n.clone())).collect::<HashMap<_, _>>()
    };
    let begun = Instant::now();
    while seen() != truth && begun.elapsed() < PATIENCE {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    if seen() != truth {
        let heard = listener.heard.lock().unwrap();
        panic!("{:?}\nand not\n{truth:?}\nafter\n{}", seen(), heard.join("\n"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listener_hears_nothing_of_others_and_ends_with_its_sign_in() {
    let (service, client) = Service::ready().await;
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "listener".into(),
        ..Default::default()
    };
    let other = Client::new(&service.address, Some(&client.connect(&asked).await.unwrap().token)).unwrap();
    let token = client.connect(&asked).await.unwrap().token;
    let call = |last: Option<&str>| {
        let call =
            reqwest::Client::new().get(format!("{}/api/v1/events", service.address)).bearer_auth(&token);
        match last {
            Some(id) => call.header("last-event-id", id),
            None => call,
        }
    };
    let refused = call(Some("yesterday")).send().await.unwrap();
    assert_eq!(refused.status(), 400);
    let mut events = call(None).send().await.unwrap().bytes_stream();
    let first = events.next().await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&first).contains("event: ready"));
    let home = other.place("home:/", None).await.unwrap().node.id;
    other.make_folder(home, "Seen at once").await.unwrap();
    let change = events.next().await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&change).contains("Seen at once"));
    // Locks are no changes, and are told as well; what one may not see is not.
    let node = other.make_folder(home, "Locked").await.unwrap().id;
    let told = events.next().await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&told).contains("event: change"));
    other.lock(node, 60).await.unwrap();
    let wanted = format!("event: locks\ndata: {{\"nodes\":[{node}]}}");
    let told = events.next().await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&told).contains(&wanted), "{}", String::from_utf8_lossy(&told));
    other.unlock(node).await.unwrap();
    let told = events.next().await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&told).contains(&wanted), "{}", String::from_utf8_lossy(&told));
    // The listener's own computer is disconnected: the stream ends at once.
    Client::new(&service.address, Some(&token)).unwrap().disconnect().await.unwrap();
    let rest = tokio::time::timeout(PATIENCE, async {
        let mut rest = Vec::new();
        while let Some(Ok(piece)) = events.next().await {
            rest.extend_from_slice(&piece);
        }
        rest
    });
    assert!(String::from_utf8_lossy(&rest.await.unwrap()).contains("event: end"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listener_that_never_reads_holds_nothing_up_and_costs_little() {
    use std::io::Write;
    let (service, client) = Service::ready().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let asked = api::NewDevice {
        sign_in: "ines".into(),
        password: PASSWORD.into(),
        device: "deaf".into(),
        ..Default::default()
    };
    let token = client.connect(&asked).await.unwrap().token;
    let deaf: Vec<_> = (0..20)
        .map(|_| {
            let mut line =
                std::net::TcpStream::connect(service.address.trim_start_matches("http://")).unwrap();
            let ask =
                format!("GET /api/v1/events HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {token}\r\n\r\n");
            line.write_all(ask.as_bytes()).unwrap();
            line
        })
        .collect();
    let memory = || {
        let status = std::fs::read_to_string(format!("/proc/{}/status", service.child.id())).unwrap();
        let line = status.lines().find(|l| l.starts_with("RssAnon")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
    };
    let folder = client.make_folder(home, "Renamed all day").await.unwrap().id;
    let mut before = 0;
    for n in 0..3000 {
        let target = api::Target { name: Some(format!("{n} {}", "x".repeat(200))), ..Default::default() };
        client.change(folder, &target).await.unwrap();
        // What the service needs for the changes themselves is there by now.
        if n == 500 {
            before = memory();
        }
    }
    // 2,500 events to each of 20 would be over 30 MiB.
    let more = memory().saturating_sub(before);
    assert!(more < 16, "{more} MiB more than before");
    drop(deaf);
}
