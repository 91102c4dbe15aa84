// @ts-check
/** Two solves side by side, in words. No DOM; run by `node --test`. */

/**
 * @typedef {{frame: number, rms: number, f: number}} Reading
 * @param {Reading[]} now the solve in use @param {Reading[]} other
 */
export function compared(now, other) {
  const of = (/** @type {Reading[]} */ list) => new Map(list.map((r) => [r.frame, r]));
  const a = of(now),
    b = of(other);
  let better = 0,
    both = 0,
    most = 0,
    at = -1,
    focal = 0;
  for (const [frame, x] of a) {
    const y = b.get(frame);
    if (!y) continue;
    both++;
    if (y.rms < x.rms) better++;
    if (Math.abs(y.rms - x.rms) >= most) {
      most = Math.abs(y.rms - x.rms);
      at = frame;
    }
    focal = Math.max(focal, Math.abs(y.f / x.f - 1));
  }
  if (!both) return "The two have no frame in common.";
  const px = (/** @type {Reading|undefined} */ r) => r?.rms.toFixed(2);
  return [
    `lower error on ${better} of ${both} frames`,
    `differs most on frame ${at}: ${px(b.get(at))} against ${px(a.get(at))} px`,
    `focal length apart by up to ${(100 * focal).toFixed(2)} %`,
  ].join(" · ");
}
