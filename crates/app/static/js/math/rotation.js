// @ts-check
/** Rotations as unit quaternions x, y, z, w. No DOM; run by `node --test`. */

/** @typedef {number[]} Quaternion */

/** First `b`, then `a`. @param {Quaternion} a @param {Quaternion} b @returns {Quaternion} */
export function times([ax, ay, az, aw], [bx, by, bz, bw]) {
  return [
    aw * bx + ax * bw + ay * bz - az * by,
    aw * by - ax * bz + ay * bw + az * bx,
    aw * bz + ax * by - ay * bx + az * bw,
    aw * bw - ax * bx - ay * by - az * bz,
  ];
}

/** @param {Quaternion} q @returns {Quaternion} */
export const inverse = ([x, y, z, w]) => [-x, -y, -z, w];

/** A turn about an axis, by its length, radians. @param {number[]} axis @returns {Quaternion} */
export function fromAxis([x, y, z]) {
  const angle = Math.hypot(x, y, z),
    s = angle > 1e-12 ? Math.sin(angle / 2) / angle : 0.5;
  return [x * s, y * s, z * s, Math.cos(angle / 2)];
}

/** The axis of a turn, by its length, radians; the shorter way round. @param {Quaternion} q */
export function toAxis(q) {
  const [x, y, z, w] = q[3] < 0 ? q.map((v) => -v) : q;
  const s = Math.hypot(x, y, z),
    k = s > 1e-12 ? (2 * Math.atan2(s, w)) / s : 2;
  return [x * k, y * k, z * k];
}

/** A vector turned. @param {Quaternion} q @param {number[]} v */
export function turned(q, [x, y, z]) {
  const [a, b, c] = times(times(q, [x, y, z, 0]), inverse(q));
  return [a, b, c];
}
