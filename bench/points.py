#!/usr/bin/env python3
"""Compares the speed of point tracking with OpenCV's pyramidal Lucas-Kanade, in one run.

    cargo build --release -p fennik && pip install opencv-python-headless && python3 bench/points.py

OpenCV follows as many points as Fennik has on each frame of the demo clip, with a window of 21 px, 4 levels and the
backward check; its corners are found anew on every third frame, as Fennik's are. Fennik also predicts, aligns each
point with its first view under an affine warp, and looks for lost points. Both decode the clip as they go.
"""
import json
import pathlib
import subprocess
import sys
import time

import cv2
import numpy as np

ROOT = pathlib.Path(__file__).resolve().parent.parent
CLIP = ROOT / "crates/demo/assets/varrick-quay.mp4"
WINDOW = (21, 21)
LEVELS = 3              # OpenCV counts the levels above the full size
BACKWARD_PX = 0.8
POINTS = 450            # what Fennik carries on a frame of this clip


def opencv_seconds():
    """Seconds over the clip, and how many steps of a point from frame to frame were made."""
    options = dict(winSize=WINDOW, maxLevel=LEVELS, criteria=(cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 0.01))
    film = cv2.VideoCapture(str(CLIP))
    began, steps, frame = time.perf_counter(), 0, 0
    before, points = None, np.empty((0, 1, 2), np.float32)
    while True:
        read, picture = film.read()
        if not read:
            break
        grey = cv2.cvtColor(picture, cv2.COLOR_BGR2GRAY)
        if before is not None and len(points):
            after, found, _ = cv2.calcOpticalFlowPyrLK(before, grey, points, None, **options)
            back, returned, _ = cv2.calcOpticalFlowPyrLK(grey, before, after, None, **options)
            steps += len(points)
            miss = np.linalg.norm((back - points).reshape(-1, 2), axis=1)
            keep = (found.ravel() == 1) & (returned.ravel() == 1) & (miss < BACKWARD_PX)
            points = after[keep]
        if frame % 3 == 0 and len(points) < POINTS:
            free = np.full(grey.shape, 255, np.uint8)
            for x, y in points.reshape(-1, 2):
                cv2.circle(free, (int(x), int(y)), 20, 0, -1)
            fresh = cv2.goodFeaturesToTrack(grey, POINTS - len(points), 0.003, 20, mask=free, useHarrisDetector=False)
            if fresh is not None:
                points = np.concatenate([points, fresh.astype(np.float32)])
        before, frame = grey, frame + 1
    return time.perf_counter() - began, steps


def main():
    """Prints both and their ratio."""
    cv2.setNumThreads(2)
    program = sys.argv[1] if len(sys.argv) > 1 else str(ROOT / "target/release/fennik")
    runs = [opencv_seconds() for _ in range(3)]
    seconds, steps = min(runs)
    ours = json.loads(subprocess.run([program, "bench", "--json"], check=True, capture_output=True, text=True).stdout)
    theirs_us = 1e6 * seconds / steps
    ours_us = ours["track, a point and frame"]
    print(f"OpenCV {cv2.__version__}: {theirs_us:.1f} us a point and frame ({steps} steps in {seconds:.2f} s)")
    print(f"Fennik: {ours_us:.1f} us a point and frame")
    print(f"Fennik over OpenCV: {ours_us / theirs_us:.2f}")


if __name__ == "__main__":
    main()
