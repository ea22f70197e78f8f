// The ledger: walking it by keys, selecting rows, and showing where a row lies on the chart.
import { notOurs } from "/static/keys.js";
import { all as everyRow } from "/static/rows.js";

const rows = () => /** @type {HTMLTableRowElement[]} */ ([...document.querySelectorAll("#ledger tbody tr")]);

const count = () => {
  const said = document.getElementById("picked");
  const number = document.querySelectorAll("tbody .pick input:checked").length;
  if (said) said.textContent = number ? `${number} selected` : "none selected";
};

/** The row whose box was set last: a range begins there.
 * @type {HTMLTableRowElement | null} */
let last = null;

/** Set every box from the last one that was set to this row's as this one is.
 * @param {HTMLTableRowElement} row @param {boolean} range */
const picked = (row, range) => {
  const all = rows();
  const on = /** @type {HTMLInputElement | null} */ (row.querySelector(".pick input"))?.checked ?? false;
  if (range && last && all.includes(last)) {
    const [a, b] = [all.indexOf(last), all.indexOf(row)].sort((x, y) => x - y);
    for (const one of all.slice(a, b + 1)) {
      const box = /** @type {HTMLInputElement | null} */ (one.querySelector(".pick input"));
      if (box) box.checked = on;
    }
  }
  last = row;
  count();
};

document.addEventListener("click", (event) => {
  const box = /** @type {Element} */ (event.target).closest?.("#ledger tbody .pick input");
  const row = box?.closest("tr");
  if (row) picked(row, event.shiftKey);
});

document.addEventListener("change", async (event) => {
  const target = /** @type {HTMLInputElement} */ (event.target);
  if (target.id === "pick-all") {
    if (target.checked) await everyRow();
    for (const box of /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll("tbody .pick input")))
      box.checked = target.checked;
  }
  count();
});

/** @param {Element | null} row @param {boolean} on */
const point = (row, on) => {
  if (!(row instanceof HTMLElement)) return;
  for (const id of [row.dataset.recording, row.dataset.sound]) {
    if (id)
      for (const block of document.querySelectorAll(`.block[data-recording="${id}"]`))
        block.classList.toggle("here", on);
  }
};
for (const [name, on] of /** @type {[string, boolean][]} */ ([
  ["mouseover", true],
  ["mouseout", false],
  ["focusin", true],
  ["focusout", false],
])) {
  document.addEventListener(name, (event) =>
    point(/** @type {Element} */ (event.target).closest?.("#ledger tbody tr"), on),
  );
}

document.addEventListener("keydown", async (event) => {
  if (notOurs(event) || event.ctrlKey) return;
  let all = rows();
  const at = all.findIndex((row) => row.contains(document.activeElement));
  if (event.key === "ArrowDown" || event.key === "ArrowUp") {
    if (event.key === "ArrowDown" && at === all.length - 1 && at >= 0) {
      event.preventDefault();
      await everyRow();
      all = rows();
    }
    const next = all[Math.min(all.length - 1, Math.max(0, at + (event.key === "ArrowDown" ? 1 : -1)))];
    if (next) {
      event.preventDefault();
      next.focus();
      next.scrollIntoView({ block: "nearest" });
    }
  } else if (at >= 0 && document.activeElement === all[at]) {
    if (event.key === "Enter" && all[at].dataset.href) location.assign(all[at].dataset.href ?? "");
    const box = /** @type {HTMLInputElement | null} */ (all[at].querySelector(".pick input"));
    if (event.key === " " && box) {
      event.preventDefault();
      box.checked = !box.checked;
      picked(all[at], event.shiftKey);
    }
  }
});

// What was done is done: nothing typed or ticked for it may be taken for the next thing.
document.addEventListener("htmx:after:swap", () => {
  const form = document.getElementById("together");
  if (form instanceof HTMLFormElement && document.querySelector("#intake > .said")) form.reset();
  count();
});

// Ticked before this was here to follow it: it follows now.
const early = document.getElementById("pick-all");
if (early instanceof HTMLInputElement && early.checked) early.dispatchEvent(new Event("change", { bubbles: true }));
