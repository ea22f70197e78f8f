// The waveform of the chosen sound around the playhead, and every sync point above it.
import { columns } from "/static/wave.js";
import { onAxis, own } from "./axis.js";

/** @param {HTMLElement} element @param {string} name */
const colour = (element, name) => getComputedStyle(element).getPropertyValue(name).trim();

/** @typedef {{ at: number, span: number, tall: boolean, shift: number, channel: number,
 *   sounds: { id: number, map: import("./axis.js").Pieces, rate: number, begins: number, ends: number }[],
 *   range: [number, number] | null }} View */

/** @param {HTMLCanvasElement} canvas @param {any} state @param {View} view @param {() => void} again */
export const drawWave = (canvas, state, view, again) => {
  const ratio = Math.max(1, window.devicePixelRatio || 1);
  const width = Math.round(canvas.clientWidth * ratio),
    height = Math.round(canvas.clientHeight * ratio);
  if (!width || !height) return;
  if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, { width, height });
  const pen = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  const [ink, quiet, accent, rule, band] = ["--ink", "--quiet", "--accent", "--rule", "--band"].map((name) =>
    colour(canvas, name),
  );
  pen.clearRect(0, 0, width, height);
  const left = view.at - view.span / 2;
  const x = (/** @type {number} */ at) => ((at - left) / view.span) * width;
  const time = (/** @type {number} */ column) => left + (column / width) * view.span;
  if (view.range) {
    pen.fillStyle = band;
    pen.fillRect(x(view.range[0]), 0, x(view.range[1]) - x(view.range[0]), height);
  }
  const perFrame = width / view.span / state.fps;
  if (perFrame > 5 * ratio) {
    pen.fillStyle = rule;
    for (let frame = Math.ceil(left * state.fps); frame <= (left + view.span) * state.fps; frame += 1)
      pen.fillRect(Math.round(x(frame / state.fps)), 14 * ratio, ratio, height);
  }
  const top = 16 * ratio,
    middle = top + (height - top) / 2,
    half = (height - top) / 2;
  pen.fillStyle = ink;
  for (const sound of view.sounds) {
    if (sound.ends + view.shift < left || sound.begins + view.shift > left + view.span) continue;
    const found = columns(
      sound.id,
      view.channel,
      (column) => own(sound.map, time(column) - view.shift) * sound.rate,
      width,
      again,
    );
    let loudest = 200;
    if (!view.tall) loudest = 32768;
    else
      for (let i = 0; i < width; i += 1)
        loudest = Math.max(loudest, Math.abs(found.low[i]) || 0, Math.abs(found.high[i]) || 0);
    for (let i = 0; i < width; i += 1) {
      if (Number.isNaN(found.low[i])) continue;
      // Quiet and loud alike: the height is a root of the level unless it is asked to fill.
      const scaled = (/** @type {number} */ value) =>
        (view.tall ? value / loudest : Math.sign(value) * Math.sqrt(Math.abs(value) / loudest)) * half;
      const high = middle - scaled(found.high[i]),
        low = middle - scaled(found.low[i]);
      pen.fillRect(i, high - 0.5, 1, Math.max(ratio, low - high));
    }
  }
  pen.font = `${11 * ratio}px B612, sans-serif`;
  let free = -Infinity;
  for (const point of state.points) {
    const at = onAxis(point.map, point.own);
    if (at < left || at > left + view.span) continue;
    pen.strokeStyle = point.sure ? accent : quiet;
    pen.lineWidth = ratio;
    pen.setLineDash(point.sure ? [] : [3 * ratio, 3 * ratio]);
    pen.beginPath();
    pen.moveTo(x(at), 4 * ratio);
    pen.lineTo(x(at), height);
    pen.stroke();
    pen.setLineDash([]);
    const words = `${point.tag} ${point.name || point.kind}`;
    if (x(at) < free) continue;
    pen.fillStyle = quiet;
    pen.fillText(words, x(at) + 3 * ratio, 11 * ratio);
    free = x(at) + pen.measureText(words).width + 8 * ratio;
  }
  pen.fillStyle = accent;
  pen.fillRect(Math.round(x(view.at)) - ratio, 0, 2 * ratio, height);
};
