//! `yattic`: the client. One command per file in `commands/`; its doc comment is its help.

#![forbid(unsafe_code)]

mod commands;
mod connection;
mod output;
mod progress;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use output::{Failure, Output};
use std::process::ExitCode;

/// Work with files kept by a Yellow Attic service.
///
/// Remote places are written shelf:/path; home:/ is your own shelf. Exit status: 0 done,
/// 1 refused or failed, 2 wrong usage, 3 partly done.
#[derive(Parser)]
#[command(name = "yattic", version, max_term_width = 100, disable_help_subcommand = true)]
struct Arguments {
    /// Print the service's own objects as JSON.
    #[arg(long, global = true)]
    json: bool,
    /// Print results only: no progress, no remarks.
    #[arg(long, short, global = true)]
    quiet: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    Connect(commands::connect::Connect),
    Disconnect(commands::disconnect::Disconnect),
    Device(commands::device::Device),
    Ls(commands::ls::Ls),
    Info(commands::info::Info),
    Put(commands::put::Put),
    Get(commands::get::Get),
    Cat(commands::cat::Cat),
    Mkdir(commands::mkdir::Mkdir),
    Mv(commands::mv::Mv),
    Cp(commands::cp::Cp),
    Rm(commands::rm::Rm),
    Lock(commands::lock::Lock),
    Unlock(commands::unlock::Unlock),
    History(commands::history::History),
    Restore(commands::restore::Restore),
    Rollback(commands::rollback::Rollback),
    Trash(commands::trash::Trash),
    Snapshot(commands::snapshot::Snapshot),
    Find(commands::find::Find),
    Share(commands::share::Share),
    Unshare(commands::unshare::Unshare),
    Link(commands::link::Link),
    Intake(commands::intake::Intake),
    GivenOut(commands::given_out::GivenOut),
    Who(commands::who::Who),
    Why(commands::why::Why),
    Account(commands::account::Account),
    Group(commands::group::Group),
    Shelf(commands::shelf::Shelf),
    Space(commands::space::Space),
    Quota(commands::quota::Quota),
    Rule(commands::rule::Rule),
    Door(commands::door::Door),
    Mail(commands::mail::Mail),
    Apply(commands::apply::Apply),
    Completions(commands::completions::Completions),
    Manual(commands::manual::Manual),
}

fn main() -> ExitCode {
    let arguments = match Arguments::from_arg_matches(&Arguments::command().get_matches()) {
        Ok(arguments) => arguments,
        Err(e) => e.exit(),
    };
    let output = Output { json: arguments.json, quiet: arguments.quiet };
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => return Failure::from(e).report(output),
    };
    let done = runtime.block_on(async {
        match arguments.command {
            Command::Connect(c) => c.run(output).await,
            Command::Disconnect(c) => c.run(output).await,
            Command::Device(c) => c.run(output).await,
            Command::Ls(c) => c.run(output).await,
            Command::Info(c) => c.run(output).await,
            Command::Put(c) => c.run(output).await,
            Command::Get(c) => c.run(output).await,
            Command::Cat(c) => c.run(output).await,
            Command::Mkdir(c) => c.run(output).await,
            Command::Mv(c) => c.run(output).await,
            Command::Cp(c) => c.run(output).await,
            Command::Rm(c) => c.run(output).await,
            Command::Lock(c) => c.run(output).await,
            Command::Unlock(c) => c.run(output).await,
            Command::History(c) => c.run(output).await,
            Command::Restore(c) => c.run(output).await,
            Command::Rollback(c) => c.run(output).await,
            Command::Trash(c) => c.run(output).await,
            Command::Snapshot(c) => c.run(output).await,
            Command::Find(c) => c.run(output).await,
            Command::Share(c) => c.run(output).await,
            Command::Unshare(c) => c.run(output).await,
            Command::Link(c) => c.run(output).await,
            Command::Intake(c) => c.run(output).await,
            Command::GivenOut(c) => c.run(output).await,
            Command::Who(c) => c.run(output).await,
            Command::Why(c) => c.run(output).await,
            Command::Account(c) => c.run(output).await,
            Command::Group(c) => c.run(output).await,
            Command::Shelf(c) => c.run(output).await,
            Command::Space(c) => c.run(output).await,
            Command::Quota(c) => c.run(output).await,
            Command::Rule(c) => c.run(output).await,
            Command::Door(c) => c.run(output).await,
            Command::Mail(c) => c.run(output).await,
            Command::Apply(c) => c.run(output).await,
            Command::Completions(c) => c.run(&mut Arguments::command()),
            Command::Manual(c) => c.run(Arguments::command()),
        }
    });
    // A thread may still wait for a prompt or a pipe: do not wait for it.
    runtime.shutdown_background();
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(output),
    }
}
