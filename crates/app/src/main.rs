//! `fennik`: the pages, the jobs and the command line.

fn main() -> std::process::ExitCode {
    fennik::run()
}
