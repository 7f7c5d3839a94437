//! `yattic`: the client. One command per file in `commands/`; its doc comment is its help.

#![forbid(unsafe_code)]

#[macro_use]
mod print;
mod commands;
mod connection;
mod desktop;
mod help;
mod output;
mod page;
mod progress;
mod transfer;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use output::{Failure, Output};
use std::process::ExitCode;

/// Work with files kept by a Yellow Attic service.
///
/// Remote places are written shelf:/path; home:/ is your own shelf. Exit status: 0 done,
/// 1 refused or failed, 2 wrong usage, 3 partly done, 130 stopped.
#[derive(Parser)]
#[command(name = "yattic", version, max_term_width = 100, disable_help_subcommand = true)]
struct Arguments {
    /// Print the service's own objects as JSON.
    #[arg(long, global = true)]
    json: bool,
    /// Print results only: no progress, no remarks.
    #[arg(long, short, global = true)]
    quiet: bool,
    /// Where your password is wanted once more, take it from standard input: a line, and a code on the next where one
    /// is wanted. It is read only then, after everything else was checked.
    #[arg(long, global = true)]
    proof_stdin: bool,
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
    Job(commands::job::Job),
    Mail(commands::mail::Mail),
    Apply(commands::apply::Apply),
    Sync(commands::sync::Sync),
    Mount(commands::mount::Mount),
    Keep(commands::keep::Keep),
    Release(commands::keep::Release),
    Completions(commands::completions::Completions),
    Manual(commands::manual::Manual),
    Help(help::Help),
}

fn main() -> ExitCode {
    let arguments = match Arguments::from_arg_matches(&help::dressed(Arguments::command()).get_matches()) {
        Ok(arguments) => arguments,
        Err(e) => e.exit(),
    };
    connection::proofs_from_stdin(arguments.proof_stdin);
    let output = Output { json: arguments.json, quiet: arguments.quiet };
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => return Failure::from(e).report(output),
    };
    // Each command's future behind a pointer: it is compiled once, in its own file, and not again for whatever runs it.
    type Running = std::pin::Pin<Box<dyn Future<Output = output::Done>>>;
    let running: Running = match arguments.command {
        Command::Connect(c) => Box::pin(c.run(output)),
        Command::Disconnect(c) => Box::pin(c.run(output)),
        Command::Device(c) => Box::pin(c.run(output)),
        Command::Ls(c) => Box::pin(c.run(output)),
        Command::Info(c) => Box::pin(c.run(output)),
        Command::Put(c) => Box::pin(c.run(output)),
        Command::Get(c) => Box::pin(c.run(output)),
        Command::Cat(c) => Box::pin(c.run(output)),
        Command::Mkdir(c) => Box::pin(c.run(output)),
        Command::Mv(c) => Box::pin(c.run(output)),
        Command::Cp(c) => Box::pin(c.run(output)),
        Command::Rm(c) => Box::pin(c.run(output)),
        Command::Lock(c) => Box::pin(c.run(output)),
        Command::Unlock(c) => Box::pin(c.run(output)),
        Command::History(c) => Box::pin(c.run(output)),
        Command::Restore(c) => Box::pin(c.run(output)),
        Command::Rollback(c) => Box::pin(c.run(output)),
        Command::Trash(c) => Box::pin(c.run(output)),
        Command::Snapshot(c) => Box::pin(c.run(output)),
        Command::Find(c) => Box::pin(c.run(output)),
        Command::Share(c) => Box::pin(c.run(output)),
        Command::Unshare(c) => Box::pin(c.run(output)),
        Command::Link(c) => Box::pin(c.run(output)),
        Command::Intake(c) => Box::pin(c.run(output)),
        Command::GivenOut(c) => Box::pin(c.run(output)),
        Command::Who(c) => Box::pin(c.run(output)),
        Command::Why(c) => Box::pin(c.run(output)),
        Command::Account(c) => Box::pin(c.run(output)),
        Command::Group(c) => Box::pin(c.run(output)),
        Command::Shelf(c) => Box::pin(c.run(output)),
        Command::Space(c) => Box::pin(c.run(output)),
        Command::Quota(c) => Box::pin(c.run(output)),
        Command::Rule(c) => Box::pin(c.run(output)),
        Command::Door(c) => Box::pin(c.run(output)),
        Command::Job(c) => Box::pin(c.run(output)),
        Command::Mail(c) => Box::pin(c.run(output)),
        Command::Apply(c) => Box::pin(c.run(output)),
        Command::Sync(c) => Box::pin(c.run(output)),
        Command::Mount(c) => Box::pin(c.run(output)),
        Command::Keep(c) => Box::pin(c.run(output)),
        Command::Release(c) => Box::pin(c.run(output)),
        Command::Completions(c) => Box::pin(std::future::ready(c.run(&mut Arguments::command()))),
        Command::Manual(c) => Box::pin(std::future::ready(c.run(help::dressed(Arguments::command())))),
        Command::Help(c) => Box::pin(std::future::ready(c.run(help::dressed(Arguments::command()), output))),
    };
    let done = runtime.block_on(running);
    // A thread may still wait for a prompt or a pipe: do not wait for it.
    runtime.shutdown_background();
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(output),
    }
}
