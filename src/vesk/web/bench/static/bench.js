// The bench: three windows of one pairing at one zoom; zooming, slipping, listening.
import { notOurs } from "/static/keys.js";
import { Copy, Film, exact } from "/static/light_copy.js";
import { draw } from "./draw.js";
import { play, playhead, stop } from "./listen.js";

const NARROW = 40 / 48000,
  WIDE = 12;
/** @type {any} */
let state = {};
let span = 1,
  chosen = 0,
  mode = "sum";
const still = () => ({ frames: 0, tenths: 0, samples: 0, seconds: 0 });
/** Moved by hand and not yet sent; and what is on its way: keys pressed meanwhile wait for the answer. */
let moved = still(),
  sent = still();
let waiting = 0,
  drawing = 0;
/** An act of the bench is on its way: what is asked meanwhile waits, or it would be of a version that is past. */
let flying = false;

const $ = (/** @type {string} */ id) => document.getElementById(id);
const figures = () => /** @type {HTMLElement[]} */ ([...document.querySelectorAll(".window")]);
const fraction = (/** @type {number} */ value) => (value <= -0.005 ? "−" : "+") + Math.abs(value).toFixed(2);
/** @param {typeof moved} by */
const inSeconds = (by) => (by.frames + by.tenths / 10) / state.fps + by.samples / state.sound.rate + by.seconds;
/** Seconds moved by hand that the state does not hold yet. */
const shift = () => inSeconds(moved) + inSeconds(sent);

const read = () => {
  state = JSON.parse($("bench-state")?.textContent ?? "{}");
  for (const [index, figure] of figures().entries()) figure.classList.toggle("chosen", index === chosen);
  redraw();
};

/** A light copy for each window: each plays at a place of its own. What there is none of is shown as stills.
 * @type {{ picture: number, each: (Copy | Film)[] }} */
let films = { picture: 0, each: [] };
const open = async () => {
  const { id } = state.picture;
  if (films.picture === id) return;
  for (const one of films.each) one.close();
  films = { picture: id, each: [] };
  const first = await Copy.open(id).catch(() => null);
  if (!first || films.picture !== id || !(exact() || first.index.whole)) return;
  films.each = state.windows.map((/** @type {any} */ _, /** @type {number} */ k) => {
    const made = exact() ? (k ? new Copy(first.content, first.index, id) : first) : new Film(first.content, first.index);
    made.onFrames = redraw;
    return made;
  });
  redraw();
};

/** The picture of each window, large: where it is played, the frame that is heard.
 * @param {HTMLElement} figure @param {number} index @param {number | null} heard */
const film = (figure, index, heard) => {
  const canvas = /** @type {HTMLCanvasElement} */ (figure.querySelector(".film"));
  const last = state.picture.frames - 1;
  const frame = Math.min(last, Math.max(0, Math.floor((heard ?? state.windows[index].at_s) * state.fps + 1e-4)));
  const key = `${state.picture.id} ${frame}`;
  const pen = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d", { alpha: false }));
  const made = films.each[index];
  const copy = made instanceof Copy && !made.has(frame) ? undefined : made;
  const found = copy?.at(frame, heard === null ? 0 : 1);
  if (found && copy) {
    if (canvas.dataset.frame === key && canvas.dataset.light) return;
    const { width, height } = copy.index;
    if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, { width, height });
    pen.drawImage(/** @type {any} */ (found.picture), 0, 0, width, height);
    Object.assign(canvas.dataset, { frame: key, light: "1" });
  } else if (!copy && heard === null && canvas.dataset.frame !== key) {
    canvas.dataset.frame = key;
    delete canvas.dataset.light;
    const still = new Image();
    still.onload = () => {
      if (canvas.dataset.frame !== key || canvas.dataset.light) return;
      Object.assign(canvas, { width: still.naturalWidth, height: still.naturalHeight });
      pen.drawImage(still, 0, 0);
    };
    still.src = `/media/${state.picture.id}/frame/${frame}.jpg`;
  }
};

/** The frames under a window: each picture stands over the time it is shown at. */
const strips = () => {
  for (const [index, figure] of figures().entries()) {
    const holder = /** @type {HTMLElement} */ (figure.querySelector(".strip"));
    const window_ = state.windows[index];
    const names = [];
    for (let k = 0; k < state.strip; k += 1) {
      const at = window_.at_s + ((k + 0.5) / state.strip - 0.5) * span;
      names.push(Math.floor(at * state.fps + 1e-6));
    }
    const key = names.join(" ");
    if (holder.dataset.key === key && holder.children.length) continue;
    holder.dataset.key = key;
    holder.replaceChildren(
      ...names.map((frame) => {
        const cell = document.createElement("div");
        const from = frame - window_.frame;
        cell.className = from === 0 ? "cell here" : "cell";
        if (frame >= 0 && frame < state.picture.frames) {
          const image = document.createElement("img");
          image.src = `/media/${state.picture.id}/frame/${frame}.jpg`;
          image.alt = `frame ${frame}`;
          image.draggable = false;
          cell.append(image);
        }
        const label = document.createElement("span");
        label.textContent = from === 0 ? "0" : `${from < 0 ? "−" : "+"}${Math.abs(from)}`;
        cell.append(label);
        return cell;
      }),
    );
  }
};

const redraw = () => {
  if (drawing) return;
  drawing = requestAnimationFrame(() => {
    drawing = 0;
    if (!state.windows) return;
    void open();
    strips();
    const channel = Number(/** @type {HTMLSelectElement | null} */ ($("track"))?.value ?? 0);
    for (const [index, figure] of figures().entries()) {
      const canvas = /** @type {HTMLCanvasElement} */ (figure.querySelector(".waves"));
      const window_ = state.windows[index];
      const at = index === chosen ? playhead() : null;
      film(figure, index, at);
      draw(
        canvas,
        state,
        { at: window_.at_s, span, shift: shift(), channel, playhead: at, error: window_.error_s, laid: window_.laid },
        redraw,
      );
      const out = /** @type {HTMLElement} */ (figure.querySelector(".error"));
      if (window_.error_s !== null) out.textContent = `${fraction((window_.error_s + shift()) * state.fps)} f`;
    }
    for (const button of document.querySelectorAll("[data-zoom]"))
      button.toggleAttribute("aria-current", Math.abs(seconds(button) / span - 1) < 0.01);
    if (playhead() !== null) redraw();
  });
};

/** @param {Element} button */
const seconds = (button) => {
  const value = /** @type {HTMLElement} */ (button).dataset.zoom ?? "1";
  if (value === "s") return 64 / state.sound.rate;
  return value.endsWith("f") ? parseFloat(value) / state.fps : parseFloat(value);
};

let gliding = 0;
/** Zoom smoothly to a span.
 * @param {number} to */
const zoom = (to) => {
  to = Math.min(WIDE, Math.max(NARROW, to));
  cancelAnimationFrame(gliding);
  const from = span,
    begun = performance.now();
  const step = (/** @type {number} */ now) => {
    const part = Math.min(1, (now - begun) / 140);
    span = part === 1 ? to : from * (to / from) ** part;
    redraw();
    if (part < 1) gliding = requestAnimationFrame(step);
  };
  gliding = requestAnimationFrame(step);
};

/** Send what was moved, once the hand rests. */
const send = () => {
  const form = /** @type {HTMLFormElement | null} */ ($("slip-form"));
  if (!form || flying || inSeconds(sent) !== 0) return;
  if (inSeconds(moved) === 0) {
    document.body.dataset.slipping = "";
    return;
  }
  for (const name of /** @type {const} */ (["frames", "tenths", "samples"]))
    /** @type {HTMLInputElement} */ (form.elements.namedItem(name)).value = String(moved[name]);
  /** @type {HTMLInputElement} */ (form.elements.namedItem("seconds")).value = moved.seconds.toFixed(7);
  [sent, moved] = [moved, still()];
  form.requestSubmit();
};

/** What was asked for while something else was still on its way: done when that has arrived.
 * @type {string | null} */
let asked = null;
const onBench = (/** @type {Event} */ event) => $("bench")?.contains(/** @type {Node} */ (event.target));
document.addEventListener("htmx:before:request", (event) => {
  if (onBench(event)) flying = true;
});
document.addEventListener("htmx:error", (event) => {
  if (!onBench(event)) return;
  [flying, asked] = [false, null];
  // What did not arrive is moved still; had it arrived after all, its version is past and the page is shown as it is.
  for (const unit of /** @type {(keyof typeof moved)[]} */ (Object.keys(sent))) moved[unit] += sent[unit];
  sent = still();
  const kept = inSeconds(moved) !== 0,
    said = $("pending");
  if (said) {
    const then = kept ? "Your slip is kept here and sent again." : "Nothing was done: try again.";
    said.textContent = `The server does not answer. ${then}`;
  }
  if (kept) {
    clearTimeout(waiting);
    waiting = window.setTimeout(send, 2000);
  }
});
document.addEventListener(
  "click",
  (event) => {
    const button = /** @type {HTMLElement} */ (event.target).closest?.(".acts button");
    if (!(button instanceof HTMLElement) || (shift() === 0 && !flying)) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    asked = button.dataset.key ?? null;
    if (flying) return;
    clearTimeout(waiting);
    send();
  },
  { capture: true },
);

/** @param {keyof typeof moved} unit @param {number} by @param {number} rest milliseconds to wait for more */
const slip = (unit, by, rest) => {
  moved[unit] += by;
  document.body.dataset.slipping = "1";
  const said = $("pending");
  const ms = (shift() * 1000).toFixed(2).replace("-", "−");
  if (said) said.textContent = `slip ${fraction(shift() * state.fps)} f (${ms} ms)`;
  redraw();
  clearTimeout(waiting);
  waiting = window.setTimeout(send, rest);
};

const listen = async () => {
  const channel = /** @type {HTMLSelectElement} */ ($("track")).value;
  try {
    await play(state.pairing, state.windows[chosen].at_s, Math.max(span, 2.4), mode, channel, redraw);
    redraw();
  } catch (error) {
    const said = $("pending");
    if (said) said.textContent = error instanceof Error ? error.message : "It cannot be played.";
  }
};

document.addEventListener("click", (event) => {
  const button = /** @type {HTMLElement} */ (event.target).closest?.("button");
  if (button?.dataset.zoom) zoom(seconds(button));
  if (button?.dataset.listen) {
    mode = button.dataset.listen;
    listen();
  }
});
document.addEventListener("change", (event) => {
  if (/** @type {HTMLElement} */ (event.target).id === "track") redraw();
});
document.addEventListener(
  "wheel",
  (event) => {
    if (!(/** @type {HTMLElement} */ (event.target).closest?.(".window"))) return;
    event.preventDefault();
    span = Math.min(WIDE, Math.max(NARROW, span * 1.0015 ** event.deltaY));
    redraw();
  },
  { passive: false },
);

/** @param {number} index */
const choose = (index) => {
  chosen = Math.min(2, Math.max(0, index));
  for (const [number, figure] of figures().entries()) figure.classList.toggle("chosen", number === chosen);
  redraw();
};
document.addEventListener("focusin", (event) => {
  const figure = /** @type {HTMLElement} */ (event.target).closest?.(".window");
  if (figure instanceof HTMLElement) choose(Number(figure.dataset.place));
});

// Dragging the production sound slips it; all three windows follow.
/** @type {{ x: number, width: number } | null} */
let held = null;
document.addEventListener("pointerdown", (event) => {
  const canvas = /** @type {HTMLElement} */ (event.target);
  if (!(canvas instanceof HTMLCanvasElement) || event.button !== 0) return;
  held = { x: event.clientX, width: canvas.clientWidth };
  canvas.setPointerCapture(event.pointerId);
  clearTimeout(waiting);
});
document.addEventListener("pointermove", (event) => {
  if (!held) return;
  slip("seconds", ((event.clientX - held.x) / held.width) * span, 600_000);
  held.x = event.clientX;
});
document.addEventListener("pointerup", () => {
  if (held) {
    held = null;
    if (inSeconds(moved) !== 0) slip("seconds", 0, 60);
  }
});

document.addEventListener("keydown", (event) => {
  if (notOurs(event)) return;
  if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    event.preventDefault();
    slip(event.ctrlKey ? "samples" : event.shiftKey ? "frames" : "tenths", event.key === "ArrowRight" ? 1 : -1, 450);
    return;
  }
  if (event.ctrlKey) return;
  if (event.key === "ArrowUp" || event.key === "ArrowDown") {
    event.preventDefault();
    choose(chosen + (event.key === "ArrowDown" ? 1 : -1));
  } else if (event.key === "+" || event.key === "=") zoom(span / 2);
  else if (event.key === "-") zoom(span * 2);
  else if (event.key === " " && !(event.target instanceof HTMLButtonElement)) {
    event.preventDefault();
    if (playhead() !== null) {
      stop();
      redraw();
    } else listen();
  } else if ("serp".includes(event.key)) {
    mode = { s: "sum", e: "split", r: "scratch", p: "mix" }[event.key] ?? "sum";
    listen();
  } else if (event.key === "v") /** @type {HTMLAnchorElement | null} */ ($("watch"))?.click();
  else if (event.key === "[" || event.key === "]")
    /** @type {HTMLAnchorElement | null} */ ($(event.key === "[" ? "before" : "after"))?.click();
});

document.addEventListener("htmx:after:swap", () => {
  // What was sent is either in the new state, or was refused and is taken back.
  sent = still();
  flying = false;
  if (inSeconds(moved) === 0) document.body.dataset.slipping = "";
  else if (!held) {
    clearTimeout(waiting);
    waiting = window.setTimeout(send, 200);
  }
  read();
  if (asked && shift() === 0) {
    const next = /** @type {HTMLButtonElement | null} */ (
      document.querySelector(`.acts button[data-key="${asked}"]:not(:disabled)`)
    );
    asked = null;
    next?.click();
  }
});
document.addEventListener("vesk:theme", redraw);
new ResizeObserver(redraw).observe(document.body);
document.fonts.ready.then(redraw);
read();
