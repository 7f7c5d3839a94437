//! A mounted folder in a network of its own (a namespace): the line falls silent, loses packets, and is reset.

use super::{Mounted, bytes_of};
use crate::support::{Service, Yattic, wait_for};
use std::fs;
use std::process::Command;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};
use yellow_attic_trials::line::Line;

/// A network with one line to this one.
struct Apart {
    name: String,
    /// This end of the line.
    near: String,
    /// Our address on it.
    address: String,
}

fn run(program: &str, arguments: &[&str]) {
    let done = Command::new(program).args(arguments).output().unwrap();
    assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
}

impl Apart {
    fn new() -> Apart {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let mark = format!("{}x{number}", std::process::id() % 100_000);
        let (name, near, far) = (format!("attic{mark}"), format!("an{mark}"), format!("af{mark}"));
        let net = format!("10.{}.{}", 100 + std::process::id() % 100, number);
        run("ip", &["netns", "add", &name]);
        run("ip", &["link", "add", &near, "type", "veth", "peer", "name", &far, "netns", &name]);
        run("ip", &["addr", "add", &format!("{net}.1/24"), "dev", &near]);
        run("ip", &["link", "set", &near, "up"]);
        run("ip", &["-n", &name, "addr", "add", &format!("{net}.2/24"), "dev", &far]);
        run("ip", &["-n", &name, "link", "set", &far, "up"]);
        run("ip", &["-n", &name, "link", "set", "lo", "up"]);
        let apart = Apart { name, near, address: format!("{net}.1") };
        apart.filter(&["add", "table", "inet", "attic"]);
        for (chain, hook) in [("in", "input"), ("out", "output")] {
            let kind = format!("{{ type filter hook {hook} priority 0 ; }}");
            apart.filter(&["add", "chain", "inet", "attic", chain, &kind]);
        }
        apart
    }

    fn filter(&self, arguments: &[&str]) {
        let mut all = vec!["netns", "exec", &self.name, "nft"];
        all.extend(arguments);
        run("ip", &all);
    }

    /// Of a hundred packets so many get this.
    fn befalls(&self, percent: u32, what: &[&str], chains: &[&str]) {
        let percent = percent.to_string();
        for chain in chains {
            let mut rule = vec!["add", "rule", "inet", "attic", chain, "meta", "l4proto", "tcp"];
            if percent != "100" {
                rule.extend(["numgen", "random", "mod", "100", "<", &percent]);
            }
            rule.extend(what);
            self.filter(&rule);
        }
    }

    fn is_well(&self) {
        self.filter(&["flush", "chain", "inet", "attic", "in"]);
        self.filter(&["flush", "chain", "inet", "attic", "out"]);
    }

    fn mounted(&self, service: &Service) -> (Mounted, Line) {
        let line = Line::on(&self.address, &service.address, || None);
        let yattic = Yattic::new();
        yattic.connect_to(&line.address);
        (Mounted::in_network(yattic, &[], Some(self.name.clone())), line)
    }
}

impl Drop for Apart {
    fn drop(&mut self) {
        let _ = Command::new("ip").args(["link", "del", &self.near]).status();
        let _ = Command::new("ip").args(["netns", "del", &self.name]).status();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_line_falls_silent_and_comes_back() {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    ines.put(home, "film", None, &Default::default(), bytes_of("film", 5 << 20).into()).await.unwrap();
    let apart = Apart::new();
    let (laptop, _line) = apart.mounted(&service);
    fs::write(laptop.at("kept"), b"kept").unwrap();
    laptop.all_sent();
    // Nothing is refused and nothing ends: no packet comes any more.
    apart.befalls(100, &["drop"], &["in", "out"]);
    let begun = Instant::now();
    assert_eq!(fs::read_dir(laptop.at("")).unwrap().count(), 2);
    assert_eq!(fs::read(laptop.at("kept")).unwrap(), b"kept");
    assert!(begun.elapsed() < Duration::from_secs(1), "what is known is told at once: {:?}", begun.elapsed());
    let begun = Instant::now();
    let refused = fs::read(laptop.at("film")).unwrap_err().raw_os_error();
    assert!(matches!(refused, Some(libc::EHOSTUNREACH | libc::ETIMEDOUT)), "{refused:?}");
    assert!(begun.elapsed() < Duration::from_secs(12), "{:?}", begun.elapsed());
    for n in 0..20 {
        fs::write(laptop.at(&format!("new {n}")), bytes_of("new", 1_000 + n)).unwrap();
    }
    ines.put(home, "theirs", None, &Default::default(), b"theirs".to_vec().into()).await.unwrap();
    tokio::time::sleep(Duration::from_secs(60)).await;
    assert!(laptop.sum("owed") >= 20_000, "{}", laptop.sums());
    apart.is_well();
    assert!(wait_for(|| laptop.at("theirs").exists()), "{}", laptop.sums());
    laptop.all_sent();
    assert!(fs::read(laptop.at("film")).unwrap() == bytes_of("film", 5 << 20));
    assert_eq!(ines.all_entries(home, &Default::default()).await.unwrap().len(), 23);
}

/// All goes both ways, whatever befalls packets.
async fn goes_on(apart: &Apart, percent: u32, what: &[&str], chains: &[&str]) {
    let (service, ines) = Service::ready().await;
    let home = ines.place("home:/", None).await.unwrap().node.id;
    for n in 0..40 {
        let bytes = bytes_of(&format!("theirs {n}"), n * 9_000);
        ines.put(home, &format!("theirs {n}"), None, &Default::default(), bytes.into()).await.unwrap();
    }
    let (laptop, _line) = apart.mounted(&service);
    assert!(laptop.at("theirs 39").exists());
    apart.befalls(percent, what, chains);
    for n in 0..40 {
        fs::write(laptop.at(&format!("mine {n}")), bytes_of(&format!("mine {n}"), n * 9_000)).unwrap();
        // A program that is told that it failed tries again.
        let read = || fs::read(laptop.at(&format!("theirs {n}"))).unwrap_or_default();
        assert!(wait_for(|| read() == bytes_of(&format!("theirs {n}"), n * 9_000)), "{n}");
    }
    // What hangs on a line that nobody ended is given up after a minute.
    apart.is_well();
    laptop.all_sent();
    let all = ines.all_entries(home, &Default::default()).await.unwrap();
    assert_eq!(all.len(), 80);
    for node in all {
        let number: usize = node.name.split_once(' ').unwrap().1.parse().unwrap();
        let wanted = blake3::hash(&bytes_of(&node.name, number * 9_000)).to_hex().to_string();
        assert_eq!(node.blake3.as_deref(), Some(wanted.as_str()), "{}", node.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn packets_are_lost_and_lines_reset_and_all_goes_both_ways() {
    let apart = Apart::new();
    goes_on(&apart, 8, &["drop"], &["in", "out"]).await;
    goes_on(&apart, 2, &["reject", "with", "tcp", "reset"], &["out"]).await;
}
