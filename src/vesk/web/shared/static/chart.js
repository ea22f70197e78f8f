// The day's chart by keys: one block of it can be reached by Tab, arrows walk from there, Enter opens.

import { typing } from "/static/keys.js";

/** @typedef {{ link: SVGAElement, x: number, lane: number }} Stop */

/** @returns {Stop[]} */
const stops = () =>
  /** @type {SVGAElement[]} */ ([...document.querySelectorAll(".chart a")]).map((link) => {
    const box = /** @type {SVGRectElement} */ (link.querySelector("rect"));
    return { link, x: box.x.baseVal.value + box.width.baseVal.value / 2, lane: box.y.baseVal.value };
  });

const reach = () => {
  const links = document.querySelectorAll(".chart a");
  if (links.length && !document.querySelector('.chart a[tabindex="0"]')) links[0].setAttribute("tabindex", "0");
};

/** The next block that way: along the lane, or the nearest on the next lane.
 * @param {Stop[]} all @param {Stop} from @param {string} key */
const beyond = (all, from, key) => {
  if (key === "ArrowLeft" || key === "ArrowRight") {
    const lane = all.filter((one) => one.lane === from.lane);
    return lane[lane.indexOf(from) + (key === "ArrowRight" ? 1 : -1)];
  }
  const lanes = [...new Set(all.map((one) => one.lane))].sort((a, b) => a - b);
  const lane = lanes[lanes.indexOf(from.lane) + (key === "ArrowDown" ? 1 : -1)];
  return all.filter((one) => one.lane === lane).sort((a, b) => Math.abs(a.x - from.x) - Math.abs(b.x - from.x))[0];
};

document.addEventListener(
  "keydown",
  (event) => {
    const link = /** @type {Element} */ (event.target).closest?.(".chart a");
    if (!link || !event.key.startsWith("Arrow") || event.ctrlKey || event.metaKey || event.altKey) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    const all = stops();
    const from = all.find((one) => one.link === link);
    const to = from && beyond(all, from, event.key);
    if (!to) return;
    link.setAttribute("tabindex", "-1");
    to.link.setAttribute("tabindex", "0");
    to.link.focus();
  },
  { capture: true },
);
/** Watch the moment at a place of the chart, pixels from its left; in a folded stretch, where the next one begins.
 * @param {SVGElement} drawn @param {number} x */
const watch = (drawn, x) => {
  const { runs, scale, watch: to } = drawn.dataset;
  let at = null;
  for (const [from, second, long] of JSON.parse(runs ?? "[]"))
    if (at === null || x >= from) at = second + Math.min(long, Math.max(0, (x - from) / Number(scale)));
  if (at !== null) location.assign(`${to}?at=${at.toFixed(3)}`);
};
document.addEventListener("dblclick", (event) => {
  const drawn = /** @type {Element} */ (event.target).closest?.("svg.chart[data-runs]");
  if (drawn instanceof SVGElement) watch(drawn, event.clientX - drawn.getBoundingClientRect().left);
});
document.addEventListener("keydown", (event) => {
  if (event.key !== "v" || event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  const block = document.activeElement?.closest?.(".chart a")?.querySelector("rect");
  const row = /** @type {HTMLElement | null} */ (document.activeElement?.closest?.("#ledger tbody tr") ?? null);
  const about = block?.dataset.recording ?? row?.dataset.recording;
  const to = /** @type {SVGElement | null} */ (document.querySelector("svg.chart[data-watch]"))?.dataset.watch;
  if (about && to) location.assign(`${to}/${about}`);
});
// The chart and the ledger are one: what is pointed at in either is marked in both.
document.addEventListener("pointerover", (event) => {
  const at = /** @type {Element} */ (event.target);
  const block = at.closest?.(".chart .block"),
    row = at.closest?.("#ledger tbody tr");
  const names = ["data-recording", "data-sound"];
  const own = [block?.getAttribute(names[0]), ...names.map((name) => row?.getAttribute(name))];
  const same = (/** @type {Element} */ one) =>
    names.some((name) => own.includes(one.getAttribute(name) ?? "none"));
  for (const one of document.querySelectorAll(".chart .block, #ledger tbody tr"))
    one.classList.toggle("pointed", same(one));
});
// Two chosen, a picture and a sound, or a camera and a recorder: they are joined by hand.
const NAMES = { picture: ["picture", "camera"], sound: ["sound", "recorder"] };
/** @type {Map<"picture" | "sound", { name: string, value: string, at: Element }>} */
const chosen = new Map();

/** @param {"picture" | "sound"} kind @param {0 | 1} wide @param {string} value @param {Element} at */
const choose = (kind, wide, value, at) => {
  const before = chosen.get(kind);
  const taken = before?.value === value && before.name === NAMES[kind][wide];
  for (const [other, one] of chosen)
    if (other === kind || NAMES[other].indexOf(one.name) !== wide) {
      mark(one.at, false);
      chosen.delete(other);
    }
  if (taken) return;
  chosen.set(kind, { name: NAMES[kind][wide], value, at });
  mark(at, true);
  const to = /** @type {HTMLElement | null} */ (document.querySelector(".chart[data-join]"))?.dataset.join;
  if (chosen.size < 2 || !to) return;
  location.assign(`${to}?${new URLSearchParams([...chosen.values()].map((one) => [one.name, one.value]))}`);
};
const mark = (/** @type {Element} */ at, /** @type {boolean} */ on) => {
  at.classList.toggle("chosen", on);
  if (at.hasAttribute("aria-pressed")) at.setAttribute("aria-pressed", String(on));
};
const chooseLane = (/** @type {Event} */ event) => {
  const lane = /** @type {SVGElement | null} */ (
    /** @type {Element} */ (event.target).closest?.(".chart.tags [data-device]")
  );
  const { device, kind } = lane?.dataset ?? {};
  if (lane && device && (kind === "picture" || kind === "sound")) choose(kind, 1, device, lane);
};
document.addEventListener("click", chooseLane);
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  if (event.key === "Enter" || event.key === " ") chooseLane(event);
  if (event.key !== "j") return;
  const at = document.activeElement?.closest?.(".chart a, #ledger tbody tr");
  const block = at?.querySelector(".block");
  const own = /** @type {HTMLElement | SVGElement | null | undefined} */ (block ?? at);
  const kind = block?.classList.contains("sound") || own?.dataset.kind === "sound" ? "sound" : "picture";
  if (at && own?.dataset.recording) choose(kind, 0, own.dataset.recording, at);
});
// Nearer and further: the server draws the chart as wide as asked; what was in sight stays where it was.
const WIDEST = 40000;
let near = 1,
  middle = 0,
  asked = 0;
const box = () => document.getElementById("chart");
const scroller = () => /** @type {HTMLElement | null} */ (document.querySelector(".chart-scroll"));

const draw = async () => {
  const place = box();
  if (!place) return;
  const width = Math.min(WIDEST, Math.round(place.clientWidth * near));
  const mine = (asked += 1);
  if (Math.abs(Number(place.dataset.width) - width) > 8) {
    const answer = await fetch(`${place.dataset.chart}?width=${width}`);
    const drawn = answer.ok ? await answer.text() : "";
    if (mine !== asked || !drawn || !box()) return;
    const focused = document.activeElement?.closest?.(".chart a")?.querySelector("rect")?.dataset.recording;
    /** @type {HTMLElement} */ (box()).outerHTML = drawn;
    reach();
    if (focused) {
      const again = document.querySelector(`.chart [data-recording="${focused}"]`)?.closest("a");
      /** @type {SVGAElement | null | undefined} */ (again)?.focus({ preventScroll: true });
    }
  }
  const inside = scroller();
  if (inside) inside.scrollLeft = middle * inside.scrollWidth - inside.clientWidth / 2;
};

/** @param {number} by @param {number} [at] share of the chart's own width that stays in place */
const nearer = (by, at) => {
  const inside = scroller();
  if (!inside) return;
  middle = at ?? (inside.scrollLeft + inside.clientWidth / 2) / inside.scrollWidth;
  near = Math.min(Math.max(1, near * by), WIDEST / inside.clientWidth);
  void draw();
};

document.addEventListener("click", (event) => {
  const by = /** @type {Element} */ (event.target).closest?.("[data-nearer]")?.getAttribute("data-nearer");
  if (by) nearer(Number(by));
});
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
  const by = { "+": 2, "=": 2, "-": 0.5 }[event.key];
  if (!by || !box()) return;
  event.preventDefault();
  const here = document.activeElement?.closest?.(".chart a")?.querySelector("rect");
  const drawn = here?.ownerSVGElement;
  nearer(by, here && drawn ? here.x.baseVal.value / drawn.width.baseVal.value : undefined);
});
document.addEventListener("scroll", (event) => {
  const inside = scroller();
  if (inside && event.target === inside)
    middle = (inside.scrollLeft + inside.clientWidth / 2) / inside.scrollWidth;
}, { capture: true });
const again = () => {
  reach();
  void draw();
};
document.addEventListener("htmx:after:swap", again);
addEventListener("resize", () => void draw());
again();
