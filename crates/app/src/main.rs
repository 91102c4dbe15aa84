//! `fennik`: the pages, the jobs and the command line.

mod cli;
mod engine;
mod jobs;
mod web;

fn main() -> std::process::ExitCode {
    cli::run()
}
