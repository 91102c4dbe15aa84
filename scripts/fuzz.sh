#!/bin/sh
# Coverage-guided fuzzing with libFuzzer, on the stable compiler: MINUTES for each of TARGETS (all where none is named).
# Prints how many inputs were tried; what breaks a target is kept under fuzz/found.
set -eu
cd "$(dirname "$0")/../fuzz"
targets=${TARGETS:-"probe tracks solve recipe masks document upload picture model font table"}
triple=$(rustc -vV | sed -n 's/^host: //p')
# The passes that tell the fuzzer which code an input reached; with a target named, build scripts are left without them.
RUSTFLAGS="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table -Cllvm-args=-sanitizer-coverage-trace-compares --cfg fuzzing"
export RUSTFLAGS
for target in $targets; do
    cargo build --release --quiet --target "$triple" --bin "$target"
done
failed=0
for target in $targets; do
    mkdir -p "corpus/$target" "found/$target"
    [ -d "seeds/$target" ] && cp -n "seeds/$target"/* "corpus/$target/"
    log="found/$target.log"
    "target/$triple/release/$target" -max_total_time=$((MINUTES * 60)) -max_len=65536 -timeout=20 -rss_limit_mb=4096 -artifact_prefix="found/$target/" "corpus/$target" >"$log" 2>&1 || failed=1
    runs=$(sed -n 's/^Done \([0-9]*\) runs.*/\1/p' "$log")
    echo "$target: ${runs:-stopped, see fuzz/$log} runs, $(find "found/$target" -type f | wc -l) found"
done
exit $failed
