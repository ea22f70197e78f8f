// The panes: which camera stands where, its due picture painted, what is written over it.
import { dayLabel, frameAt, label, moved, own } from "./axis.js";
import { Copy, Film, exact } from "/static/light_copy.js";

/** @typedef {import("./axis.js").Pieces} Pieces */
/** @typedef {{ id: number, tag: string, device: string, name: string, seconds: number, map: Pieces, begins: number,
 *   ends: number, fps: number, frames: number, off_speed: string, laid_by: string, light: string, problem: string,
 *   percent: number, rate: number, scratch: number | null,
 *   label: { fps: number, nominal: number, drop: boolean, frame: number, each: number } | null,
 *   off: Record<string, { pairing: number, version: number, state: string, at: [number, number][], holds: boolean,
 *     verdict: string, slip: number }> }} Picture */

/** @type {Map<number, Copy | Film | "asked">} */
const copies = new Map();
const AGAIN_MS = 1500; // what is not there is asked for again no sooner
/** Painted pictures counted, for who measures: due ones, and those that were not there in time. */
export const counted = { due: 0, late: 0 };

/** @param {number} recording @param {() => void} arrived */
const copyOf = (recording, arrived) => {
  const have = copies.get(recording);
  if (have) return have === "asked" ? null : have;
  copies.set(recording, "asked");
  Copy.open(recording)
    .then((copy) => {
      if (!copy || !(exact() || copy.index.whole)) setTimeout(() => copies.delete(recording), AGAIN_MS);
      else {
        const made = exact() ? copy : new Film(copy.content, copy.index);
        made.onFrames = arrived;
        copies.set(recording, made);
        arrived();
      }
    })
    .catch(() => setTimeout(() => copies.delete(recording), AGAIN_MS));
  return null;
};

/** Let go of what is not shown any more.
 * @param {Set<number>} shown */
export const keepOnly = (shown) => {
  for (const [recording, copy] of copies)
    if (!shown.has(recording) && copy !== "asked") {
      copy.close();
      copies.delete(recording);
    }
};

const signed = (/** @type {number} */ value) => (value <= -0.005 ? "−" : "+") + Math.abs(value).toFixed(2);

export class Pane {
  /** @param {string} tag @param {Picture[]} pictures of this camera, in time @param {() => void} arrived */
  constructor(tag, pictures, arrived) {
    this.tag = tag;
    this.pictures = pictures;
    this.arrived = arrived;
    this.slip = 0; // on its way to the server: the sound lies that much later on this camera
    this.sent = 0; // of that, what the server was told and has not answered yet
    this.fixed = false; // whether the axis is this camera's own: then the sound moves, not its picture
    this.element = document.createElement("figure");
    this.element.className = "pane";
    this.element.tabIndex = 0;
    this.element.dataset.tag = tag;
    this.element.setAttribute("aria-label", `camera ${tag}`);
    this.element.innerHTML = `<canvas></canvas><p class="absent" hidden></p><img class="detail" alt="" hidden>
      <figcaption><b></b><output class="off"></output><span class="own-label tc"></span><span class="number tc"></span>
      <span class="day-label tc"></span></figcaption>`;
    const part = (/** @type {string} */ name) => /** @type {HTMLElement} */ (this.element.querySelector(name));
    this.canvas = /** @type {HTMLCanvasElement} */ (part("canvas"));
    this.pen = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d", { alpha: false }));
    this.absent = part(".absent");
    this.detail = /** @type {HTMLImageElement} */ (part(".detail"));
    this.written = { off: part(".off"), own: part(".own-label"), number: part(".number"), day: part(".day-label") };
    part("b").textContent = tag;
    this.painted = "";
    this.still = "";
  }

  /** The recording that runs at a time, or the one after.
   * @param {number} at */
  running(at) {
    const here = at + (this.fixed ? 0 : this.slip);
    return {
      now: this.pictures.find((one) => one.begins <= here && here < one.ends),
      next: this.pictures.find((one) => one.begins > here),
    };
  }

  /** A picture as it lies now, a slip on its way included.
   * @param {Picture} picture */
  lying(picture) {
    return this.slip && !this.fixed ? { ...picture, map: moved(picture.map, -this.slip) } : picture;
  }

  /** Paint what is due, and write over it.
   * @param {any} state @param {number} at @param {number} speed @param {string | null} sound @param {boolean} lift */
  paint(state, at, speed, sound, lift) {
    const { now, next } = this.running(at);
    if (!now) {
      this.say(next ? `not rolling until ${dayLabel(state, next.begins)}` : "not rolling any more");
      this.write({ day: dayLabel(state, at), own: "", number: "", off: "" });
      this.canvas.dataset.frame = "";
      return;
    }
    const lying = this.lying(now);
    const frame = Math.min(now.frames - 1, Math.max(0, frameAt(lying, at)));
    this.write({
      day: dayLabel(state, at),
      own: now.label ? label(now.label.frame + Math.floor(frame * now.label.each + 1e-6), now.label) : "no timecode",
      number: `frame ${frame}`,
      off: this.offAt(now, own(lying.map, at), sound),
    });
    const copy = now.light === "ready" || now.light === "making" ? copyOf(now.id, this.arrived) : null;
    const there = copy instanceof Copy && copy.has(frame);
    // A copy that grew since it was fetched would show its last frame for every later one.
    if (copy instanceof Copy ? !there : now.light !== "ready") {
      const made = now.light === "ready" ? "more of the light copy is fetched" : `light copy ${now.percent} %`;
      const why = now.light === "ready" || now.light === "making" ? made : now.problem || "no picture can be shown";
      this.still_(now, frame, speed, now.light === "none" ? "its picture cannot be decoded here" : why);
      return;
    }
    const found = copy?.at(frame, speed * (now.fps / state.fps || 1));
    counted.due += 1;
    if (copy instanceof Copy && copy.gone) {
      copy.close();
      copies.delete(now.id);
      document.dispatchEvent(new CustomEvent("vesk:light-gone"));
    }
    if (!copy || !found) {
      counted.late += 1;
      if (!this.painted.startsWith(`${now.id} `)) this.say("");
      return;
    }
    const key = `${now.id} ${found.sample}`;
    if (found.picture instanceof HTMLVideoElement || this.painted !== key) {
      const { width, height } = copy.index;
      if (this.canvas.width !== width || this.canvas.height !== height)
        Object.assign(this.canvas, { width, height });
      this.pen.drawImage(/** @type {any} */ (found.picture), 0, 0, width, height);
      this.painted = key;
      this.canvas.dataset.frame = String(frame);
      this.say("");
    }
    const { gain, shift } = (lift && copy.index.lift) || { gain: 1, shift: 0 };
    this.lifted(gain, shift);
    this.element.classList.toggle("lifted", gain !== 1);
  }

  /** Show the original's own frame while there is no light copy: when it stands, else what there was.
   * @param {Picture} now @param {number} frame @param {number} speed @param {string} why */
  still_(now, frame, speed, why) {
    this.say(why);
    if (speed || now.light === "none" || this.still === `${now.id} ${frame}`) return;
    this.still = `${now.id} ${frame}`;
    const asked = this.still;
    const image = new Image();
    image.onload = () => {
      if (this.still !== asked) return;
      Object.assign(this.canvas, { width: image.naturalWidth, height: image.naturalHeight });
      this.pen.drawImage(image, 0, 0);
      this.painted = "";
      this.canvas.dataset.frame = String(frame);
    };
    image.src = `/media/${now.id}/frame/${frame}.jpg`;
  }

  /** @param {number} gain @param {number} shift */
  lifted(gain, shift) {
    const slope = 1 - 2 * shift; // contrast turns about the middle: both together are the line that is wanted
    const filter = gain === 1 ? "" : `brightness(${(gain / slope).toFixed(3)}) contrast(${slope.toFixed(3)})`;
    if (this.canvas.style.filter !== filter) this.canvas.style.filter = filter;
  }

  /** @param {Picture} now @param {number} second its own @param {string | null} sound */
  offAt(now, second, sound) {
    const off = sound === null ? null : now.off[sound];
    if (!off) return sound === null ? "" : now.laid_by ? `by ${now.laid_by}` : "";
    if (!off.at.length) return "not measured";
    const [first, last] = [off.at[0], off.at[off.at.length - 1]];
    let error = second <= first[0] ? first[1] : last[1];
    for (let k = 1; k < off.at.length; k += 1) {
      const [[a, ea], [b, eb]] = [off.at[k - 1], off.at[k]];
      if (second >= a && second <= b) error = b > a ? ea + ((eb - ea) * (second - a)) / (b - a) : ea;
    }
    return `${signed((error + this.slip) * now.fps)} f`;
  }

  /** @param {string} what */
  say(what) {
    this.absent.hidden = !what;
    if (this.absent.textContent !== what) this.absent.textContent = what;
    this.element.classList.toggle("away", what.startsWith("not rolling"));
  }

  /** @param {Record<string, string>} texts */
  write(texts) {
    for (const [name, text] of Object.entries(texts)) {
      const place = this.written[/** @type {keyof typeof this.written} */ (name)];
      if (place.textContent !== text) place.textContent = text;
    }
  }
}
