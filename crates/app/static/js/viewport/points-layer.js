// @ts-check
/** Many points at once: written into a picture by their colours, since a canvas call for each would cost. */
import { ramp } from "./ramp.js";

/** Steps of the ramp. */
const STEPS = 32;

/** The ramp as words of a picture: alpha, blue, green, red. */
function words() {
  return Uint32Array.from({ length: STEPS }, (_, i) => {
    const [r, g, b] = (ramp(i / (STEPS - 1)).match(/\d+/g) ?? ["0", "0", "0"]).map(Number);
    return ((255 << 24) | (b << 16) | (g << 8) | r) >>> 0;
  });
}

export class PointsLayer {
  constructor() {
    /** @type {HTMLCanvasElement|null} */ this.canvas = null;
    /** @type {ImageData|null} */ this.image = null;
    /** @type {Uint32Array} */ this.ramp = words();
    /** The points that the arrays are of. @type {object[]|null} */ this.points = null;
    this.places = new Float32Array(0);
    this.tones = new Uint8Array(0);
  }

  /** @param {import("../state/model.js").Model} model */
  take({ points, state }) {
    if (points === this.points) return;
    this.points = points;
    this.places = new Float32Array(3 * points.length);
    this.tones = new Uint8Array(points.length);
    points.forEach((p, i) => {
      this.places.set(p.x, 3 * i);
      const share = Math.min(Math.max((p.rms * 1280) / state.width, 0), 1);
      this.tones[i] = Math.round(share * (STEPS - 1));
    });
  }

  /**
   * @param {CanvasRenderingContext2D} g @param {import("../state/model.js").Model} model
   * @param {{right: number[], up: number[], scale: number, x: number, y: number}} at @param {number} w @param {number} h
   * @param {number} size px
   */
  paint(g, model, { right, up, scale, x, y }, w, h, size) {
    this.take(model);
    const [wide, high] = [Math.max(Math.round(w), 1), Math.max(Math.round(h), 1)];
    if (!this.canvas || !this.image || this.canvas.width !== wide || this.canvas.height !== high) {
      this.canvas = document.createElement("canvas");
      this.canvas.width = wide;
      this.canvas.height = high;
      this.image = new ImageData(wide, high);
    }
    const pixels = new Uint32Array(this.image.data.buffer);
    pixels.fill(0);
    const [rx, ry, rz] = right.map((v) => v * scale),
      [ux, uy, uz] = up.map((v) => v * scale),
      { places, tones } = this,
      half = size >> 1;
    for (let i = 0, k = 0; i < tones.length; i++, k += 3) {
      const px = Math.round(x + places[k] * rx + places[k + 1] * ry + places[k + 2] * rz) - half,
        py = Math.round(y - places[k] * ux - places[k + 1] * uy - places[k + 2] * uz) - half;
      if (px < 0 || py < 0 || px + size > wide || py + size > high) continue;
      const word = this.ramp[tones[i]];
      for (let row = py * wide; row < (py + size) * wide; row += wide)
        for (let c = 0; c < size; c++) pixels[row + px + c] = word;
    }
    const draw = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    draw.putImageData(this.image, 0, 0);
    g.drawImage(this.canvas, 0, 0, w, h);
  }
}
