//! What may not be seen answers as if it were not there: over random trees, grants, denials, fresh starts, moves and
//! links, no answer to anybody holds what a slow model says they may not know.
//!
//! Names, sizes, contents, times and authors of the tree are unguessable words, so that each of them, found anywhere in
//! an answer, plain or encoded, was told. 2 trees; more by YATTIC_HIDDEN_ROUNDS.

use crate::support::Service;
use base64::Engine as _;
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use yellow_attic_client::{Client, api};

const WORDS: &str = "gulls over the harbour";

/// Random numbers that a failing run can be repeated with.
struct Dice(blake3::OutputReader);

impl Dice {
    fn new(seed: u64) -> Dice {
        Dice(blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof())
    }

    fn below(&mut self, n: usize) -> usize {
        let mut bytes = [0; 8];
        self.0.fill(&mut bytes);
        (u64::from_le_bytes(bytes) % n as u64) as usize
    }

    fn one<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len())]
    }

    /// A word that nobody guesses, and that sorts anywhere.
    fn word(&mut self) -> String {
        (0..16).map(|_| char::from(b'a' + self.below(26) as u8)).collect()
    }
}

/// What the model knows of a node: where it was, from when on; and where it is.
#[derive(Clone, Default)]
struct Known {
    folder: bool,
    /// The folders that it has been in.
    parents: Vec<i64>,
    removed: bool,
    /// When it was made.
    first: Option<String>,
    /// What would tell of it as it is.
    now: Vec<Secret>,
    /// All that ever did, with the way to it at that time.
    ever: BTreeSet<(Vec<i64>, Secret)>,
}

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Secret {
    /// A name, a hash, an author: found as it is.
    Text(String),
    /// A number, found alone.
    Number(u64),
}

#[derive(Default)]
struct Model {
    root: i64,
    nodes: BTreeMap<i64, Known>,
    /// What is given where: by node, the account's name and what (none: a denial).
    grants: Vec<(i64, String, bool)>,
    afresh: HashSet<i64>,
    /// Computers that see less than their account: whose, and which folders.
    scopes: HashMap<String, (String, Vec<i64>)>,
}

impl Model {
    fn way(&self, node: i64) -> Vec<i64> {
        let mut way = vec![node];
        while let Some(parent) = self.nodes.get(&way[way.len() - 1]).and_then(|k| k.parents.last()) {
            way.push(*parent);
        }
        way.reverse();
        way
    }

    /// Whether an account sees the end of a way by what is given now, walking down from the top.
    fn sees_on(&self, who: &str, way: &[i64]) -> bool {
        if let Some((account, within)) = self.scopes.get(who) {
            return way.iter().any(|n| within.contains(n)) && self.sees_on(account, way);
        }
        let mut sees = false;
        for node in way {
            if self.afresh.contains(node) {
                sees = false;
            }
            let here: Vec<_> = self.grants.iter().filter(|(n, to, _)| n == node && to == who).collect();
            if here.iter().any(|(.., gives)| !gives) {
                return false;
            }
            sees |= !here.is_empty();
        }
        sees
    }

    /// Notes what is true now.
    fn note_all(&mut self) {
        let alive: Vec<i64> = self.nodes.iter().filter(|(_, k)| !k.removed).map(|(n, _)| *n).collect();
        for node in alive {
            let way = self.way(node);
            if let Some(known) = self.nodes.get_mut(&node) {
                let now = known.now.clone();
                known.ever.extend(now.into_iter().map(|s| (way.clone(), s)));
            }
        }
    }

    /// What somebody may not know: all that was true only of places that they do not see.
    fn hidden_from(&self, who: &str) -> (BTreeSet<Secret>, HashSet<i64>) {
        let (mut hidden, mut open) = (BTreeSet::new(), BTreeSet::new());
        let mut ids = HashSet::new();
        for (node, known) in &self.nodes {
            let mut any = false;
            for (way, secret) in &known.ever {
                match self.sees_on(who, way) {
                    true => drop(open.insert(secret.clone())),
                    false => drop(hidden.insert(secret.clone())),
                }
                any |= self.sees_on(who, way);
            }
            if !any && *node != self.root {
                ids.insert(*node);
            }
        }
        (&hidden - &open, ids)
    }
}

struct Story<'s> {
    owner: &'s Client,
    others: &'s [Client],
    dice: Dice,
    model: Model,
}

impl Story<'_> {
    fn folders(&self) -> Vec<i64> {
        self.model.nodes.iter().filter(|(_, k)| k.folder && !k.removed).map(|(n, _)| *n).collect()
    }

    fn alive(&self) -> Vec<i64> {
        self.model
            .nodes
            .iter()
            .filter(|(n, k)| !k.removed && **n != self.model.root)
            .map(|(n, _)| *n)
            .collect()
    }

    fn note(&mut self, node: &api::Node, parent: i64, size: u64) {
        // When it left the place before is true of that place as well.
        if self.model.nodes.contains_key(&node.id) {
            let mut before = self.model.way(node.id);
            let left = Secret::Text(node.changed.clone());
            let ever = &mut self.model.nodes.entry(node.id).or_default().ever;
            ever.insert((before.clone(), left.clone()));
            // And that something in its folder changed then, whatever it was.
            before.pop();
            ever.insert((before, left));
        }
        let known = self.model.nodes.entry(node.id).or_default();
        known.folder = node.kind == api::Kind::Folder;
        if known.parents.last() != Some(&parent) {
            known.parents.push(parent);
        }
        let mut secrets = vec![Secret::Text(node.name.clone()), Secret::Text(node.changed.clone())];
        if !known.folder {
            secrets.push(Secret::Number(size));
            secrets.extend(node.blake3.clone().map(Secret::Text));
        }
        secrets.push(Secret::Text(node.modified.clone()));
        // When something was made first is its own, wherever it goes.
        let first = known.first.get_or_insert_with(|| node.changed.clone()).clone();
        secrets.push(Secret::Text(first));
        known.now = secrets;
        self.model.note_all();
    }

    async fn put(&mut self, parent: i64, name: &str) {
        let size = 100_000 + self.dice.below(800_000);
        let mut bytes = vec![0; size];
        self.dice.0.fill(&mut bytes);
        let by = if self.others.is_empty() { self.owner } else { self.dice.one(self.others) };
        // Those who may not are answered so; the owner may everything.
        let put = match by.put(parent, name, None, &Default::default(), bytes.clone().into()).await {
            Ok(put) => put,
            Err(_) => self.owner.put(parent, name, None, &Default::default(), bytes.into()).await.unwrap(),
        };
        self.note(&put, parent, size as u64);
    }

    async fn step(&mut self) {
        // Each change has a time of its own: one that is hidden is known by it.
        tokio::time::sleep(std::time::Duration::from_millis(2)).await;
        let folders = self.folders();
        let parent = *self.dice.one(&folders);
        let name = self.dice.word();
        match self.dice.below(10) {
            0..=1 => {
                let made = self.owner.make_folder(parent, &name).await.unwrap();
                self.note(&made, parent, 0);
            }
            2..=5 => self.put(parent, &name).await,
            6..=7 => {
                let alive = self.alive();
                if alive.is_empty() {
                    return;
                }
                let node = *self.dice.one(&alive);
                // Not into itself.
                if self.model.way(parent).contains(&node) {
                    return;
                }
                let name = if self.dice.below(2) == 0 { Some(name) } else { None };
                let target = api::Target { parent: Some(parent), name, ..Default::default() };
                if let Ok(moved) = self.owner.change(node, &target).await {
                    self.note(&moved, parent, moved.size as u64);
                }
            }
            8 => {
                let alive = self.alive();
                let files: Vec<i64> = alive.into_iter().filter(|n| !self.model.nodes[n].folder).collect();
                if files.is_empty() {
                    return;
                }
                let node = *self.dice.one(&files);
                self.owner.remove(node).await.unwrap();
                self.model.nodes.get_mut(&node).unwrap().removed = true;
            }
            _ => {
                let alive = self.alive();
                let files: Vec<i64> = alive.into_iter().filter(|n| !self.model.nodes[n].folder).collect();
                if files.is_empty() {
                    return;
                }
                let node = *self.dice.one(&files);
                let facts = self.owner.facts(node).await.unwrap().node;
                let parent = *self.model.nodes[&node].parents.last().unwrap();
                self.put(parent, &facts.name).await;
            }
        }
    }

    async fn bar(&mut self, who: &[&str]) {
        let folders: Vec<i64> = self.folders().into_iter().filter(|n| *n != self.model.root).collect();
        let alive = self.alive();
        let to = self.dice.one(who).to_string();
        let (node, can) = match self.dice.below(4) {
            0 if !folders.is_empty() => {
                let node = *self.dice.one(&folders);
                self.owner.set_afresh(node, true).await.unwrap();
                self.model.afresh.insert(node);
                return;
            }
            1 => (*self.dice.one(&alive), "view"),
            _ => (*self.dice.one(&alive), "deny"),
        };
        let grant = api::NewGrant {
            to: format!("account:{to}"),
            can: can.into(),
            until: None,
            message: String::new(),
        };
        self.owner.give(node, &grant).await.unwrap();
        self.model.grants.retain(|(n, t, _)| *n != node || *t != to);
        self.model.grants.push((node, to, can != "deny"));
    }
}

/// What stands in an answer, as it is and as far as it can be decoded.
fn readings(text: &str) -> Vec<Vec<u8>> {
    let mut all = vec![text.as_bytes().to_vec()];
    all.push(percent(text));
    for word in
        text.split(|c: char| !c.is_ascii_alphanumeric() && !"+/_-=".contains(c)).filter(|w| w.len() >= 16)
    {
        let word = word.trim_end_matches('=');
        if word.len() % 2 == 0 && word.bytes().all(|b| b.is_ascii_hexdigit()) {
            all.extend(
                (0..word.len())
                    .step_by(2)
                    .map(|i| u8::from_str_radix(&word[i..i + 2], 16).ok())
                    .collect::<Option<Vec<u8>>>(),
            );
        }
        all.extend(base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(word).ok());
        all.extend(base64::engine::general_purpose::STANDARD_NO_PAD.decode(word).ok());
    }
    all
}

fn percent(text: &str) -> Vec<u8> {
    let mut out = Vec::new();
    let mut bytes = text.as_bytes().iter().copied();
    while let Some(b) = bytes.next() {
        let rest = bytes.clone().take(2).collect::<Vec<u8>>();
        let code = (b == b'%' && rest.len() >= 2)
            .then(|| std::str::from_utf8(&rest[..2]).ok().and_then(|h| u8::from_str_radix(h, 16).ok()))
            .flatten();
        match code {
            Some(code) => {
                out.push(code);
                bytes.nth(1);
            }
            None => out.push(b),
        }
    }
    out
}

fn holds(bytes: &[u8], secret: &Secret) -> bool {
    match secret {
        Secret::Text(text) => memchr::memmem::find(bytes, text.as_bytes()).is_some(),
        Secret::Number(n) => {
            let text = n.to_string();
            let digit = |b: Option<&u8>| b.is_some_and(u8::is_ascii_digit);
            memchr::memmem::find_iter(bytes, text.as_bytes()).any(|i| {
                !digit(i.checked_sub(1).and_then(|i| bytes.get(i))) && !digit(bytes.get(i + text.len()))
            })
        }
    }
}

/// The ids of files and folders that an answer in JSON names.
fn ids_in(value: &Value, found: &mut HashSet<i64>) {
    match value {
        Value::Object(map) => {
            let is_node = map.contains_key("kind") && map.contains_key("name") && map.contains_key("how");
            for (key, value) in map {
                if (["parent", "node", "from"].contains(&key.as_str()) || is_node && key == "id")
                    && let Some(id) = value.as_i64()
                {
                    found.insert(id);
                }
                ids_in(value, found);
            }
        }
        Value::Array(all) => all.iter().for_each(|v| ids_in(v, found)),
        _ => {}
    }
}

/// A question for what changed since a token.
fn since(token: &str) -> String {
    format!(
        "<D:sync-collection xmlns:D=\"DAV:\"><D:sync-token>{token}</D:sync-token><D:sync-level>infinite</D:sync-level>\
         <D:prop><D:getetag/><D:creator-displayname/></D:prop></D:sync-collection>"
    )
}

struct Asker<'a> {
    http: reqwest::Client,
    address: &'a str,
    name: &'a str,
    token: Option<&'a str>,
    hidden: BTreeSet<Secret>,
    ids: HashSet<i64>,
    told: Vec<String>,
    asked: usize,
}

impl Asker<'_> {
    async fn ask(
        &mut self,
        method: &str,
        path: &str,
        body: Option<(&str, String)>,
        more: &[(&str, &str)],
    ) -> String {
        let verb = Method::from_bytes(method.as_bytes()).unwrap();
        let mut call = self.http.request(verb, format!("{}{path}", self.address));
        if let Some(token) = self.token {
            call = match path.starts_with("/dav") {
                true => call.basic_auth(self.name.split('\'').next().unwrap_or_default(), Some(token)),
                false => call.bearer_auth(token),
            };
        }
        for (name, value) in more {
            call = call.header(*name, *value);
        }
        if let Some((kind, body)) = &body {
            call = call.header("content-type", *kind).body(body.clone());
        }
        let mut answer = call.send().await.unwrap();
        self.asked += 1;
        let mut text: String = answer
            .headers()
            .iter()
            .filter(|(name, _)| !["date"].contains(&name.as_str()))
            .map(|(name, value)| format!("{name}: {}\n", String::from_utf8_lossy(value.as_bytes())))
            .collect();
        let events = path.ends_with("/events");
        let mut bytes = Vec::new();
        loop {
            let piece = match events {
                // It never ends: what has come by now.
                true => {
                    match tokio::time::timeout(std::time::Duration::from_millis(700), answer.chunk()).await {
                        Ok(piece) => piece,
                        Err(_) => break,
                    }
                }
                false => answer.chunk().await,
            };
            match piece {
                Ok(Some(piece)) => bytes.extend_from_slice(&piece),
                _ => break,
            }
        }
        text.push_str(&String::from_utf8_lossy(&bytes));
        let what = body.map(|(_, b)| b).unwrap_or_default();
        for reading in readings(&text) {
            for secret in &self.hidden {
                if holds(&reading, secret) {
                    let reading = String::from_utf8_lossy(&reading);
                    let about = match secret {
                        Secret::Text(word) => reading.find(word.as_str()),
                        Secret::Number(n) => reading.find(&n.to_string()),
                    };
                    let about: String = about.map_or_else(String::new, |at| {
                        reading.chars().skip(at.saturating_sub(200)).take(400).collect()
                    });
                    self.told.push(format!("{method} {path} {what} told {} {secret:?}: {about}", self.name));
                }
            }
        }
        let body = String::from_utf8_lossy(&bytes).into_owned();
        let mut found = HashSet::new();
        for line in body.lines().chain([body.as_str()]) {
            if let Ok(value) = serde_json::from_str::<Value>(line.trim_start_matches("data: ")) {
                ids_in(&value, &mut found);
            }
        }
        let asked_for = |id: &i64| path.contains(&format!("/{id}")) || what.contains(&id.to_string());
        for id in found.iter().filter(|id| self.ids.contains(id) && !asked_for(id)) {
            self.told.push(format!("{method} {path} {what} told {} of node {id}", self.name));
        }
        body
    }

    async fn pages(&mut self, path: &str) {
        let mut cursor = String::new();
        for _ in 0..60 {
            let body = self.ask("GET", &format!("{path}{cursor}"), None, &[]).await;
            let page: Value = serde_json::from_str(&body).unwrap_or_default();
            let items = page["entries"].as_array().or(page["items"].as_array()).map_or(0, Vec::len);
            let Some(next) = page["next"].as_str() else { return };
            // An empty page with a next one counts what is hidden.
            if items == 0 {
                self.told.push(format!("{path}: an empty page before the end, for {}", self.name));
            }
            cursor = format!("&cursor={next}");
        }
    }
}

/// Asks for all there is. Nothing is changed by it: what would be is refused for something else in the end.
async fn everything(asker: &mut Asker<'_>, nodes: &[i64], root: i64, moments: &[String], accounts: &[&str]) {
    let json = |v: Value| Some(("application/json", v.to_string()));
    for moment in moments {
        let states: Vec<Value> = nodes.iter().map(|n| json!({ "node": n, "moment": moment })).collect();
        asker.ask("POST", "/api/v1/states", json(json!({ "states": states })), &[]).await;
    }
    for path in [
        "/api/v1/shelves",
        "/api/v1/recent",
        "/api/v1/space",
        "/api/v1/alarms",
        "/api/v1/given",
        "/api/v1/uploads",
        "/api/v1/devices",
        "/api/v1/people",
        "/api/v1/find?name=a",
    ] {
        asker.ask("GET", path, None, &[]).await;
    }
    for since in moments {
        asker.ask("GET", &format!("/api/v1/shelves/{root}/changes?since={since}"), None, &[]).await;
        asker.ask("GET", "/api/v1/events", None, &[("last-event-id", since)]).await;
    }
    for of in ["snapshots", "rollbacks"] {
        asker.ask("GET", &format!("/api/v1/shelves/{root}/{of}"), None, &[]).await;
    }
    let early = &moments[0];
    for node in nodes {
        let at = format!("/api/v1/nodes/{node}");
        for what in
            ["", "/history", "/activity", "/why", "/who", "/rights", "/space", "/chunks", "/thumbnail"]
        {
            asker.ask("GET", &format!("{at}{what}"), None, &[]).await;
        }
        for account in accounts {
            asker.ask("GET", &format!("{at}/why?account={account}"), None, &[]).await;
        }
        for sort in ["name", "size", "changed"] {
            asker.pages(&format!("{at}/entries?limit=1&sort={sort}")).await;
        }
        asker.pages(&format!("{at}/trash?limit=1")).await;
        asker.ask("HEAD", &format!("{at}/content"), None, &[]).await;
        asker.ask("GET", &format!("{at}/content"), None, &[("range", "bytes=0-1")]).await;
        // The list of what is in it stands at its end.
        asker.ask("GET", &format!("{at}/archive"), None, &[("range", "bytes=-20000")]).await;
        asker.ask("GET", &format!("/api/v1/openings?node={node}"), None, &[]).await;
        for moment in moments {
            asker.ask("GET", &format!("{at}?at={moment}"), None, &[]).await;
            asker.pages(&format!("{at}/entries?limit=1&at={moment}")).await;
            asker.ask("GET", &format!("{at}/rollback?to={moment}"), None, &[]).await;
            let list = [("range", "bytes=-20000")];
            asker.ask("GET", &format!("{at}/archive?at={moment}"), None, &list).await;
            asker.ask("GET", &format!("/api/v1/find?name=a&within={node}&at={moment}"), None, &[]).await;
        }
        asker
            .ask(
                "POST",
                &format!("{at}/restore"),
                json(json!({ "seen": early, "parent": 999_999, "name": "a" })),
                &[],
            )
            .await;
        asker.ask("POST", &format!("{at}/copy"), json(json!({ "name": "." })), &[]).await;
        asker.ask("PATCH", &at, json(json!({ "name": ".", "parent": root })), &[]).await;
        asker.ask("DELETE", &at, None, &[("if-match", "\"x\"")]).await;
        asker.ask("POST", &format!("{at}/folders"), json(json!({ "name": "." })), &[]).await;
        asker
            .ask("PUT", &format!("{at}/files/c"), Some(("text/plain", "c".into())), &[("if-match", "\"x\"")])
            .await;
        asker.ask("PUT", &format!("{at}/lock"), json(json!({ "minutes": 1 })), &[]).await;
        asker
            .ask("POST", &format!("{at}/rights"), json(json!({ "to": "everyone", "can": "view" })), &[])
            .await;
        asker
            .ask("POST", "/api/v1/past/let-go", json(json!({ "nodes": [node], "preview": true })), &[])
            .await;
    }
    for pair in nodes.windows(2) {
        asker.ask("POST", "/api/v1/archives", json(json!({ "nodes": pair, "format": "zip" })), &[]).await;
    }
    let all = r#"<D:propfind xmlns:D="DAV:"><D:allprop/><D:include><D:quota-available-bytes/><D:quota-used-bytes/><D:sync-token/><D:creator-displayname/></D:include></D:propfind>"#;
    let xml = |text: &str| Some(("application/xml", text.to_string()));
    let mut places = vec!["/dav/".to_string(), "/dav/given/".to_string()];
    let mut seen = HashSet::new();
    while let Some(place) = places.pop() {
        if !seen.insert(place.clone()) || seen.len() > 60 {
            continue;
        }
        let body = asker.ask("PROPFIND", &place, xml(all), &[("depth", "1")]).await;
        let hrefs = body.split("<D:href>").skip(1).filter_map(|r| r.split_once("</D:href>"));
        places.extend(hrefs.map(|(href, _)| href.to_string()).filter(|h| h.ends_with('/')));
        asker.ask("PROPFIND", &place, xml(all), &[("depth", "infinity")]).await;
        let report = r#"<D:sync-collection xmlns:D="DAV:"><D:sync-token/><D:sync-level>infinite</D:sync-level><D:prop><D:getetag/><D:creator-displayname/></D:prop></D:sync-collection>"#;
        asker.ask("REPORT", &place, xml(report), &[("depth", "0")]).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_answer_holds_what_its_caller_may_not_know() {
    let rounds = std::env::var("YATTIC_HIDDEN_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(2u64);
    let first = std::env::var("YATTIC_HIDDEN_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(1u64);
    for seed in first..first + rounds {
        round(seed).await;
    }
}

async fn round(seed: u64) {
    let (service, owner) = Service::ready().await;
    let mut dice = Dice::new(seed);
    // Each works on a computer whose name tells of them.
    let mut tokens = HashMap::new();
    let mut devices = HashMap::new();
    for name in ["mara", "tomas", "outsider"] {
        let new =
            api::NewAccount { sign_in: name.into(), password: Some(WORDS.into()), ..Default::default() };
        owner.make_account(&new).await.unwrap();
        let device = dice.word();
        let asked = api::NewDevice {
            sign_in: name.into(),
            password: WORDS.into(),
            device: device.clone(),
            ..Default::default()
        };
        tokens.insert(name, owner.connect(&asked).await.unwrap().token);
        devices.insert(name, device);
    }
    let person = |to: &str, level: &str| api::ShelfPerson { to: to.into(), level: level.into() };
    let people = vec![person("account:mara", "view"), person("account:tomas", "edit")];
    let shelf =
        owner.make_shelf(&api::NewShelf { name: "Maps".into(), people, ..Default::default() }).await.unwrap();
    let others: Vec<Client> =
        ["mara", "tomas"].iter().map(|n| Client::new(&service.address, Some(&tokens[n])).unwrap()).collect();
    let mut model = Model { root: shelf.root, ..Default::default() };
    model.nodes.insert(shelf.root, Known { folder: true, ..Default::default() });
    for name in ["mara", "tomas"] {
        model.grants.push((shelf.root, name.into(), true));
    }
    let mut story = Story { owner: &owner, others: &others, dice, model };
    for _ in 0..18 {
        story.step().await;
    }
    // A guest sees one thing and what is in it.
    let name = story.dice.word();
    let made = owner.make_folder(shelf.root, &name).await.unwrap();
    story.note(&made, shelf.root, 0);
    let folders: Vec<i64> = story.folders().into_iter().filter(|n| *n != shelf.root).collect();
    let node = *story.dice.one(&folders);
    let guest = api::NewGuest {
        mail: "nora@harbour.example".into(),
        display_name: "Nora Vale".into(),
        node,
        can: "view".into(),
        until: None,
        message: String::new(),
    };
    let invited = owner.invite_guest(&guest).await.unwrap();
    let address = invited.address.unwrap();
    let accept = json!({ "secret": address.split_once('#').unwrap().1, "password": WORDS });
    let http = reqwest::Client::new();
    let call = http.post(format!("{}/api/v1/invitation/accept", service.address)).json(&accept);
    assert_eq!(call.send().await.unwrap().status(), 200);
    let asked = api::NewDevice {
        sign_in: invited.sign_in.clone(),
        password: WORDS.into(),
        device: "outside".into(),
        ..Default::default()
    };
    tokens.insert("guest", owner.connect(&asked).await.unwrap().token);
    let guest_name = invited.sign_in.clone();
    story.model.grants.push((node, guest_name.clone(), true));
    // Computers that are bound to folders see these, as far as their accounts do.
    for (name, account) in [("mara's, bound", "mara"), ("tomas's, bound", "tomas")] {
        let seen: Vec<i64> =
            folders.iter().copied().filter(|n| story.model.sees_on(account, &story.model.way(*n))).collect();
        let within = vec![*story.dice.one(&seen), *story.dice.one(&seen)];
        tokens.insert(name, crate::devices::bound(&service, account, WORDS, &within, false).await);
        story.model.scopes.insert(name.into(), (account.into(), within));
    }
    let mut moments = vec!["m1".to_string()];
    let mut followed = HashMap::new();
    for turn in 0..4 {
        for _ in 0..3 {
            story.bar(&["mara", "tomas", &guest_name]).await;
        }
        if turn == 3 {
            // Programs that follow by WebDAV from here on: what one may see changes no more.
            for name in ["mara", "tomas"] {
                let call = http.request(
                    Method::from_bytes(b"REPORT").unwrap(),
                    format!("{}/dav/Maps/", service.address),
                );
                let call =
                    call.basic_auth(name, Some(&tokens[name])).header("content-type", "application/xml");
                let told = call.body(since("")).send().await.unwrap().text().await.unwrap();
                let token = told.split("sync-token>").nth(1).unwrap_or_default();
                followed.insert(name, token.trim_end_matches("</D:").to_string());
            }
        }
        // A number stands for a time: of one that is nobody's secret.
        let home = owner.place("home:/", None).await.unwrap().node.id;
        owner.make_folder(home, &format!("turn {turn}")).await.unwrap();
        let changes = owner.changes(shelf.root, &Default::default()).await.unwrap();
        if turn % 2 == 0 {
            moments.push(changes.upto);
        }
        for _ in 0..8 {
            story.step().await;
        }
    }
    let opening = api::NewOpening { kind: "link".into(), node, ..Default::default() };
    let link = owner.make_opening(&opening).await.unwrap().address.unwrap();
    let model = story.model;
    let nodes: Vec<i64> = model.nodes.keys().copied().collect();
    let mut told = Vec::new();
    let mut asked = 0;
    for (name, token) in [
        ("mara", Some("mara")),
        ("tomas", Some("tomas")),
        ("outsider", Some("outsider")),
        ("mara's, bound", Some("mara's, bound")),
        ("tomas's, bound", Some("tomas's, bound")),
        (&guest_name, Some("guest")),
        ("nobody", None),
    ] {
        let (mut hidden, ids) = model.hidden_from(name);
        if token == Some("guest") {
            hidden.extend(devices.values().cloned().map(Secret::Text));
        }
        if name != "nobody" {
            assert!(!hidden.is_empty(), "nothing is hidden from {name} in tree {seed}");
        }
        let mut asker = Asker {
            http: http.clone(),
            address: &service.address,
            name,
            token: token.map(|t| tokens[t].as_str()),
            hidden,
            ids,
            told: Vec::new(),
            asked: 0,
        };
        let accounts = ["mara", "nobody-has-this-name"];
        everything(&mut asker, &nodes, shelf.root, &moments, &accounts).await;
        if let Some(token) = token.and_then(|t| followed.get(t)) {
            let body = Some(("application/xml", since(token)));
            let told = asker.ask("REPORT", "/dav/Maps/", body, &[("depth", "0")]).await;
            assert!(told.contains("multistatus"), "{told}");
        }
        if name == "nobody" {
            // Who comes by the link sees what its maker opened, and nothing beside it.
            let mut way = model.way(node);
            way.pop();
            let beneath: Vec<i64> = nodes.iter().copied().filter(|n| model.way(*n).contains(&node)).collect();
            let known: BTreeSet<&Secret> =
                beneath.iter().flat_map(|n| model.nodes[n].ever.iter().map(|(_, s)| s)).collect();
            asker.hidden = model.nodes.values().flat_map(|k| k.ever.iter().map(|(_, s)| s.clone())).collect();
            asker.hidden.retain(|s| !known.contains(s));
            asker.hidden.extend(devices.values().cloned().map(Secret::Text));
            let path = link.trim_start_matches(&service.address).to_string();
            asker.ask("GET", &path, None, &[]).await;
            asker.ask("GET", &format!("{path}/archive"), None, &[]).await;
            asker.ask("GET", &format!("{path}/way/.."), None, &[]).await;
        }
        // Whether an account is there is told to nobody who may not ask.
        told.extend(asker.told);
        asked += asker.asked;
    }
    told.sort();
    told.dedup();
    let shown: Vec<&String> = told.iter().take(60).collect();
    assert!(
        told.is_empty(),
        "tree {seed}: {} of {asked} answers told what is hidden:\n{shown:#?}",
        told.len()
    );
}
