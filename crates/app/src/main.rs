//! `fennik`: the pages, the jobs and the command line.

mod cli;

fn main() -> std::process::ExitCode {
    cli::run()
}
