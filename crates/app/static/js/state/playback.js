// @ts-check
/** Playing at the clip's rate; a frame that is not there yet is waited for. */

export class Playback {
  /**
   * @param {import("./model.js").Model} model
   * @param {import("./frames.js").Frames} frames
   * @param {(reading: string) => void} tell how fast it goes
   */
  constructor(model, frames, tell) {
    this.model = model;
    this.frames = frames;
    this.tell = tell;
    this.began = 0;
    this.from = 0;
    this.dropped = 0;
  }

  /** @param {boolean} on */
  play(on) {
    const { model } = this;
    if (on && model.frame >= model.state.frames - 1) model.go(0);
    model.playing = on;
    model.dispatchEvent(new Event("playing"));
    if (!on) return;
    this.began = performance.now();
    this.from = model.frame;
    this.dropped = 0;
    requestAnimationFrame((time) => this.tick(time));
  }

  toggle() {
    this.play(!this.model.playing);
  }

  /** @param {number} time */
  tick(time) {
    const { model, frames } = this;
    if (!model.playing) return;
    const [per, s] = model.state.rate;
    const due = this.from + Math.floor(((time - this.began) / 1000) * (per / s));
    const next = Math.min(due, model.state.frames - 1);
    if (next > model.frame) {
      // What is not decoded yet is waited for: the clock stands until it is there.
      if (frames.now(model.frame + 1) || frames.failed.has(model.frame + 1)) {
        this.dropped += next - model.frame - 1;
        model.go(next);
      } else {
        this.began = time;
        this.from = model.frame;
      }
      const seconds = Math.max((time - this.began) / 1000, 1e-3);
      this.tell(`${((model.frame - this.from) / seconds).toFixed(1)} fps · ${this.dropped} dropped`);
    }
    if (model.frame >= model.state.frames - 1) this.play(false);
    else requestAnimationFrame((again) => this.tick(again));
  }
}
