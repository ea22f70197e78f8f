// Joining by hand: a frame stepped to, a moment of the sound clicked or moved to, and what follows of both.
import { columns } from "/static/wave.js";

const NARROW = 0.004,
  STEPS = 100;
const state = JSON.parse(document.getElementById("joining-state")?.textContent ?? "{}");
const form = /** @type {HTMLFormElement | null} */ (document.getElementById("join-form"));
let frame = 0,
  at = 0,
  span = 2,
  asked = 0;

const field = (/** @type {string} */ name) => /** @type {HTMLInputElement} */ (form?.elements.namedItem(name));
const pane = (/** @type {string} */ id) => /** @type {HTMLElement} */ (document.getElementById(id));
const own = (/** @type {HTMLElement} */ element, /** @type {string} */ which) =>
  /** @type {HTMLCanvasElement} */ (element.querySelector(which));

/** A waveform from one second to another, and a line where the event is.
 * @param {HTMLCanvasElement} canvas @param {{ id: number, rate: number, channel?: number }} sound
 * @param {number} from @param {number} to @param {number} mark */
const draw = (canvas, sound, from, to, mark) => {
  const ratio = window.devicePixelRatio || 1;
  const width = (canvas.width = canvas.clientWidth * ratio),
    height = (canvas.height = canvas.clientHeight * ratio);
  const pen = canvas.getContext("2d");
  if (!pen || !width) return;
  const style = getComputedStyle(canvas);
  const sampleAt = (/** @type {number} */ column) => (from + ((to - from) * column) / width) * sound.rate;
  const { low, high } = columns(sound.id, sound.channel ?? 0, sampleAt, width, later);
  let top = 1;
  for (const value of high) if (value > top) top = value;
  pen.fillStyle = style.getPropertyValue("--ink");
  for (let column = 0; column < width; column += 1) {
    const up = (high[column] / top) * 0.48,
      down = (low[column] / top) * 0.48;
    if (!Number.isNaN(up)) pen.fillRect(column, height * (0.5 - up), 1, Math.max(ratio, height * (up - down)));
  }
  pen.fillStyle = style.getPropertyValue("--accent");
  pen.fillRect(((mark - from) / (to - from)) * width - ratio, 0, 2 * ratio, height);
};

const show = () => {
  const left = pane("join-picture"),
    right = pane("join-sound");
  for (const [place, name] of ["before", "now", "after"].entries()) {
    const index = frame + place - 1;
    const image = /** @type {HTMLImageElement} */ (left.querySelector(`.${name}`));
    const inside = index >= 0 && index < state.frames;
    image.style.visibility = inside ? "visible" : "hidden";
    if (inside) image.src = `/media/${state.picture.id}/frame/${index}.jpg`;
  }
  const scratch = own(left, "canvas");
  scratch.hidden = !state.picture.channels;
  if (state.picture.channels) {
    const middle = frame / state.fps;
    draw(scratch, state.picture, middle - span / 2, middle + span / 2, middle);
  }
  draw(own(right, ".whole"), state.sound, 0, state.sound.seconds, at);
  draw(own(right, ".near"), state.sound, at - span / 2, at + span / 2, at);
};

let waiting = 0;
const later = () => {
  if (!waiting) waiting = requestAnimationFrame(() => ((waiting = 0), show()));
};

/** What follows is said by the server: one place decides. */
const say = async () => {
  const mine = (asked += 1);
  const sent = new URLSearchParams(/** @type {any} */ (new FormData(/** @type {HTMLFormElement} */ (form))));
  const answer = await fetch(`${form?.dataset.said}?${sent}`);
  const text = await answer.text();
  if (mine === asked) pane("said").outerHTML = text;
};

/** Both as they would lie, before it is taken: the server lays them. */
const hear = () => {
  const sent = new URLSearchParams(/** @type {any} */ (new FormData(/** @type {HTMLFormElement} */ (form))));
  for (const name of ["csrf_token", "version", "name"]) sent.delete(name);
  const heard = /** @type {HTMLAudioElement} */ (document.getElementById("joined-sound"));
  heard.src = `${form?.dataset.heard}?${sent}`;
  heard.play().catch(() => {});
};

let soon = 0;
const moved = () => {
  field("picture_at").value = `frame ${frame}`;
  field("sound_at").value = at.toFixed(4);
  later();
  clearTimeout(soon);
  soon = setTimeout(say, 120);
};

const clampFrame = (/** @type {number} */ value) => Math.min(Math.max(0, value), Math.max(0, state.frames - 1));
const clampTime = (/** @type {number} */ value) => Math.min(Math.max(0, value), state.sound.seconds);

/** What is typed is followed where it is a frame or seconds; a label is read by the server alone. */
const typed = () => {
  const text = field("picture_at").value.trim();
  const number = /^(?:frame|f|#)\s*(\d+)$/i.exec(text);
  const seconds = Number(text.replace(/\s*s$/, ""));
  if (number) frame = clampFrame(Number(number[1]));
  else if (text && Number.isFinite(seconds)) frame = clampFrame(Math.floor(seconds * state.fps + 1e-6));
  const sound = Number(field("sound_at").value.replace(/\s*s\s*$/, ""));
  if (Number.isFinite(sound)) at = clampTime(sound);
};

const keys = (/** @type {KeyboardEvent} */ event) => {
  const inside = /** @type {HTMLElement} */ (event.target);
  if (inside.matches("input, select")) return;
  const by = (event.shiftKey ? 10 : 1) * (event.key === "ArrowLeft" ? -1 : 1);
  if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    if (inside.closest("#join-sound")) at = clampTime(at + (by * span) / STEPS);
    else frame = clampFrame(frame + by);
  } else if ((event.key === "ArrowUp" || event.key === "ArrowDown") && inside.closest(".window")) {
    span = Math.min(Math.max(event.key === "ArrowUp" ? span / 2 : span * 2, NARROW), 64);
  } else if (event.key === "Enter" && inside.closest(".window")) {
    form?.requestSubmit();
  } else if (event.key === "h" && !event.ctrlKey && !event.metaKey && !event.altKey) {
    pane("join-picture").classList.toggle("lifted");
    return;
  } else if (event.key === "p" && !event.ctrlKey && !event.metaKey && !event.altKey) {
    hear();
    return;
  } else return;
  event.preventDefault();
  moved();
};

if (form) {
  typed();
  document.addEventListener("keydown", keys);
  document.getElementById("hear-sum")?.addEventListener("click", hear);
  for (const name of ["picture_at", "sound_at"])
    field(name).addEventListener("input", () => {
      typed();
      later();
      clearTimeout(soon);
      soon = setTimeout(say, 120);
    });
  const near = own(pane("join-sound"), ".near"),
    whole = own(pane("join-sound"), ".whole");
  near.addEventListener("click", (event) => {
    at = clampTime(at + (event.offsetX / near.clientWidth - 0.5) * span);
    moved();
  });
  whole.addEventListener("click", (event) => {
    at = clampTime((event.offsetX / whole.clientWidth) * state.sound.seconds);
    moved();
  });
  pane("join-sound").addEventListener("wheel", (event) => {
    event.preventDefault();
    span = Math.min(Math.max(event.deltaY < 0 ? span / 1.4 : span * 1.4, NARROW), 64);
    later();
  });
  addEventListener("resize", later);
  pane("join-picture").focus({ preventScroll: true });
  later();
  void say();
}
