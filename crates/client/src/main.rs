//! `jexlin`: the command line. It uses the network interface and nothing else.

mod args;
mod cli;
mod clipboard;
mod commands;
mod completions;
mod connection;
mod dispatch;
mod error;
mod files;
mod lookup;
mod output;
mod pager;
mod pin;
mod run;
mod secrets;
mod time;
mod view;

use clap::Parser as _;

fn main() -> std::process::ExitCode {
    completions::answer();
    let cli = cli::Cli::parse();
    match dispatch::run(cli) {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(trouble) => {
            trouble.tell();
            std::process::ExitCode::from(trouble.exit_code())
        }
    }
}
