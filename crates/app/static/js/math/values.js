// @ts-check
/**
 * Numbers as people write them: with a unit, with another unit, as a sum. The server reads the same
 * (engine/quantity.rs).
 */

/** @type {Record<string, Record<string, number>>} what each unit is of the usual one */
const UNITS = {
  length: { m: 1, cm: 0.01, mm: 0.001, km: 1000, ft: 0.3048, in: 0.0254 },
  angle: { deg: 1, "°": 1, rad: 180 / Math.PI, turn: 360 },
  plain: {},
};

/**
 * Reads a number of a measure; null where it is none.
 * @param {string} text
 * @param {string} measure
 * @returns {number|null}
 */
export function readValue(text, measure) {
  let rest = text.trim(),
    sum = 0,
    first = true;
  while (first || rest) {
    const sign = /^[-−+]/.exec(rest)?.[0] ?? (first ? "" : null);
    if (sign === null) return null;
    rest = rest.slice(sign.length).trimStart();
    first = false;
    const number = /^(\d+[.,]?\d*|[.,]\d+)([eE][+-]?\d+)?/.exec(rest)?.[0];
    if (!number) return null;
    rest = rest.slice(number.length).trimStart();
    const unit = /^[\p{L}°]*/u.exec(rest)?.[0] ?? "";
    const factor = unit ? UNITS[measure]?.[unit.toLowerCase()] : 1;
    if (factor === undefined) return null;
    sum += (sign === "-" || sign === "−" ? -1 : 1) * Number(number.replace(",", ".")) * factor;
    rest = rest.slice(unit.length).trimStart();
  }
  return Number.isFinite(sum) ? sum : null;
}

/** A number as a field shows it: three decimals at most. @param {number} value */
export function shownValue(value) {
  const text = value.toFixed(3).replace(/\.?0+$/, "");
  return text === "-0" ? "0" : text;
}
