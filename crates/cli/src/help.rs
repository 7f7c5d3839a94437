//! Help: the commands in groups, two examples for each, and pages on what they have in common.

use crate::output::{Done, Failure, Output};
use clap::Command;

/// The groups in which commands are shown, in order.
const GROUPS: [(&str, &[&str]); 6] = [
    ("Files", &["ls", "info", "find", "put", "get", "cat", "mkdir", "mv", "cp", "rm", "lock", "unlock"]),
    ("The past", &["history", "restore", "trash", "rollback", "snapshot"]),
    ("Giving", &["share", "unshare", "link", "intake", "given-out", "who", "why"]),
    ("Space", &["space", "quota"]),
    ("People and the service", &["account", "group", "shelf", "rule", "door", "mail", "job", "apply"]),
    (
        "This computer",
        &[
            "sync",
            "mount",
            "keep",
            "release",
            "connect",
            "disconnect",
            "device",
            "completions",
            "manual",
            "help",
        ],
    ),
];

/// Two examples of each command.
const EXAMPLES: [(&str, &str); 41] = [
    (
        "ls",
        "yattic ls                        shelves, and what was given to you\nyattic ls home:/Letters --at 2026-11-02",
    ),
    ("info", "yattic info home:/plan.pdf\nyattic info \"Plans:/Lamp house\" --json"),
    ("find", "yattic find tide table\nyattic find invoice --within home:/Papers --at 2026-06-30"),
    ("cat", "yattic cat home:/notes.txt\nyattic cat home:/a.csv home:/b.csv | sort"),
    ("mkdir", "yattic mkdir home:/Letters/1987\nyattic mkdir Plans:/Hall"),
    ("cp", "yattic cp home:/form.odt home:/form-2027.odt\nyattic cp Plans:/Hall home:/"),
    ("rm", "yattic rm home:/draft.txt\nyattic rm --yes home:/Old"),
    ("lock", "yattic lock Plans:/hall.dwg\nyattic lock Plans:/hall.dwg --for 4h"),
    ("unlock", "yattic unlock Plans:/hall.dwg\nyattic unlock home:/Letters"),
    ("history", "yattic history home:/plan.pdf\nyattic history home:/plan.pdf --json"),
    (
        "restore",
        "yattic restore home:/draft.txt             what was removed\nyattic restore home:/plan.pdf --at 2026-11-02",
    ),
    ("trash", "yattic trash ls home:/\nyattic trash empty home:/Old --preview"),
    (
        "rollback",
        "yattic rollback Plans:/Hall --to \"2026-11-02 16:20\" --preview\nyattic rollback --undo 12",
    ),
    ("snapshot", "yattic snapshot new Plans: --label \"before the move\"\nyattic snapshot ls home:"),
    (
        "share",
        "yattic share Plans:/Hall --with celia --can edit\nyattic share home:/Photos --with group:Friends --until 2026-12-31",
    ),
    ("unshare", "yattic unshare Plans:/Hall --with celia\nyattic unshare given:/Hall"),
    ("link", "yattic link new home:/film.mp4 --until 2026-12-31\nyattic link ls --state open"),
    ("intake", "yattic intake new home:/Applications --largest 20MiB\nyattic intake show 7"),
    ("given-out", "yattic given-out\nyattic given-out --state \"used up\""),
    ("who", "yattic who Plans:/Hall\nyattic who home:/ --json"),
    ("why", "yattic why Plans:/Hall\nyattic why celia Plans:/Hall"),
    ("space", "yattic space\nyattic space home:/ --largest"),
    ("quota", "yattic quota ls\nyattic quota set home:celia --hard \"20 GiB\" --soft \"18 GiB\""),
    (
        "account",
        "yattic account new celia --mail celia@museum.example\nyattic account import people.csv --preview",
    ),
    ("group", "yattic group new Friends\nyattic group set Friends --add celia --add tomas"),
    ("shelf", "yattic shelf new Plans\nyattic shelf raise home:/Photos --name Photos"),
    ("rule", "yattic rule ls\nyattic rule set links-longest-days 30 --preview"),
    ("door", "yattic door close celia dav\nyattic door slowed"),
    ("job", "yattic job ls\nyattic job stop 12\nyattic job backup"),
    ("mail", "yattic mail ls\nyattic mail test ines@museum.example"),
    ("apply", "yattic apply plan.toml --preview\nyattic apply plan.toml --yes"),
    ("sync", "yattic sync add ~/Museum home:/\nyattic sync run"),
    ("mount", "yattic mount ~/Attic\nyattic mount --end ~/Attic"),
    ("keep", "yattic keep ~/Attic/home/Letters\nyattic keep ~/Attic/Plans/Hall/plan.pdf"),
    ("release", "yattic release ~/Attic/home/Films\nyattic release ~/Attic/home"),
    (
        "connect",
        "yattic connect https://files.museum.example\nyattic connect 127.0.0.1:7460 --sign-in ines --password-stdin < password",
    ),
    ("disconnect", "yattic disconnect\nyattic disconnect --json"),
    ("device", "yattic device ls\nyattic device uploads"),
    (
        "completions",
        "yattic completions bash > ~/.local/share/bash-completion/completions/yattic\nyattic completions fish | source",
    ),
    ("manual", "yattic manual ./man\nyattic manual /usr/local/share/man/man1"),
    ("help", "yattic help\nyattic help moments"),
];

/// Pages on what commands have in common.
const TOPICS: [(&str, &str); 4] = [
    (
        "paths",
        "Places on the service are written SHELF:/PATH.\n\n  home:/                  your own shelf\n  home:/Letters/May.txt   a file on it\n  Plans:/Hall             on the shared shelf Plans\n  given:/Hall             what somebody gave you\n\nNames hold any letters but / and what cannot be seen; capital and small letters of one name are one name. Quote what\nyour shell would read itself: \"Plans:/Lamp house\".\n\nput, get, mv, cp, and restore --to: a last slash (or --into, or several things) means into that folder, without one it is the new name:\n\n  yattic put letters home:/Old/    to home:/Old/letters\n  yattic put letters home:/Old     to home:/Old itself\n\nLocal places are as everywhere; one that looks like SHELF:/PATH is written ./SHELF:/PATH.",
    ),
    (
        "moments",
        "A moment says of when something is asked. It is written\n\n  2026-11-02                the end of that day\n  \"2026-11-02 16:20\"        in this computer's time zone\n  2026-11-02T16:20:00Z      RFC 3339\n  m1a4                      a number on the timeline, from the first column of yattic history or yattic snapshot\n\nEvery change has a number; none is used twice. ls, info, find, cat and get take --at, restore and rollback too.\nA moment in the future is refused: nobody knows yet.",
    ),
    (
        "rights",
        "What somebody may do with a file or folder, and all beneath it:\n\n  view     see and fetch\n  add      put new things in, and change what is one's own\n  edit     change, move and remove what is there\n  manage   decide who may do what\n  deny     nothing, whatever is given further up\n\nWhat is given on a folder counts for all beneath it; the highest of all that somebody is given counts, but a deny\nagainst them counts more. A fresh start (share --afresh on) cuts off what comes from further up. yattic who PATH lists\nwho may do what, yattic why ACCOUNT PATH tells why.",
    ),
    (
        "status",
        "How a command ends:\n\n  0    done, as it says\n  1    refused or failed; nothing was done, or what was done is said\n  2    wrong usage; nothing was done\n  3    partly done: each thing that was not done is told with its reason\n  130  stopped by Ctrl-C: how far it was is said, and the same command again goes on\n\nWith --json, results are the service's own objects on standard output, and a refusal is one on standard error, with a\ncode that stays the same.",
    ),
];

/// Puts groups and examples into the help pages.
pub fn dressed(mut command: Command) -> Command {
    let mut listed = String::new();
    for (title, names) in GROUPS {
        listed.push_str(&format!("\n{title}:\n"));
        for name in names {
            let about = command.find_subcommand(name).and_then(|c| c.get_about()).map(ToString::to_string);
            listed.push_str(&format!("  {name:<12} {}\n", about.unwrap_or_default()));
        }
    }
    listed.push_str("\nMore: yattic COMMAND --help, and yattic help paths, moments, rights or status");
    for (name, text) in EXAMPLES {
        let text: String = text.lines().map(|line| format!("\n  {line}")).collect();
        command = command.mut_subcommand(name, |c| c.after_help(format!("Examples:{text}")));
    }
    command
        .help_template("{about-with-newline}\n{usage-heading} {usage}\n{after-help}\n\nOptions:\n{options}")
        .after_help(listed)
}

/// Show help: of all commands, of one, or on paths, moments, rights or status.
#[derive(clap::Args)]
pub struct Help {
    /// A command, or paths, moments, rights, status.
    topic: Option<String>,
}

impl Help {
    /// Prints it.
    pub fn run(self, mut command: Command, output: Output) -> Done {
        let Some(topic) = self.topic else {
            print!("{}", command.render_help());
            return Ok(());
        };
        if let Some((name, text)) = TOPICS.iter().find(|(name, _)| *name == topic) {
            if !output.object(&serde_json::json!({ "topic": name, "text": text }))? {
                println!("{text}");
            }
            return Ok(());
        }
        command.build();
        match command.find_subcommand_mut(&topic) {
            Some(found) => {
                print!("{}", found.render_long_help());
                Ok(())
            }
            None => Err(Failure::usage(
                format!("there is no help on \"{topic}\""),
                "yattic help lists the commands; besides them there are paths, moments, rights and status.",
            )),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn every_command_stands_in_one_group_and_has_two_examples() {
        let command = dressed(crate::Arguments::command());
        for one in command.get_subcommands() {
            let name = one.get_name();
            let groups = GROUPS.iter().filter(|(_, names)| names.contains(&name)).count();
            assert_eq!(groups, 1, "{name}");
            let examples = one.get_after_help().map(ToString::to_string).unwrap_or_default();
            assert!(examples.matches(&format!("yattic {name}")).count() >= 2, "{name}: {examples}");
        }
    }
}
