// Watching a moment: every camera that ran then, one sound, one clock.
import { notOurs } from "/static/keys.js";
import { dayLabel, onAxis, own } from "./axis.js";
import { exact } from "/static/light_copy.js";
import { Cutting } from "./cutting.js";
import { Pane, keepOnly } from "./panes.js";
import { Slipping } from "./slipping.js";
import { feed, goOnWith, goesOn, hears, play, playing, position, speed, stand } from "./sound.js";
import { button, change, tellCamera, tellLists } from "./told.js";
import { drawWave } from "./wave_line.js";

const $ = (/** @type {string} */ id) => /** @type {any} */ (document.getElementById(id));
const page = $("watching");
const url = page.dataset.url;
/** @type {any} */
let state = {};
/** @type {Pane[]} */
let panes = [];
let count = 2,
  chosen = 0,
  big = false,
  lift = true,
  span = 10,
  tall = false;
/** @type {[number, number] | null} */
let loop = null;
const SPEEDS = [0.25, 0.5, 1, 2, 4, 8];
const heard = { tag: "", channel: "all", way: "alone", laid: "corrected" };
const kept = `vesk-watching-${location.pathname.split("/")[2]}`;

const say = (/** @type {string} */ what, problem = false) => {
  $("pending").textContent = problem ? "" : what;
  const line = $("problem-line");
  line.hidden = !problem;
  line.textContent = problem ? what : "";
};

// What was chosen is kept in this browser: how many cameras, in which order, and how the sound is heard.
const keep = () => {
  try {
    const order = panes.map((pane) => pane.tag);
    localStorage.setItem(kept, JSON.stringify({ count, order, lift, way: heard.way }));
  } catch {
    /* private window */
  }
};
const remembered = () => {
  try {
    return JSON.parse(localStorage.getItem(kept) ?? "{}");
  } catch {
    return {};
  }
};

/** Recordings of the sound that is heard. */
const sounding = () => state.sounds.filter((/** @type {any} */ one) => one.tag === heard.tag);
/** The sound file that runs at a time.
 * @param {number} at */
const soundAt = (at) =>
  sounding().find((/** @type {any} */ one) => one.begins <= at && at < one.ends) ?? sounding()[0] ?? null;
const shift = () => panes.reduce((sum, pane) => sum + (pane.fixed ? pane.slip : 0), 0);
const camera = () => panes[chosen] ?? null;
/** The chosen camera's recording that runs now, and how its pairing with the sound stands. */
const paired = () => {
  const sound = soundAt(position());
  const picture = camera()?.running(position()).now ?? null;
  return { sound, picture, off: picture && sound ? (picture.off[sound.id] ?? null) : null };
};

/** The camera whose own sound the rough cut plays now.
 * @type {string | null} */
let cutTo = null;
const source = (to = cutTo) => {
  const own_ = to === null ? {} : { way: "scratch" };
  const asked = new URLSearchParams({ ...heard, camera: to ?? camera()?.tag ?? "", ...own_ });
  return `${url}/sound?${asked}`;
};
const clamp = (/** @type {number} */ at) => Math.min(Math.max(0, at), Math.max(0, state.seconds - 0.5 / state.fps));

/** @param {number} at */
const go = (at) => {
  const was = playing() ? speed() : 0;
  stand(clamp(at));
  if (was) void start(was);
  else paint();
};
/** @param {number} rate */
const start = async (rate) => {
  cutTo = cutting.heard(position());
  laidAhead = NaN;
  const silent = Math.abs(rate) > 2 || !(heard.tag || camera());
  $("play").textContent = "Stop";
  $("play").setAttribute("aria-pressed", "true");
  try {
    await play(silent ? null : source(), rate, silent ? 0 : shift());
    $("problem-line").hidden = true; // it plays: what was wrong with that is past
  } catch (error) {
    say(error instanceof Error ? error.message : "This cannot be played now.", true);
    await play(null, rate);
  }
  requestAnimationFrame(tick);
};
const halt = () => {
  // It stands on the frame that is seen, so that what is seen stays.
  const at = position();
  stand(clamp((Math.floor(at * state.fps + 1e-4) + 0.5) / state.fps));
  $("play").textContent = "Play";
  $("play").setAttribute("aria-pressed", "false");
  $("speed").textContent = "";
  paint();
};
const again = () => {
  if (playing()) void start(speed());
  else paint();
};

/** The sound of the rough cut goes on with another camera just where that is cut to: laid ahead, else as soon as it can.
 * @param {number} at */
const soundOfTheCut = (at) => {
  if (cutTo !== cutting.heard(at)) {
    cutTo = cutting.heard(at);
    if (!hears(source())) void start(speed());
    return;
  }
  const next = speed() > 0 && speed() <= 2 ? cutting.turns(at) : null;
  if (!next || next.at === laidAhead || (next.at - at) / speed() > CUT_AHEAD_S) return;
  laidAhead = next.at;
  goOnWith(source(next.camera), next.at, shift()).catch(() => {}); // then it follows when it is there
};
const CUT_AHEAD_S = 1.5;
let laidAhead = NaN;

let ticking = false;
const tick = () => {
  if (ticking || !playing()) return;
  ticking = true;
  const turn = () => {
    if (!playing()) {
      ticking = false;
      return;
    }
    const at = position();
    if (loop && (speed() > 0 ? at >= loop[1] : at <= loop[0])) go(speed() > 0 ? loop[0] : loop[1]);
    else if ((speed() > 0 && at >= state.seconds - 0.5 / state.fps) || (speed() < 0 && at <= 0)) halt();
    feed((error) => say(error instanceof Error ? error.message : "This cannot be played now.", true));
    cutting.follow(at);
    if (playing() && !goesOn()) soundOfTheCut(at);
    paint();
    requestAnimationFrame(turn);
  };
  requestAnimationFrame(turn);
};

let due = false;
const later = () => {
  if (due || playing()) return;
  due = true;
  requestAnimationFrame(() => {
    due = false;
    paint();
  });
};
let drawn = 0;
const paint = () => {
  const at = position();
  const sound = soundAt(at);
  const shown = visible();
  if (big && shown[0]?.element.parentElement !== $("panes")) $("panes").replaceChildren(shown[0].element);
  for (const pane of shown) pane.paint(state, at, speed(), sound ? String(sound.id) : null, lift);
  $("at").textContent = dayLabel(state, at);
  if (playing()) $("speed").textContent = speed() === 1 ? "" : `${speed() < 0 ? "back " : ""}${Math.abs(speed())} ×`;
  if (playing() && performance.now() - drawn < 40) return; // the waveform need not move with every picture
  drawn = performance.now();
  $("says-what").textContent = exact() ? "" : "shown within two frames: this address is not a secure one";
  cutting.show(at);
  clearTimeout(waving_);
  if (playing()) wave(at, sound);
  else {
    waving_ = window.setTimeout(() => wave(at, sound), 40); // pictures first
    tell();
  }
};
let waving_ = 0;
/** @param {number} at @param {any} sound */
const wave = (at, sound) =>
  drawWave($("wave"), state, {
    at, span, tall, shift: heard.way === "scratch" ? 0 : shift(), channel: drawnChannel(sound), sounds: waving(),
    range: state.range,
  }, later);
const drawnChannel = (/** @type {any} */ sound) =>
  heard.way === "scratch"
    ? (camera()?.pictures[0]?.scratch ?? 0)
    : heard.channel === "all" ? (sound?.channels[0]?.number ?? 0) : Number(heard.channel);
/** What the waveform is of: the sound, or the camera's own where that is heard. */
const waving = () => {
  if (heard.way !== "scratch") return sounding();
  const own_ = camera()?.pictures ?? [];
  return own_;
};

/** Big shows the chosen camera alone; while cutting, the one that the rough cut shows. */
const visible = () => {
  if (!big) return panes.slice(0, count);
  const cut = cutting.camera(position());
  return [panes.find((pane) => pane.tag === cut) ?? panes[chosen]].filter(Boolean);
};
const lay = () => {
  const holder = $("panes");
  const shown = visible();
  holder.dataset.count = big ? "big" : String(count);
  holder.replaceChildren(...shown.map((pane) => pane.element));
  for (const [index, pane] of panes.entries()) pane.element.classList.toggle("chosen", index === chosen);
  for (const button of document.querySelectorAll("[data-panes]"))
    button.setAttribute("aria-pressed", String(!big && Number(/** @type {any} */ (button).dataset.panes) === count));
  $("big").setAttribute("aria-pressed", String(big));
  keepOnly(new Set(panes.slice(0, Math.max(count, chosen + 1)).flatMap((pane) => pane.pictures.map((one) => one.id))));
  keep();
};
/** Put the chosen camera one place on: the order is kept.
 * @param {number} by */
const place = (by) => {
  const to = Math.min(panes.length - 1, Math.max(0, chosen + by));
  panes.splice(to, 0, ...panes.splice(chosen, 1));
  chosen = to;
  lay();
  paint();
};
/** @param {number} index */
const choose = (index) => {
  if (!panes.length) return;
  chosen = Math.min(panes.length - 1, Math.max(0, index));
  if (!big && chosen >= count) count = [1, 2, 4, 6, 9].find((one) => one > chosen) ?? 9;
  for (const pane of panes) pane.detail.hidden = true;
  lay();
  if (heard.way !== "alone") again();
  else paint();
};

const tell = () => tellCamera(paired(), act);

/** @param {any} fresh */
const take = (fresh) => {
  state = fresh;
  const maps = new Map([...state.pictures, ...state.sounds].map((one) => [one.id, one.map]));
  state.points = state.points.filter((/** @type {any} */ one) => maps.has(one.recording));
  for (const point of state.points) point.map = maps.get(point.recording);
  const seconds = (/** @type {any} */ point) => onAxis(point.map, point.own);
  state.points.sort((/** @type {any} */ a, /** @type {any} */ b) => seconds(a) - seconds(b));
  const before = new Map(panes.map((pane) => [pane.tag, pane]));
  const order = panes.length ? panes.map((pane) => pane.tag) : (remembered().order ?? []);
  const tags = [...new Set(state.pictures.map((/** @type {any} */ one) => one.tag))];
  tags.sort((a, b) => (order.includes(a) ? order.indexOf(a) : 99) - (order.includes(b) ? order.indexOf(b) : 99));
  panes = tags.map((tag) => {
    const own_ = state.pictures.filter((/** @type {any} */ one) => one.tag === tag);
    const pane = before.get(tag) ?? new Pane(tag, own_, later);
    pane.pictures = own_;
    pane.fixed = own_.some((/** @type {any} */ one) => one.id === state.about);
    return pane;
  });
  cutting.take(state);
  tellLists(state, go, act);
  $("chosen").dataset.key = "";
  if (state.pictures.some((/** @type {any} */ one) => one.light === "making")) follow();
};

let following = 0;
const follow = () => {
  clearTimeout(following);
  following = window.setTimeout(async () => {
    try {
      const answer = await fetch(`${url}/state`);
      if (answer.ok && !panes.some((pane) => pane.slip)) take(await answer.json());
      else follow();
    } catch {
      follow();
    }
    later();
  }, 1500);
};

/** @param {string} what @param {Record<string, any>} values @returns {Promise<boolean>} */
const act = async (what, values) => {
  const body = new URLSearchParams(Object.entries(values).map(([name, value]) => [name, String(value)]));
  try {
    const answer = await fetch(`${url}/${what}`, {
      method: "POST", body, keepalive: true, headers: { "X-CSRFToken": page.dataset.token },
    });
    const told = await answer.json();
    take(told.state);
    say(told.problem || told.said, Boolean(told.problem));
    if (goesOn()) again(); // what was laid ahead may be cut otherwise by now
    later();
    return answer.ok;
  } catch {
    say("The server does not answer. Nothing was done: try again.", true);
    return false;
  }
};

const cutting = new Cutting({ act, go, panes: () => panes, sound: () => heard, at: position, button, change });

const slipping = new Slipping({
  act, again, camera, paired, say, pictures: () => state.pictures, asRecorded: () => heard.laid === "recorded",
});

const nearest = () => {
  const at = position();
  const away = (/** @type {any} */ one) => Math.abs(onAxis(one.map, one.own) - at);
  return [...state.points].sort((a, b) => away(a) - away(b))[0] ?? null;
};
/** @param {number} way */
const toPoint = (way) => {
  const at = position(),
    half = 0.75 / state.fps;
  const times = state.points.map((/** @type {any} */ one) => onAxis(one.map, one.own)).sort((/** @type {number} */ a,
    /** @type {number} */ b) => a - b);
  const found = way > 0 ? times.find((/** @type {number} */ one) => one > at + half)
    : times.reverse().find((/** @type {number} */ one) => one < at - half);
  if (found === undefined) say("There is no further sync point that way.");
  else go(found + 0.1 / state.fps);
};
const turnLoop = () => {
  const point = nearest();
  const at = point ? onAxis(point.map, point.own) : position();
  loop = loop ? null : [Math.max(0, at - 0.8), Math.min(state.seconds, at + 0.8)];
  $("loop").setAttribute("aria-pressed", String(Boolean(loop)));
  if (loop) {
    go(loop[0]);
    if (!playing()) void start(1);
  }
};
/** @param {number} way @param {boolean} slow */
const wind = (way, slow) => {
  const now = playing() ? speed() : 0;
  const same = now * way > 0 && slow === Math.abs(now) < 1;
  const at = same ? SPEEDS.indexOf(Math.abs(now)) + (slow ? -1 : 1) : slow ? 1 : now * way > 0 ? 3 : way > 0 ? 3 : 2;
  void start(way * SPEEDS[Math.min(SPEEDS.length - 1, Math.max(0, at))]);
};
const put = () => {
  const on = Number($("put-on").value);
  const one = [...state.pictures, ...state.sounds].find((each) => each.id === on);
  if (!one) return;
  const second = own(one.map, position());
  const at = "frames" in one ? `frame ${Math.floor(second * one.fps + 1e-4)}` : second.toFixed(6);
  void act("point", { recording: on, at, name: $("put-name").value });
};
const confirm = () => {
  const point = nearest();
  if (!point || point.sure || point.how !== "seen") return say("No clap seen is proposed near here.");
  const picture = state.pictures.find((/** @type {any} */ one) => one.id === point.recording);
  const frame = Math.floor(own(picture.map, position()) * picture.fps + 1e-4);
  return void act("clap", { point: point.id, version: point.version, frame });
};
const detail = () => {
  const pane = camera();
  const now = pane?.running(position()).now;
  if (!pane || !now) return;
  if (!pane.detail.hidden) {
    pane.detail.hidden = true;
    return;
  }
  if (playing()) halt();
  const frame = Math.floor(own(now.map, position()) * now.fps + 1e-4);
  pane.detail.onload = () => {
    pane.detail.hidden = false;
    pane.detail.dataset.frame = String(frame);
  };
  pane.detail.src = `/media/${now.id}/frame/${frame}.jpg?full`;
};
const mark = (/** @type {"from" | "to"} */ end) => void act("range", { end, at_us: Math.round(position() * 1e6) });

/** @param {"tag" | "way"} what */
const next = (what) => {
  const list = /** @type {HTMLSelectElement} */ ($(what === "tag" ? "sound" : "way"));
  list.selectedIndex = (list.selectedIndex + 1) % list.options.length;
  list.dispatchEvent(new Event("change", { bubbles: true }));
};

const channels = () => {
  const sound = sounding()[0];
  const list = sound?.channels ?? [];
  $("channel").replaceChildren(...list.map((/** @type {any} */ one) => new Option(`${one.number + 1} ${one.name}`,
    String(one.number))), ...(list.length > 1 ? [new Option("all, summed", "all")] : []));
  const wanted = state.first.tag === heard.tag && state.first.channel !== null ? String(state.first.channel) : null;
  heard.channel = wanted ?? String(list[0]?.number ?? "all");
  $("channel").value = heard.channel;
};

const KEYS = /** @type {Record<string, () => void>} */ ({
  " ": () => (playing() ? halt() : void start(1)),
  f: () => wind(1, false),
  F: () => wind(1, true),
  b: () => wind(-1, false),
  B: () => wind(-1, true),
  ArrowUp: () => choose(chosen - 1),
  ArrowDown: () => choose(chosen + 1),
  s: () => toPoint(1),
  S: () => toPoint(-1),
  h: () => go(0),
  m: () => go(state.seconds / 2),
  t: () => go(state.seconds - 1),
  l: turnLoop,
  e: () => next("tag"),
  E: () => next("way"),
  g: () => $("big").click(),
  d: detail,
  i: () => $("lift").click(),
  "+": () => zoom(0.5),
  "=": () => zoom(0.5),
  "-": () => zoom(2),
  v: () => { tall = !tall; paint(); },
  y: confirm,
  c: () => { const { off } = paired(); if (off) void act("check", off); },
  u: () => { const { off } = paired(); if (off) void act("undo", off); },
  w: () => $("note-text").focus(),
  "(": () => mark("from"),
  ")": () => mark("to"),
  k: () => cutting.turn(),
  K: () => cutting.undo(),
  "<": () => place(-1),
  ">": () => place(1),
  "[": () => void slipping.send().then(() => $("before")?.click()),
  "]": () => void slipping.send().then(() => $("after")?.click()),
});
const zoom = (/** @type {number} */ by) => {
  span = Math.min(120, Math.max(0.002, span * by));
  paint();
};

document.addEventListener("keydown", (event) => {
  if (notOurs(event)) return;
  if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
    event.preventDefault();
    const way = event.key === "ArrowRight" ? 1 : -1;
    if (event.shiftKey || event.ctrlKey)
      slipping.by(event.shiftKey && event.ctrlKey ? "samples" : event.shiftKey ? "frames" : "tenths", way);
    else {
      if (playing()) halt();
      go((Math.floor(position() * state.fps + 1e-4) + way + 0.5) / state.fps);
    }
    return;
  }
  if (event.ctrlKey) return;
  if (event.key === "Enter" && !(event.target instanceof HTMLButtonElement || event.target instanceof HTMLAnchorElement)) {
    put();
    return;
  }
  if (/^[1-9]$/.test(event.key)) {
    event.preventDefault();
    if (!cutting.digit(Number(event.key) - 1)) choose(Number(event.key) - 1);
    return;
  }
  if (event.key === " " && event.target instanceof HTMLButtonElement) return;
  if (!(event.key in KEYS)) return;
  event.preventDefault();
  KEYS[event.key]();
});
document.addEventListener("click", (event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  const wanted = target.closest?.("[data-panes]");
  if (wanted instanceof HTMLElement) {
    [count, big] = [Number(wanted.dataset.panes), false];
    if (chosen >= count) chosen = 0;
    lay();
    paint();
  }
  const pane = target.closest?.(".pane");
  if (pane instanceof HTMLElement) choose(panes.findIndex((one) => one.element === pane));
});
$("play").addEventListener("click", () => KEYS[" "]());
$("big").addEventListener("click", () => { big = !big; lay(); paint(); });
$("lift").addEventListener("click", () => {
  lift = !lift;
  $("lift").setAttribute("aria-pressed", String(lift));
  keep();
  paint();
});
$("loop").addEventListener("click", turnLoop);
$("put").addEventListener("submit", (/** @type {Event} */ event) => { event.preventDefault(); put(); });
$("note").addEventListener("submit", (/** @type {Event} */ event) => {
  event.preventDefault();
  const field = $("note-text");
  void act("note", { text: field.value, at_us: Math.round(position() * 1e6) }).then((done) => {
    if (!done) return;
    field.value = "";
    field.blur();
  });
});
for (const [id, name] of /** @type {const} */ ([["sound", "tag"], ["channel", "channel"], ["way", "way"],
  ["laid", "laid"]]))
  $(id).addEventListener("change", () => {
    heard[name] = $(id).value;
    if (name === "tag") channels();
    $(id).blur();
    keep();
    again();
  });
$("wave").addEventListener("wheel", (/** @type {WheelEvent} */ event) => {
  event.preventDefault();
  zoom(1.0015 ** event.deltaY);
}, { passive: false });
$("wave").addEventListener("click", (/** @type {MouseEvent} */ event) => {
  const box = $("wave").getBoundingClientRect();
  go(position() + ((event.clientX - box.left) / box.width - 0.5) * span);
});
// A camera is put elsewhere by dragging it there: the order is kept.
let dragged = -1;
$("panes").addEventListener("pointerdown", (/** @type {PointerEvent} */ event) => {
  const pane = /** @type {HTMLElement} */ (event.target).closest(".pane");
  dragged = panes.findIndex((one) => one.element === pane);
});
$("panes").addEventListener("pointerup", (/** @type {PointerEvent} */ event) => {
  const pane = document.elementFromPoint(event.clientX, event.clientY)?.closest(".pane");
  const to = panes.findIndex((one) => one.element === pane);
  if (dragged >= 0 && to >= 0 && to !== dragged) {
    panes.splice(to, 0, ...panes.splice(dragged, 1));
    chosen = to;
    lay();
    paint();
  }
  dragged = -1;
});
document.addEventListener("focusin", (event) => {
  const pane = /** @type {HTMLElement} */ (event.target).closest?.(".pane");
  const index = panes.findIndex((one) => one.element === pane);
  if (index >= 0 && index !== chosen) choose(index);
});
document.addEventListener("vesk:theme", later);
document.addEventListener("vesk:light-gone", () => follow());
new ResizeObserver(later).observe($("wave"));

take(JSON.parse($("moment-state").textContent));
const before = remembered();
lift = before.lift ?? true;
$("lift").setAttribute("aria-pressed", String(lift));
chosen = Math.max(0, panes.findIndex((pane) => pane.fixed));
count = before.count ?? ([1, 2, 4, 6, 9].find((one) => one >= panes.length) ?? 9);
heard.tag = state.first.tag;
$("sound").replaceChildren(...[...new Set(state.sounds.map((/** @type {any} */ one) => one.tag))].map((tag) => {
  const device = state.sounds.find((/** @type {any} */ one) => one.tag === tag).device;
  return new Option(`${tag} ${device}`, tag);
}));
if (!state.sounds.some((/** @type {any} */ one) => one.tag === heard.tag)) [heard.tag, heard.way] = ["", "scratch"];
else $("sound").value = heard.tag;
$("way").value = heard.way;
channels();
const asked = new URLSearchParams(location.search);
if (asked.has("at") && state.start !== null) stand(clamp(Number(asked.get("at")) - state.start));
else stand(clamp(Number(asked.get("own") ?? 0.5 / state.fps)));
lay();
paint();
