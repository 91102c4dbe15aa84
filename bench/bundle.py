#!/usr/bin/env python3
"""Compares the speed of bundle adjustment with Ceres's sparse Schur complement, in one run.

    cargo build --release -p fennik && sudo apt-get install libceres-dev g++ && python3 bench/bundle.py

Both get the same scene (every third frame of the demo clip, disturbed), the same unknowns (poses, points, focal length,
k1), the same loss and 2 threads. What is compared is the time until the cost is within a thousandth of the lowest that
either reaches.
"""
import pathlib
import subprocess
import sys
import tempfile

ROOT = pathlib.Path(__file__).resolve().parent.parent
RUNS = 5
NEAR = 1.001


def steps(command):
    """(seconds, cost) after each step."""
    text = subprocess.run(command, check=True, capture_output=True, text=True).stdout
    return [tuple(float(v) for v in line.split()) for line in text.splitlines()]


def reached(run, cost):
    """Seconds until the cost was that low; infinite if it never was."""
    return min((s for s, c in run if c <= cost), default=float("inf"))


def main():
    """Prints both and their ratio."""
    program = sys.argv[1] if len(sys.argv) > 1 else str(ROOT / "target/release/fennik")
    with tempfile.TemporaryDirectory() as folder:
        other, scene = f"{folder}/ceres", f"{folder}/scene.txt"
        subprocess.run(["g++", "-O3", "-march=native", "-std=c++17", str(ROOT / "bench/ceres.cpp"), "-I/usr/include/eigen3",
                        "-o", other, "-lceres", "-lglog"], check=True)
        pairs = [(steps([program, "bench", "--bundle", scene]), steps([other, scene])) for _ in range(RUNS)]
        sizes = pathlib.Path(scene).read_text().split("\n", 1)[0].split()
    lowest = min(run[-1][1] for pair in pairs for run in pair)
    ours, theirs = (min(reached(pair[i], NEAR * lowest) for pair in pairs) for i in (0, 1))
    print(f"{sizes[0]} cameras, {sizes[1]} points, {sizes[2]} observations; lowest cost {lowest:.3f} px^2, from {pairs[0][0][0][1]:.0f}")
    print(f"Fennik: {ours:.3f} s to {NEAR} of it, ends at {pairs[0][0][-1][1]:.3f} after {pairs[0][0][-1][0]:.3f} s")
    print(f"Ceres: {theirs:.3f} s to {NEAR} of it, ends at {pairs[0][1][-1][1]:.3f} after {pairs[0][1][-1][0]:.3f} s")
    print(f"Fennik over Ceres: {ours / theirs:.2f}")


if __name__ == "__main__":
    main()
