// Draws one window: scratch above, production below, frame lines, and where both should meet.
import { columns, points } from "/static/wave.js";

/** @typedef {{ offset_s: number, rate: number }} Laid
 * @typedef {{ at: number, span: number, shift: number, channel: number, playhead: number | null,
 *   error: number | null, laid: Laid }} View */

/** @param {HTMLElement} element @param {string} name */
const colour = (element, name) => getComputedStyle(element).getPropertyValue(name).trim();

/** @type {Map<string, CanvasPattern | null>} */
const hatches = new Map();
/** @param {CanvasRenderingContext2D} pen @param {string} ink @param {number} ratio */
const hatch = (pen, ink, ratio) => {
  const key = `${ink}${ratio}`;
  if (!hatches.has(key)) {
    const tile = document.createElement("canvas");
    const size = 5 * ratio;
    tile.width = tile.height = size;
    const own = /** @type {CanvasRenderingContext2D} */ (tile.getContext("2d"));
    own.strokeStyle = ink;
    own.lineWidth = 1.5 * ratio;
    own.beginPath();
    for (const shift of [-size, 0, size]) {
      own.moveTo(shift, size);
      own.lineTo(shift + size, 0);
    }
    own.stroke();
    hatches.set(key, pen.createPattern(tile, "repeat"));
  }
  return hatches.get(key) ?? ink;
};

/** Draw one sound between two heights.
 * @param {CanvasRenderingContext2D} pen
 * @param {{ id: number, rate: number, samples: number }} sound
 * @param {number} channel
 * @param {(column: number) => number} sampleAt
 * @param {{ width: number, top: number, height: number, ratio: number, fill: string | CanvasPattern,
 *   ink: string }} where
 * @param {() => void} again */
const wave = (pen, sound, channel, sampleAt, where, again) => {
  const { width, top, height, ratio } = where;
  const middle = top + height / 2;
  const each = (sampleAt(width) - sampleAt(0)) / width;
  const fine = each < 0.5;
  const found = fine ? null : columns(sound.id, channel, sampleAt, width, again);
  const list = fine ? points(sound.id, channel, sampleAt(0), sampleAt(width), again) : [];
  // Each window is drawn at the gain that shows it: sync is seen in shape, not in level.
  let loudest = 300;
  if (found)
    for (let i = 0; i < width; i += 1)
      loudest = Math.max(loudest, Math.abs(found.low[i]) || 0, Math.abs(found.high[i]) || 0);
  for (const [, value] of list) loudest = Math.max(loudest, Math.abs(value));
  const scale = (height / 2 - 2 * ratio) / loudest;
  pen.strokeStyle = where.ink;
  pen.lineWidth = ratio;
  pen.globalAlpha = 0.35;
  pen.beginPath();
  pen.moveTo(0, middle);
  pen.lineTo(width, middle);
  pen.stroke();
  pen.globalAlpha = 1;
  if (fine) {
    const x = (/** @type {number} */ sample) => (sample - sampleAt(0)) / each;
    pen.beginPath();
    list.forEach(([sample, value], index) => {
      const y = middle - value * scale;
      if (index) pen.lineTo(x(sample), y);
      else pen.moveTo(x(sample), y);
    });
    pen.stroke();
    if (each < 0.2)
      for (const [sample, value] of list) {
        pen.fillStyle = where.ink;
        pen.fillRect(x(sample) - 1.5 * ratio, middle - value * scale - 1.5 * ratio, 3 * ratio, 3 * ratio);
      }
    return;
  }
  if (!found) return;
  pen.fillStyle = where.fill;
  pen.beginPath();
  let open = false;
  for (let i = 0; i < width; i += 1) {
    if (Number.isNaN(found.low[i])) continue;
    const y = middle - found.high[i] * scale - 0.5 * ratio;
    if (open) pen.lineTo(i, y);
    else pen.moveTo(i, y);
    open = true;
  }
  for (let i = width - 1; i >= 0; i -= 1)
    if (!Number.isNaN(found.low[i])) pen.lineTo(i, middle - found.low[i] * scale + 0.5 * ratio);
  pen.closePath();
  pen.fill();
  if (typeof where.fill !== "string") {
    pen.lineWidth = 0.75 * ratio;
    pen.stroke();
  }
};

/** @param {HTMLCanvasElement} canvas @param {any} state the bench's state
 * @param {View} view @param {() => void} again */
export const draw = (canvas, state, view, again) => {
  const ratio = Math.max(1, window.devicePixelRatio || 1);
  const width = Math.round(canvas.clientWidth * ratio),
    height = Math.round(canvas.clientHeight * ratio);
  if (!width || !height) return;
  if (canvas.width !== width || canvas.height !== height) {
    canvas.width = width;
    canvas.height = height;
  }
  const pen = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  const ink = colour(canvas, "--ink"),
    quiet = colour(canvas, "--quiet"),
    accent = colour(canvas, "--accent"),
    rule = colour(canvas, "--rule"),
    late = colour(canvas, "--late");
  pen.clearRect(0, 0, width, height);
  const left = view.at - view.span / 2;
  const time = (/** @type {number} */ column) => left + (column / width) * view.span;
  const x = (/** @type {number} */ at) => ((at - left) / view.span) * width;
  // Frame lines, while they lie apart.
  const perFrame = width / view.span / state.fps;
  if (perFrame > 5 * ratio) {
    pen.strokeStyle = rule;
    pen.lineWidth = ratio;
    for (let frame = Math.ceil(left * state.fps); frame <= (left + view.span) * state.fps; frame += 1) {
      const at = Math.round(x(frame / state.fps)) + 0.5;
      pen.beginPath();
      pen.moveTo(at, 0);
      pen.lineTo(at, height);
      pen.stroke();
    }
  }
  const gap = 16 * ratio,
    half = (height - gap) / 2;
  const { picture, sound } = state;
  const laid = view.laid;
  pen.font = `${11 * ratio}px B612, sans-serif`;
  if (picture.channels) {
    // What the camera hears is late by distance and delay: drawn where it belongs on the picture.
    wave(
      pen,
      picture,
      picture.channel ?? 0,
      (column) => (time(column) + state.late_s) * picture.rate,
      { width, top: gap * 0.75, height: half - gap * 0.5, ratio, fill: ink, ink },
      again,
    );
  }
  wave(
    pen,
    sound,
    view.channel,
    (column) => ((time(column) - view.shift - laid.offset_s) / laid.rate) * sound.rate,
    { width, top: half + gap * 1.2, height: half - gap * 0.5, ratio, fill: hatch(pen, ink, ratio), ink },
    again,
  );
  pen.fillStyle = quiet;
  pen.fillText(picture.channels ? "scratch" : "no scratch sound", 4 * ratio, 11 * ratio);
  pen.fillText("production", 4 * ratio, half + 14 * ratio);
  // Here: the moment the window is about; dashed: where the production sound of that moment sits now.
  pen.strokeStyle = accent;
  pen.lineWidth = 1.5 * ratio;
  pen.beginPath();
  pen.moveTo(x(view.at), 0);
  pen.lineTo(x(view.at), height);
  pen.stroke();
  const error = view.error;
  if (error !== null) {
    const at = x(view.at + error + view.shift);
    if (at >= 0 && at <= width) {
      pen.strokeStyle = late;
      pen.setLineDash([4 * ratio, 3 * ratio]);
      pen.beginPath();
      pen.moveTo(at, half + gap * 0.6);
      pen.lineTo(at, height);
      pen.stroke();
      pen.setLineDash([]);
    }
  }
  if (view.playhead !== null) {
    const at = x(view.playhead);
    pen.strokeStyle = ink;
    pen.lineWidth = ratio;
    pen.beginPath();
    pen.moveTo(at, 0);
    pen.lineTo(at, height);
    pen.stroke();
  }
};
