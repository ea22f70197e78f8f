// Waveform data: peaks at powers of two, and single samples where the zoom shows them. Fetched in chunks, kept.

const FIRST = 5,
  LAST = 17,
  CHUNK = 2048,
  AGAIN_MS = 2000; // what was refused is asked for again no sooner: it is computed in between
/** @type {Map<string, Int16Array | Promise<void>>} */
const kept = new Map();

/** @param {string} url @param {() => void} arrived */
const chunk = (url, arrived) => {
  const have = kept.get(url);
  if (have instanceof Int16Array) return have;
  if (!have) {
    kept.set(
      url,
      fetch(url)
        .then(async (response) => {
          if (!response.ok) throw new Error(String(response.status));
          kept.set(url, new Int16Array(await response.arrayBuffer()));
          arrived();
        })
        .catch(() => {
          setTimeout(() => {
            kept.delete(url);
            arrived();
          }, AGAIN_MS);
        }),
    );
  }
  return null;
};

/** Lowest and highest value of each pixel column, or null where data has not arrived.
 * @param {number} recording @param {number} channel
 * @param {(column: number) => number} sampleAt sample position at a column's left edge
 * @param {number} columns @param {() => void} arrived called when missing data came
 * @returns {{ low: Float32Array, high: Float32Array, single: boolean }} */
export const columns = (recording, channel, sampleAt, columns, arrived) => {
  const low = new Float32Array(columns).fill(NaN),
    high = new Float32Array(columns).fill(NaN);
  const each = (sampleAt(columns) - sampleAt(0)) / columns;
  const single = each < 1 << FIRST;
  const level = single ? 0 : Math.min(LAST, Math.max(FIRST, Math.floor(Math.log2(each))));
  const size = single ? 1 : 2 ** level;
  const at = (/** @type {number} */ index) => {
    if (index < 0) return null; // nothing was recorded there
    const part = Math.floor(index / CHUNK);
    const range = `channel=${channel}&start=${part * CHUNK}&count=${CHUNK}${single ? "" : `&level=${level}`}`;
    const base = `/media/${recording}/${single ? "samples" : "peaks"}?${range}`;
    const data = chunk(base, arrived);
    if (!data) return null;
    const k = index - part * CHUNK;
    return single ? [data[k], data[k]] : [data[2 * k], data[2 * k + 1]];
  };
  for (let column = 0; column < columns; column += 1) {
    const first = Math.floor(sampleAt(column) / size),
      last = Math.max(first, Math.ceil(sampleAt(column + 1) / size) - 1);
    for (let index = first; index <= last; index += 1) {
      const pair = at(index);
      if (!pair) continue;
      if (!(pair[0] >= low[column])) low[column] = pair[0];
      if (!(pair[1] <= high[column])) high[column] = pair[1];
    }
  }
  return { low, high, single };
};

/** Single samples between two positions: [position, value] pairs, for zooms where each has room.
 * @param {number} recording @param {number} channel @param {number} from @param {number} to
 * @param {() => void} arrived */
export const points = (recording, channel, from, to, arrived) => {
  const out = [];
  for (let index = Math.floor(from) - 1; index <= Math.ceil(to) + 1; index += 1) {
    const part = Math.floor(index / CHUNK);
    const data = chunk(
      `/media/${recording}/samples?channel=${channel}&start=${part * CHUNK}&count=${CHUNK}`,
      arrived,
    );
    if (data) out.push([index, data[index - part * CHUNK]]);
  }
  return out;
};
