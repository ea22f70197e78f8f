// The day's chart by keys: one block of it can be reached by Tab, arrows walk from there, Enter opens.

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
document.addEventListener("htmx:after:swap", reach);
reach();
