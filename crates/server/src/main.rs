//! The service's own commands.

mod commands;

use clap::{CommandFactory, Parser, Subcommand};
use commands::{
    Common, backup, check, clock, config, demo, init, key, let_in, rebuild, reconcile, restore, serve,
};
use std::process::ExitCode;

/// Many threads make and drop small things: a small upload takes a fifteenth less of the processor with it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Yellow Attic: files kept safely, on one machine.
#[derive(Parser)]
#[command(name = "yatticd", version, max_term_width = 100)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service until it is told to stop.
    Serve(Common),
    /// Make the store, and look at what the file system under it can do.
    Init(init::Init),
    /// Compare the times that are kept with this machine's clock, while the service is stopped.
    Clock(clock::ClockOf),
    LetIn(let_in::LetIn),
    Key(key::Key),
    /// Follow the record's chain and hash every past content, whether or not the service runs.
    Check(check::Checking),
    Reconcile(reconcile::Reconciling),
    Backup(backup::BackingUp),
    Restore(restore::Restoring),
    Rebuild(rebuild::Rebuild),
    /// Make a museum's worth of sample files with three months of history, and serve it.
    Demo(demo::Demo),
    /// Print the completions of a shell: source them, or put them where it looks for them.
    Completions(Shell),
    /// Write the manual pages into a folder.
    Manual(Folder),
    /// Print the description of the API (OpenAPI 3.1, JSON), without a service.
    Describe,
    /// Show every setting in force and where its value came from.
    Config(config::Show),
}

impl Command {
    /// Run by root, a command acts as the owner of the data folder.
    fn act_as_owner(&self) -> Option<String> {
        let common = match self {
            Command::Serve(common) => common,
            Command::Init(asked) => &asked.common,
            Command::Clock(asked) => &asked.common,
            Command::LetIn(asked) => &asked.common,
            Command::Check(asked) => &asked.common,
            Command::Reconcile(asked) => &asked.common,
            Command::Backup(asked) => &asked.common,
            Command::Rebuild(asked) => &asked.common,
            Command::Key(asked) => asked.common(),
            _ => return None,
        };
        // What cannot be read is told by the command itself.
        let data = common.read().ok()?.data;
        match yellow_attic_store::fs::process::act_as_owner(&data) {
            Ok(_) => None,
            Err(e) => Some(format!("acting as the owner of {}: {e}", data.display())),
        }
    }
}

#[derive(clap::Args)]
struct Shell {
    /// Which shell.
    shell: clap_complete::Shell,
}

#[derive(clap::Args)]
struct Folder {
    /// Where the pages go.
    folder: std::path::PathBuf,
}

fn main() -> ExitCode {
    // The service's own helper, nobody's command. Before any thread is begun: it limits itself first.
    if std::env::args_os().nth(1).is_some_and(|a| a == yellow_attic_server::state::thumbnails::HELPER) {
        return yellow_attic_server::transfer::thumbnails::draw()
            .map_or_else(|e| fail(&*e), |()| ExitCode::SUCCESS);
    }
    let arguments = Arguments::parse();
    yellow_attic_store::fs::process::make_things_private();
    if let Some(error) = arguments.command.act_as_owner() {
        return fail(&error);
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&error),
    };
    // Each command's future behind a pointer: it is compiled once, and not again for whatever runs it.
    type Running<'a> = std::pin::Pin<Box<dyn Future<Output = commands::Outcome> + 'a>>;
    let running: Running<'_> = match &arguments.command {
        Command::Serve(asked) => Box::pin(serve::run(asked)),
        Command::Init(asked) => Box::pin(init::run(asked)),
        Command::Clock(asked) => Box::pin(clock::run(asked)),
        Command::LetIn(asked) => Box::pin(let_in::run(asked)),
        Command::Check(asked) => Box::pin(check::run(asked)),
        Command::Reconcile(asked) => Box::pin(reconcile::run(asked)),
        Command::Backup(asked) => Box::pin(backup::run(asked)),
        Command::Restore(asked) => Box::pin(restore::run(asked)),
        Command::Rebuild(asked) => Box::pin(rebuild::run(asked)),
        Command::Key(asked) => Box::pin(key::run(asked)),
        Command::Demo(asked) => Box::pin(demo::run(asked)),
        Command::Completions(asked) => {
            let mut command = Arguments::command();
            clap_complete::generate(asked.shell, &mut command, "yatticd", &mut std::io::stdout());
            return ExitCode::SUCCESS;
        }
        Command::Manual(asked) => Box::pin(std::future::ready(
            std::fs::create_dir_all(&asked.folder)
                .and_then(|()| clap_mangen::generate_to(Arguments::command(), &asked.folder))
                .map_err(Into::into),
        )),
        Command::Describe => {
            println!("{:#}", yellow_attic_server::api::description());
            return ExitCode::SUCCESS;
        }
        Command::Config(show) => Box::pin(std::future::ready(config::run(show))),
    };
    let outcome = runtime.block_on(running);
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => fail(&*error),
    }
}

fn fail(error: &dyn std::fmt::Display) -> ExitCode {
    eprintln!("yatticd: {error}");
    ExitCode::FAILURE
}
