//! Measurements against peers, in pairs: what counts is the ratio, not the figure.
//!
//! On a journaled ext4 image on a loop device, so that syncs cost what they cost on a user's
//! disk. `disk` makes that image, `peers` runs the service and the general-purpose server,
//! `http` is a client with as little of its own as possible, `cases`, `transfers`, `history`, `dav`, `people`, `rights`,
//! `strangers`, `doors`, `sync` and `mount` measure; `make` makes a store of any size, `huge` looks at ten million files.

mod cases;
mod dav;
mod disk;
mod doors;
mod history;
mod http;
mod huge;
mod make;
mod mount;
mod peers;
mod people;
mod rights;
mod strangers;
mod sync;
mod transfers;

fn main() {
    let wanted: Vec<String> = std::env::args().skip(1).collect();
    if wanted.iter().any(|w| w == "--help") {
        println!(
            "yattic-bench [huge|mount|sync|doors|tar|tree|zip|live|thumbnails|tls|rights|people|strangers|versions|past|rollback|dav|propfind|delta|idle|small|large|list|rename|start|scale]…: all of them but huge, if none is named\nyattic-bench make FOLDER --files=NUMBER --past=NUMBER: a store of that size\nyattic-bench huge FOLDER STORE: looks at one that was made before; FOLDER on the same disk"
        );
        return;
    }
    if let [case, data] = &wanted[..]
        && case == "look-over"
    {
        if let Err(error) = history::look_over(data.as_ref()) {
            eprintln!("yattic-bench: {error}");
            std::process::exit(1);
        }
        return;
    }
    if let [case, data, files, past] = &wanted[..]
        && case == "make"
    {
        let number = |text: &str, what: &str| text.strip_prefix(what).and_then(|n| n.parse::<i64>().ok());
        let (Some(files), Some(past)) = (number(files, "--files="), number(past, "--past=")) else {
            eprintln!("yattic-bench make FOLDER --files=NUMBER --past=NUMBER");
            std::process::exit(2);
        };
        if let Err(error) = make::make(data.as_ref(), files, past) {
            eprintln!("yattic-bench: {error}");
            std::process::exit(1);
        }
        return;
    }
    if let [case, data] = &wanted[..]
        && case == "look-due"
    {
        if let Err(error) = huge::look(data.as_ref()) {
            eprintln!("yattic-bench: {error}");
            std::process::exit(1);
        }
        return;
    }
    if let [case, disk, store] = &wanted[..]
        && case == "huge"
    {
        if let Err(error) = huge::run_on(disk.as_ref(), store.as_ref()) {
            eprintln!("yattic-bench: {error}");
            std::process::exit(1);
        }
        return;
    }
    if let Err(error) = cases::run(&wanted) {
        eprintln!("yattic-bench: {error}");
        std::process::exit(1);
    }
}
