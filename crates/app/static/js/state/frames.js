// @ts-check
/** Frames: fetched ahead as compressed pictures, decoded just before they are shown, and no more of them than fit. */

const AHEAD_DECODED = 14;
const PARALLEL = 2;
/** Rough pictures ahead of the wanted one that are on their way while frames run. */
const SKETCHED = 1;
/** Bytes of compressed pictures that a page holds. */
export const BUDGET_BYTES = 256 * 1024 * 1024;
/** Frames behind the playhead that are kept as if they were as near as those ahead: people step back. */
const BEHIND = 12;

export class Frames {
  /**
   * @param {(frame: number, quick: boolean) => string} address where a frame is; a quick one may be rougher
   * @param {() => void} onReady
   * @param {number} [budget] bytes
   */
  constructor(address, onReady, budget = BUDGET_BYTES) {
    this.address = address;
    this.budget = budget;
    /** Bytes that are held. */ this.bytes = 0;
    /** Rough pictures of frames near the wanted one. @type {Map<number, ImageBitmap>} */ this.quick = new Map();
    /** Frames of which one is on its way. @type {Set<number>} */ this.sketching = new Set();
    /**
     * What was shown last; it stays until something newer can be.
     * @type {{frame: number, bitmap: ImageBitmap, retired: boolean}|null}
     */
    this.shown = null;
    this.onReady = onReady;
    /** Whether nothing new is fetched, since something else is in a hurry. */ this.waits = () => false;
    /** Whether the frames after the wanted one are wanted soon. */ this.runs = () => false;
    /** @type {Map<number, Blob>} */ this.blobs = new Map();
    /** @type {Map<number, ImageBitmap>} */ this.bitmaps = new Map();
    /** @type {Map<number, Promise<ImageBitmap|null>>} */ this.decoding = new Map();
    /** @type {Set<number>} */ this.failed = new Set();
    this.count = 0;
    this.busy = 0;
    this.wanted = 0;
    this.epoch = 0;
  }

  /** Begins anew, for other frames or another state of the shot. @param {number} count */
  reset(count) {
    this.epoch++;
    this.count = count;
    this.blobs.clear();
    this.bytes = 0;
    this.failed.clear();
    this.decoding.clear();
    for (const bitmap of this.bitmaps.values()) this.retire(bitmap);
    this.bitmaps.clear();
    for (const bitmap of this.quick.values()) this.retire(bitmap);
    this.quick.clear();
    this.sketching.clear();
    this.pump();
  }

  /** A rough picture at once, while the exact one is being made. @param {number} frame */
  async sketch(frame) {
    const address = this.address(frame, true);
    if (this.quick.has(frame) || this.sketching.has(frame) || this.blobs.has(frame) || frame >= this.count) return;
    if (address === this.address(frame, false)) return;
    const epoch = this.epoch;
    this.sketching.add(frame);
    const response = await fetch(address).catch(() => null);
    const bitmap = response?.ok ? await createImageBitmap(await response.blob()).catch(() => null) : null;
    // Of a state that is gone, nothing is noted any more.
    if (epoch !== this.epoch) {
      bitmap?.close();
      return;
    }
    // One that failed is not asked for again until the wanted frame is another.
    if (!bitmap) return;
    this.sketching.delete(frame);
    if (!this.near(frame)) {
      bitmap.close();
      return;
    }
    this.quick.set(frame, bitmap);
    if (this.wanted === frame) this.onReady();
  }

  /** Whether a rough picture of a frame may still be seen. @param {number} frame */
  near(frame) {
    return frame >= this.wanted && frame <= this.wanted + SKETCHED;
  }

  /** @param {number} frame */
  ready(frame) {
    return this.blobs.has(frame);
  }

  /** The picture if it is decoded; asks for it and those after it if not. @param {number} frame */
  now(frame) {
    this.wanted = frame;
    for (let i = 0; i < AHEAD_DECODED && frame + i < this.count; i++) this.decode(frame + i);
    for (const [f, bitmap] of this.bitmaps) {
      if (f < frame - 4 || f > frame + 2 * AHEAD_DECODED) {
        this.retire(bitmap);
        this.bitmaps.delete(f);
        this.decoding.delete(f);
      }
    }
    for (const [f, bitmap] of this.quick) {
      if (this.near(f)) continue;
      this.retire(bitmap);
      this.quick.delete(f);
    }
    for (const f of this.sketching) if (!this.near(f)) this.sketching.delete(f);
    for (let i = 0; i <= (this.runs() ? SKETCHED : 0); i++) this.sketch(frame + i);
    this.pump();
    const bitmap = this.bitmaps.get(frame) ?? this.quick.get(frame) ?? null;
    if (bitmap && bitmap !== this.shown?.bitmap) {
      if (this.shown?.retired) this.shown.bitmap.close();
      this.shown = { frame, bitmap, retired: false };
    }
    return bitmap;
  }

  /** Lets a picture go, unless it is the one that is seen. @param {ImageBitmap} bitmap */
  retire(bitmap) {
    if (bitmap === this.shown?.bitmap) this.shown.retired = true;
    else bitmap.close();
  }

  /** @param {number} frame */
  decode(frame) {
    const blob = this.blobs.get(frame);
    if (!blob || this.decoding.has(frame)) return;
    const epoch = this.epoch;
    const work = createImageBitmap(blob).then(
      (bitmap) => {
        if (epoch !== this.epoch) {
          bitmap.close();
          return null;
        }
        this.bitmaps.set(frame, bitmap);
        if (frame === this.wanted) this.onReady();
        return bitmap;
      },
      () => null,
    );
    this.decoding.set(frame, work);
  }

  /** Fetches the wanted frame first, then those after it, then those before. */
  pump() {
    while (this.busy < PARALLEL && !this.waits()) {
      const frame = this.next();
      if (frame === null) return;
      this.busy++;
      this.fetch(frame, this.epoch).finally(() => {
        this.busy--;
        this.pump();
      });
      this.fetching.add(frame);
    }
  }

  fetching = new Set();

  /** How soon a frame is needed: those ahead first, then round to those before. @param {number} frame */
  distance(frame) {
    return (frame - this.wanted + BEHIND + this.count) % this.count;
  }

  /** The frame that is fetched next; null where all that fit are there. */
  next() {
    for (let i = 0; i < this.count; i++) {
      const frame = (this.wanted + i) % this.count;
      if (this.blobs.has(frame) || this.failed.has(frame) || this.fetching.has(frame)) continue;
      // Where there is no room, what is needed later makes some.
      return this.bytes < this.budget || this.distance(this.farthest()) > this.distance(frame) ? frame : null;
    }
    return null;
  }

  /** The frame that is held and needed last. */
  farthest() {
    let far = this.wanted;
    for (const frame of this.blobs.keys()) if (this.distance(frame) > this.distance(far)) far = frame;
    return far;
  }

  /** @param {number} frame @param {Blob} blob */
  hold(frame, blob) {
    this.blobs.set(frame, blob);
    this.bytes += blob.size;
    while (this.bytes > this.budget && this.blobs.size > 1) {
      const far = this.farthest();
      if (far === this.wanted) break;
      this.bytes -= this.blobs.get(far)?.size ?? 0;
      this.blobs.delete(far);
    }
  }

  /** @param {number} frame @param {number} epoch */
  async fetch(frame, epoch) {
    try {
      const response = await fetch(this.address(frame, false));
      if (epoch !== this.epoch) return;
      if (!response.ok) {
        this.failed.add(frame);
        return;
      }
      const blob = await response.blob();
      if (epoch !== this.epoch) return;
      this.hold(frame, blob);
      if (Math.abs(frame - this.wanted) < AHEAD_DECODED) this.decode(frame);
      this.onReady();
    } catch {
      if (epoch === this.epoch) this.failed.add(frame);
    } finally {
      this.fetching.delete(frame);
    }
  }
}
