//! `fennik add`: clips come into a data folder from the command line.

use super::{clip, fennik, pattern, text};
use std::path::Path;

fn entries(folder: &Path) -> usize {
    std::fs::read_dir(folder).map(Iterator::count).unwrap_or(0)
}

#[test]
fn a_video_and_a_folder_of_stills_become_shots_with_previews() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let video = clip(folder.path());
    let run = fennik(&["add", text(&video), "--data", text(&data)]);
    let said = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    assert!(said.contains("copying: 100 %") && said.contains("frame 250 of 250"), "{said}");
    assert!(said.contains("shot 1 \"the quay's clip\": 1280x720 px, 250 frames"), "{said}");
    assert!(video.exists(), "the person's own file stays");

    let stills = folder.path().join("stills");
    std::fs::create_dir(&stills).unwrap();
    pattern("320x180", 5, &[], &stills.join("still %d.png"));
    let run = fennik(&["add", text(&stills), "--data", text(&data)]);
    let said = String::from_utf8_lossy(&run.stdout).into_owned();
    assert!(run.status.success() && said.contains("shot 2") && said.contains("320x180 px, 5 frames"), "{said}");
    assert_eq!(entries(&data.join("clips")), 2);
    let clip_folders =
        std::fs::read_dir(data.join("clips")).unwrap().flatten().map(|e| entries(&e.path().join("proxies")));
    let mut previews: Vec<usize> = clip_folders.collect();
    previews.sort_unstable();
    assert_eq!(previews, [5, 250]);
    let known = fennik(&["export", "nothing", "--format", "gltf", "--out", "/dev/null", "--data", text(&data)]);
    let said = String::from_utf8_lossy(&known.stderr).into_owned();
    assert!(said.contains("1 \"the quay's clip\"") && said.contains("2 \"still 1\""), "{said}");
}

#[test]
fn what_is_no_clip_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let notes = folder.path().join("notes.mp4");
    std::fs::write(&notes, "no video").unwrap();
    let empty = folder.path().join("empty");
    std::fs::create_dir(&empty).unwrap();
    for (path, reason) in
        [(&notes, "notes.mp4"), (&empty, "no files"), (&folder.path().join("gone.mov"), "cannot be opened")]
    {
        let run = fennik(&["add", text(path), "--data", text(&data)]);
        let said = String::from_utf8_lossy(&run.stderr).into_owned();
        assert!(!run.status.success() && said.contains(reason), "{}: {said}", path.display());
    }
    assert_eq!(entries(&data.join("clips")), 0);
}
