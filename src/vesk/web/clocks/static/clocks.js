// Clocks by keys and wheel: a part of the day, and how tall; the server draws, and says where the marks lie.
import { typing } from "/static/keys.js";

const SHORTEST = 20;
const place = () => /** @type {HTMLElement} */ (document.getElementById("clocks"));
const number = (/** @type {string} */ name) => Number(place().dataset[name]);
let asked = 0;

/** @param {number} since @param {number} until @param {number} tall */
const show = async (since, until, tall) => {
  const low = number("low"),
    high = number("high");
  const span = Math.min(Math.max(until - since, SHORTEST), high - low);
  const from = Math.min(Math.max(since, low), high - span);
  const sent = new URLSearchParams({
    since: String(from),
    until: String(from + span),
    tall: String(tall),
    truth: place().dataset.truth ?? "",
  });
  // The next turn of the wheel goes on from here, whether this is drawn by then or not.
  Object.assign(place().dataset, { since: String(from), until: String(from + span), tall: String(tall) });
  const mine = (asked += 1);
  const answer = await fetch(`${place().dataset.here}?${sent}`, { headers: { "HX-Request": "true" } });
  const text = await answer.text();
  if (!answer.ok || mine !== asked) return;
  const fresh = new DOMParser().parseFromString(text, "text/html").getElementById("clocks");
  if (!fresh) return;
  // Only what is drawn changes: what is being typed below stays.
  for (const name of ["since", "until", "tall"]) place().dataset[name] = fresh.dataset[name] ?? "";
  const drawn = [...fresh.querySelectorAll("svg.clock")];
  for (const [index, old] of [...document.querySelectorAll("svg.clock")].entries())
    if (drawn[index]) old.replaceWith(drawn[index]);
};

/** @param {number} by @param {number} [share] of the plot that stays in place */
const zoom = (by, share = 0.5) => {
  const since = number("since"),
    span = number("until") - since;
  const at = since + share * span;
  void show(at - share * span * by, at + (1 - share) * span * by, number("tall"));
};

document.addEventListener("keydown", (event) => {
  if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey || !place()) return;
  const since = number("since"),
    until = number("until"),
    tall = number("tall"),
    step = (until - since) / 5;
  const moves = /** @type {Record<string, () => void>} */ ({
    "+": () => zoom(0.5),
    "=": () => zoom(0.5),
    "-": () => zoom(2),
    ArrowLeft: () => void show(since - step, until - step, tall),
    ArrowRight: () => void show(since + step, until + step, tall),
    ArrowUp: () => void show(since, until, tall / 1.5),
    ArrowDown: () => void show(since, until, tall * 1.5),
    0: () => location.assign(place().dataset.here ?? ""),
  });
  const move = moves[event.key];
  if (!move) return;
  event.preventDefault();
  move();
});
// A figure that is typed is nudged by keys too; what follows of it is shown at once.
document.addEventListener("keydown", (event) => {
  const field = event.target;
  if (!(field instanceof HTMLInputElement) || !field.dataset.nudge || event.ctrlKey || event.metaKey || event.altKey)
    return;
  if (event.key !== "ArrowUp" && event.key !== "ArrowDown") return;
  const now = Number(field.value.trim().replace("\u2212", "-") || "0");
  if (!Number.isFinite(now)) return; // hours are typed
  event.preventDefault();
  const by = Number(field.dataset.nudge) * (event.shiftKey ? 10 : 1) * (event.key === "ArrowUp" ? 1 : -1);
  field.value = String(Math.round((now + by) * 1e4) / 1e4);
  field.dispatchEvent(new Event("input", { bubbles: true }));
});
document.addEventListener(
  "wheel",
  (event) => {
    const plot = /** @type {Element} */ (event.target).closest?.("svg.clock");
    if (!plot || event.shiftKey) return;
    event.preventDefault();
    const box = plot.getBoundingClientRect();
    zoom(event.deltaY < 0 ? 0.7 : 1.4, (event.clientX - box.left) / box.width);
  },
  { passive: false },
);
