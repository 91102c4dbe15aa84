// @ts-check
/** The scene from outside: points, camera path, inserts. */
import { centre } from "./camera.js";
import { ramp } from "./ramp.js";

/**
 * @param {CanvasRenderingContext2D} g @param {number} w @param {number} h
 * @param {import("./model.js").Model} model @param {string} kind
 * @param {{yaw: number, pitch: number, zoom: number}} orbit @param {(name: string) => string} colour
 */
export function drawScene(g, w, h, model, kind, orbit, colour) {
  const path = model.cameras.filter(Boolean).map((c) => centre(/** @type {any} */ (c)));
  if (!path.length) return;
  const yaw = kind === "top" ? 0 : kind === "side" ? Math.PI / 2 : orbit.yaw, pitch = kind === "top" ? Math.PI / 2 : kind === "side" ? 0 : orbit.pitch;
  const [cy, sy, cp, sp] = [Math.cos(yaw), Math.sin(yaw), Math.cos(pitch), Math.sin(pitch)];
  const turn = (/** @type {number[]} */ [x, y, z]) => {
    const u = cy * x - sy * z, v = sy * x + cy * z;
    return [u, -(cp * y - sp * v)];
  };
  // The middle half of the points sets the size; a few far ones must not shrink the rest.
  const flat = model.points.map((p) => turn(p.x)).concat(path.map(turn));
  const spread = (/** @type {number} */ k) => { const s = flat.map((p) => p[k]).sort((a, b) => a - b); return [s[Math.floor(s.length * 0.06)], s[Math.floor(s.length * 0.94)]]; };
  const [x0, x1] = spread(0), [y0, y1] = spread(1);
  const size = 0.8 * Math.min(w / Math.max(x1 - x0, 1e-6), h / Math.max(y1 - y0, 1e-6)) * orbit.zoom;
  const place = (/** @type {number[]} */ p) => { const [x, y] = turn(p); return [w / 2 + (x - (x0 + x1) / 2) * size, h / 2 + (y - (y0 + y1) / 2) * size]; };
  if (model.state.floor) {
    g.strokeStyle = colour("line");
    g.lineWidth = 1;
    const reach = (x1 - x0) / 2, step = 10 ** Math.round(Math.log10(reach / 4));
    for (let i = -10; i <= 10; i++) {
      for (const [a, b] of [[[i, -10], [i, 10]], [[-10, i], [10, i]]]) {
        const [ax, ay] = place([a[0] * step, 0, a[1] * step]), [bx, by] = place([b[0] * step, 0, b[1] * step]);
        g.beginPath(); g.moveTo(ax, ay); g.lineTo(bx, by); g.stroke();
      }
    }
  }
  for (const p of model.points) {
    const [x, y] = place(p.x), picked = model.selected.has(p.id);
    g.fillStyle = picked ? colour("sand") : ramp((p.rms * 1280) / model.state.width);
    g.fillRect(x - 1, y - 1, picked ? 5 : 2, picked ? 5 : 2);
  }
  g.strokeStyle = colour("bone");
  g.beginPath();
  path.forEach((p, i) => { const [x, y] = place(p); if (i) g.lineTo(x, y); else g.moveTo(x, y); });
  g.stroke();
  const camera = model.camera();
  if (camera) {
    const [x, y] = place(centre(camera));
    g.fillStyle = colour("bone");
    g.fillRect(x - 4, y - 3, 8, 6);
  }
  g.strokeStyle = colour("sand");
  for (const insert of model.state.inserts) {
    const [x, y] = place(insert.placement.foot);
    g.beginPath(); g.moveTo(x, y - 8); g.lineTo(x + 6, y + 3); g.lineTo(x - 6, y + 3); g.closePath(); g.stroke();
  }
}
