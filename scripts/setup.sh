#!/bin/sh
# Installs what is missing on Debian: `setup.sh run` for running Fennik, `setup.sh test` for its tests, `setup.sh fuzz` for
# fuzzing.
set -eu
cd "$(dirname "$0")/.."

as_root() {
    if [ "$(id -u)" -eq 0 ]; then "$@"; else sudo "$@"; fi
}

need() { # command package
    command -v "$1" >/dev/null 2>&1 || missing="$missing $2"
}

missing=""
need cc gcc
need ffmpeg ffmpeg
if [ "$1" = fuzz ]; then
    need c++ g++
fi
if [ "$1" = test ]; then
    [ -x /usr/bin/chromium ] || missing="$missing chromium"
fi
if [ -n "$missing" ]; then
    echo "installing:$missing"
    as_root apt-get update -qq
    # shellcheck disable=SC2086
    as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
fi
if [ "$1" = test ]; then
    (cd e2e && npm ci --silent --no-audit --no-fund)
fi
