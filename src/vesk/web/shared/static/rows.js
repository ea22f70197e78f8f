// Long lists: rows beyond the first arrive as they are scrolled to, by themselves when the page rests, and at once
// when all of them are wanted (find in page, select all, the key End).

/** @returns {HTMLTableElement | null} */
const list = () => document.querySelector("table[data-more]");
/** @param {HTMLTableElement} table */
const shown = (table) => table.tBodies[0].rows.length;
/** @param {HTMLTableElement} table */
const left = (table) => Number(table.dataset.count) - shown(table);

const told = () => {
  const table = list();
  if (!table) return;
  for (const field of /** @type {NodeListOf<HTMLInputElement>} */ (document.querySelectorAll("[data-rows-shown]")))
    field.value = String(shown(table));
  const rest = document.getElementById("rest");
  if (!rest) return;
  if (left(table) <= 0) rest.remove();
  else if (rest.firstElementChild) rest.firstElementChild.textContent = `${left(table)} more rows`;
};

/** @type {Promise<boolean> | null} */
let coming = null;
/** Fetch the next rows; says whether any came. */
const next = () => {
  const table = list();
  if (!table || left(table) <= 0) return Promise.resolve(false);
  const url = new URL(table.dataset.more ?? "", location.href);
  const at = shown(table);
  url.searchParams.set("from", String(at));
  coming ??= fetch(url, { headers: { "HX-Request-Type": "partial" } })
    .then(async (answer) => {
      if (!answer.ok) return false;
      const holder = document.createElement("template");
      holder.innerHTML = await answer.text();
      // The page may have been laid anew meanwhile: rows go only where they follow on.
      if (list() !== table || shown(table) !== at) return true;
      table.tBodies[0].append(...holder.content.querySelectorAll("tr"));
      window.htmx.process(table);
      told();
      return true;
    })
    .catch(() => false)
    .finally(() => {
      coming = null;
    });
  return coming;
};

/** Have every row here. */
export const all = async () => {
  while (await next());
};

const rests = () => {
  const table = list();
  if (!table || left(table) <= 0) return;
  const again = async () => {
    if (await next()) setTimeout(rests, 250);
    else setTimeout(rests, 4000);
  };
  if ("requestIdleCallback" in window) requestIdleCallback(again, { timeout: 3000 });
  else setTimeout(again, 500);
};

document.addEventListener(
  "scroll",
  () => {
    const rest = document.getElementById("rest");
    if (rest && rest.getBoundingClientRect().top < window.innerHeight * 2) next();
  },
  { passive: true },
);
document.addEventListener("keydown", (event) => {
  if (((event.ctrlKey || event.metaKey) && event.key === "f") || event.key === "End") all();
});
document.addEventListener("htmx:after:swap", () => {
  told();
  rests();
});
told();
setTimeout(rests, 400);
