//! The end of the program in the middle of its work.

use crate::web::Server;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Frames of the demo clip.
const FRAMES: usize = 250;

/// The preview frames under a data folder.
fn previews(data: &Path) -> usize {
    let clips = std::fs::read_dir(data.join("clips")).into_iter().flatten().flatten();
    let folders = clips.map(|c| c.path().join("proxies")).collect::<Vec<PathBuf>>();
    folders.iter().flat_map(std::fs::read_dir).flatten().count()
}

/// Waits until there are so many previews or more, two minutes at most.
fn wait_for_previews(data: &Path, least: usize) {
    for _ in 0..6000 {
        if previews(data) >= least {
            return;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    panic!("only {} of {least} preview frames came", previews(data));
}

#[test]
fn what_is_at_work_ends_with_the_program_and_goes_on_with_the_next() {
    let folder = tempfile::tempdir().unwrap();
    let mut server = Server::plain(folder.path());
    wait_for_previews(folder.path(), 1);
    server.end();
    let there = previews(folder.path());
    assert!(there < FRAMES, "the end came in the middle: {there} preview frames");
    std::thread::sleep(Duration::from_millis(700));
    assert_eq!(previews(folder.path()), there, "the decoder went on without the program");

    let _next = Server::plain(folder.path());
    wait_for_previews(folder.path(), FRAMES);
}
