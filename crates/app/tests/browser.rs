//! The real interface in headless Chromium: runs the tests under `e2e/` against the built binary.

use std::path::Path;
use std::process::Command;

#[test]
fn the_pages_work_in_a_browser() {
    let e2e = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../e2e");
    assert!(
        e2e.join("node_modules/playwright-core").exists(),
        "run `make test`, which installs what the browser tests need"
    );
    let status = Command::new("npm")
        .args(["test", "--silent"])
        .current_dir(&e2e)
        .env("FENNIK_BIN", env!("CARGO_BIN_EXE_fennik"))
        .status();
    assert!(status.expect("npm must be installed").success(), "the browser tests failed; their output is above");
}
