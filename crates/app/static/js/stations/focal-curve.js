// @ts-check
/** The focal length over the clip: that of the camera in use, and of another solve beside it. */

/** @typedef {{frame: number, f: number}} Focal */

/** Least part of the focal length that the curve spans, so that a fixed lens is a level line and not its noise. */
const LEAST_SPAN = 0.02;

/** What the curve spans, px, with room above and below. @param {Focal[]} list */
export function focalSpan(list) {
  const values = list.map((k) => k.f),
    least = Math.min(...values),
    most = Math.max(...values);
  const middle = (least + most) / 2,
    half = Math.max((most - least) / 2, (LEAST_SPAN * middle) / 2) * 1.15;
  return { low: least, high: most, from: middle - half, to: middle + half };
}

/** Stretches of frames that follow one another; a gap is not bridged. @param {Focal[]} list */
export function stretches(list) {
  /** @type {Focal[][]} */ const runs = [];
  for (const k of list) {
    const last = runs.at(-1);
    if (last && last[last.length - 1].frame === k.frame - 1) last.push(k);
    else runs.push([k]);
  }
  return runs;
}

/**
 * @param {HTMLCanvasElement} canvas
 * @param {{now: Focal[], other: Focal[], span: {low: number, high: number, from: number, to: number}, frames: number,
 * at: number}} what
 * @param {Record<string, string>} colours
 */
export function paintFocal(canvas, { now, other, span, frames, at }, colours) {
  const g = canvas.getContext("2d"),
    dense = window.devicePixelRatio || 1,
    w = canvas.clientWidth,
    h = canvas.clientHeight;
  if (!g || !w) return;
  canvas.width = w * dense;
  canvas.height = h * dense;
  g.setTransform(dense, 0, 0, dense, 0, 0);
  g.clearRect(0, 0, w, h);
  const x = (/** @type {number} */ frame) => 4 + ((w - 8) * frame) / Math.max(frames - 1, 1);
  const y = (/** @type {number} */ f) => h - 4 - ((h - 8) * (f - span.from)) / (span.to - span.from);
  for (const { list, colour, dash } of [
    { list: other, colour: colours.lichen, dash: [4, 3] },
    { list: now, colour: colours.sand, dash: [] },
  ]) {
    g.strokeStyle = colour;
    g.lineWidth = 1.5;
    g.setLineDash(dash);
    for (const run of stretches(list)) {
      g.beginPath();
      run.forEach((k, i) => (i ? g.lineTo(x(k.frame), y(k.f)) : g.moveTo(x(k.frame), y(k.f))));
      g.stroke();
    }
  }
  g.setLineDash([]);
  g.fillStyle = colours.bone;
  g.globalAlpha = 0.7;
  g.fillRect(x(at), 2, 1, h - 4);
  g.globalAlpha = 1;
  g.font = "11px JetBrains Mono, monospace";
  // Each end of the scale stands on the side on which the curve is far from it.
  const falls = now.length > 0 && now[0].f > now[now.length - 1].f;
  const put = (/** @type {number} */ f, /** @type {boolean} */ left, /** @type {number} */ at) => {
    g.textAlign = left ? "left" : "right";
    const text = f.toFixed(0),
      wide = g.measureText(text).width;
    // The curve may still pass there; it does not strike the figure out.
    g.fillStyle = colours.stone;
    g.fillRect(left ? 2 : w - 6 - wide, at - 10, wide + 4, 13);
    g.fillStyle = colours.dust;
    g.fillText(text, left ? 4 : w - 4, at);
  };
  put(span.high, !falls, 12);
  put(span.low, falls, h - 5);
}
