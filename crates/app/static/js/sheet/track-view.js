// @ts-check
/** One track's own view: what it saw, and its error, frame after frame. */
import { nearestPlace, project, ray } from "../math/camera.js";
import { colours } from "../viewport/colours.js";
import { ramp } from "../viewport/ramp.js";
import { trackAt } from "../math/tracks.js";

/** What outliers are called where one of them is looked at. */
export const WHY = /** @type {Record<string, string>} */ ({
  "independent-motion": "moves on its own",
  "image-static": "stands still on the frame",
  "partial-inlier": "agrees now and then",
  far: "far off, without a depth",
  short: "too short to tell",
});

export class TrackView {
  /** @param {import("../state/model.js").Model} model @param {(id: string) => any} byId */
  constructor(model, byId) {
    this.model = model;
    this.byId = byId;
    /** @type {number|null} */ this.id = null;
  }

  /**
   * Error in px on each frame on which the track has both a sighting and a camera: against its point, or for a track
   * that has none against the place that suits its views best.
   * @param {import("../math/tracks.js").Track} track
   */
  errors(track) {
    const { model } = this,
      views = [],
      found = [];
    for (let f = track.first; f < track.first + track.xy.length / 2; f++) {
      const seen = trackAt(track, f),
        camera = model.cameras[f];
      if (seen && camera) views.push({ frame: f, seen, camera });
    }
    const place =
      model.points.find((p) => p.id === track.id)?.x ??
      nearestPlace(views.map((v) => ray(v.camera, v.seen[0], v.seen[1])));
    for (const { frame, seen, camera } of place ? views : []) {
      const at = project(camera, /** @type {number[]} */ (place));
      if (at) found.push({ frame, error_px: Math.hypot(at[0] - seen[0], at[1] - seen[1]) });
    }
    return found;
  }

  /** Shows a track. @param {number|null} id */
  show(id) {
    const { model } = this,
      track = model.tracks.find((t) => t.id === id);
    this.byId("sheet-track").hidden = !track;
    this.id = track?.id ?? null;
    if (!track) return;
    const errors = this.errors(track),
      last = track.first + track.xy.length / 2 - 1;
    const point = model.points.find((p) => p.id === id),
      outlier = model.outliers.get(track.id);
    const parallax = point?.parallax ? ` · ${point.parallax.toFixed(1)} deg of parallax` : "";
    const words = point
      ? `${point.rms.toFixed(2)} px${parallax}`
      : outlier
        ? `${WHY[outlier.reason]}${outlier.error_px ? ` · ${outlier.error_px.toFixed(2)} px off` : ""}`
        : model.deleted.has(track.id)
          ? "deleted"
          : "not solved";
    const against = point || !errors.length ? "" : " · error against the place that suits it best";
    this.byId("track-view-reading").textContent = `track ${id} · frames ${track.first} to ${last} · ${words}${against}`;
    const image = this.byId("track-patches"),
      address = model.url(`tracks/${id}/patches.jpg?run=${model.heldTracks}`);
    if (image.getAttribute("src") !== address) image.src = address;
    this.paint(errors, track.first, last);
  }

  /** @param {{frame: number, error_px: number}[]} errors @param {number} first @param {number} last */
  paint(errors, first, last) {
    const canvas = this.byId("track-error"),
      g = canvas.getContext("2d"),
      dense = window.devicePixelRatio || 1;
    const w = canvas.clientWidth || 300,
      h = 64;
    canvas.width = w * dense;
    canvas.height = h * dense;
    g.setTransform(dense, 0, 0, dense, 0, 0);
    g.clearRect(0, 0, w, h);
    g.font = "11px JetBrains Mono, monospace";
    g.fillStyle = colours.dust;
    if (!errors.length) {
      g.fillText("no place in the scene", 4, 36);
      return;
    }
    const most = Math.max(0.1, ...errors.map((e) => e.error_px)),
      cell = (w - 8) / (last - first + 1);
    const x = (/** @type {number} */ f) => 4 + (f - first) * cell;
    for (const { frame, error_px } of errors) {
      const height = (error_px / most) * (h - 18);
      g.fillStyle = ramp(error_px / (this.model.state.width / 1280));
      g.fillRect(x(frame), h - 2 - height, Math.max(cell, 0.6), height);
    }
    g.fillStyle = colours.lichen;
    g.fillText(`${most.toFixed(2)} px`, 4, 11);
    if (this.model.frame >= first && this.model.frame <= last) {
      g.fillStyle = colours.bone;
      g.fillRect(x(this.model.frame), 14, 1, h - 16);
    }
  }

  /** The frame of the curve under the pointer. @param {MouseEvent} event */
  frameAt(event) {
    const track = this.model.tracks.find((t) => t.id === this.id),
      box = /** @type {HTMLElement} */ (event.target).getBoundingClientRect();
    return track
      ? track.first + Math.floor(((event.clientX - box.left - 4) / (box.width - 8)) * (track.xy.length / 2))
      : this.model.frame;
  }
}
