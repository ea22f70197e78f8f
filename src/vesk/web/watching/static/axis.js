// The axis of a moment: where each recording lies on it, and which label a frame has.

/** Pieces of a map: from which own second on it holds, offset and rate of the axis.
 * @typedef {[number | null, number, number][]} Pieces */

/** Own seconds that lie at a time of the axis; where two do, the later.
 * @param {Pieces} pieces @param {number} at */
export const own = (pieces, at) => {
  for (let k = pieces.length - 1; k > 0; k -= 1) {
    const [from, offset, rate] = pieces[k];
    const found = (at - offset) / rate;
    if (found >= /** @type {number} */ (from)) return found;
  }
  return (at - pieces[0][1]) / pieces[0][2];
};

/** Where a recording's own second lies on the axis.
 * @param {Pieces} pieces @param {number} second */
export const onAxis = (pieces, second) => {
  let piece = pieces[0];
  for (const one of pieces) if (one[0] === null || second >= one[0]) piece = one;
  return piece[1] + piece[2] * second;
};

/** Pieces moved later on the axis.
 * @param {Pieces} pieces @param {number} by seconds @returns {Pieces} */
export const moved = (pieces, by) => pieces.map(([from, offset, rate]) => [from, offset + by, rate]);

/** The frame shown at a time of the axis.
 * @param {{ map: Pieces, fps: number }} picture @param {number} at */
export const frameAt = (picture, at) => Math.floor(own(picture.map, at) * picture.fps + 1e-4);

const two = (/** @type {number} */ value) => String(value).padStart(2, "0");

/** The label of a frame counted from midnight (SMPTE ST 12-1).
 * @param {number} frame @param {{ nominal: number, drop: boolean }} rate */
export const label = (frame, rate) => {
  const { nominal, drop } = rate;
  const skipped = drop ? Math.round(nominal / 15) : 0;
  const inTen = nominal * 600 - 9 * skipped;
  const day = drop ? inTen * 144 : nominal * 86400;
  let count = ((frame % day) + day) % day;
  if (drop) {
    const tens = Math.floor(count / inTen),
      rest = count % inTen,
      first = nominal * 60;
    const minutes = rest < first ? 0 : 1 + Math.floor((rest - first) / (first - skipped));
    count += skipped * (9 * tens + minutes);
  }
  const seconds = Math.floor(count / nominal);
  const clock = [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60, seconds % 60].map(two).join(":");
  return `${clock}${drop ? ";" : ":"}${two(count % nominal)}`;
};

/** The day's label at a time of the axis, or its seconds where the day has no place for it.
 * @param {{ start: number | null, clock: { fps: number, nominal: number, drop: boolean } }} state
 * @param {number} at */
export const dayLabel = (state, at) =>
  state.start === null ? `${at.toFixed(2)} s` : label(Math.floor((state.start + at) * state.clock.fps + 1e-4), state.clock);
