//! The service's own commands.

mod commands;

use clap::{CommandFactory, Parser, Subcommand};
use commands::{Common, check, config, demo, init, serve};
use std::process::ExitCode;

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
    /// Make the data folder and look at what the file system under it can do.
    Init(Common),
    /// Follow the record's chain and hash every past content, whether or not the service runs.
    Check(check::Checking),
    /// Make a museum's worth of sample files with three months of history, and serve it.
    Demo(demo::Demo),
    /// Print the completions of a shell: source them, or put them where it looks for them.
    Completions(Shell),
    /// Write the manual pages into a folder.
    Manual(Folder),
    /// Show every setting in force and where its value came from.
    Config(config::Show),
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
    if std::env::args_os().nth(1).is_some_and(|a| a == yellow_attic_server::thumbnails::HELPER) {
        return yellow_attic_server::thumbnails::draw().map_or_else(|e| fail(&*e), |()| ExitCode::SUCCESS);
    }
    let arguments = Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return fail(&error),
    };
    let outcome = match arguments.command {
        Command::Serve(common) => runtime.block_on(serve::run(&common)),
        Command::Init(common) => runtime.block_on(init::run(&common)),
        Command::Check(checking) => runtime.block_on(check::run(&checking)),
        Command::Demo(demo) => runtime.block_on(demo::run(&demo)),
        Command::Completions(asked) => {
            clap_complete::generate(
                asked.shell,
                &mut Arguments::command(),
                "yatticd",
                &mut std::io::stdout(),
            );
            Ok(())
        }
        Command::Manual(asked) => std::fs::create_dir_all(&asked.folder)
            .and_then(|()| clap_mangen::generate_to(Arguments::command(), &asked.folder))
            .map_err(Into::into),
        Command::Config(show) => config::run(&show),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => fail(&*error),
    }
}

fn fail(error: &dyn std::fmt::Display) -> ExitCode {
    eprintln!("yatticd: {error}");
    ExitCode::FAILURE
}
