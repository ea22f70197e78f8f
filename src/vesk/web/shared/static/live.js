// Follows the day's long work: refreshes the progress line, and the page when a piece of work has ended.

/** @returns {HTMLElement | null} */
const line = () => document.getElementById("progress");

/** Fetch a partial and lay it over what is there.
 * @param {string} url @param {HTMLElement} target */
const refresh = (url, target) => window.htmx.ajax("GET", url, { target: `#${target.id}`, swap: "outerMorph" });

/** The same page with as many rows of a long list as are here now.
 * @param {string} url */
const withRows = (url) => {
  const rows = document.querySelectorAll("table[data-more] tbody tr").length;
  return rows ? `${url}${url.includes("?") ? "&" : "?"}rows=${rows}` : url;
};

/** Whether a field says something else than the page came with.
 * @param {Element} field */
const filled = (field) => {
  if (field instanceof HTMLSelectElement) {
    const given = [...field.options].findIndex((option) => option.defaultSelected);
    return field.selectedIndex !== Math.max(0, given);
  }
  if (!(field instanceof HTMLInputElement)) return false;
  return field.type === "checkbox" ? field.checked !== field.defaultChecked : field.value !== field.defaultValue;
};

/** Somebody is in the middle of something that a refresh would take away.
 * @param {HTMLElement} page */
const busy = (page) =>
  (page.contains(document.activeElement) &&
    /^(INPUT|SELECT|TEXTAREA)$/.test(document.activeElement?.tagName ?? "")) ||
  page.querySelector("tbody .pick input:checked") !== null ||
  [...page.querySelectorAll("form[data-kept] :is(input, select)")].some(filled) ||
  document.body.dataset.slipping === "1";

/** Names this page among those that are open. */
const tab = crypto.getRandomValues(new Uint32Array(3)).join("-");
/** The progress line's address, with what this page is and about which take.
 * @param {string} url */
const here = (url) => {
  const about = /** @type {HTMLElement | null} */ (document.querySelector("[data-take]"))?.dataset.take ?? "";
  const page = document.querySelector("nav.pages [aria-current]")?.textContent?.trim() ?? "";
  return `${url}?${new URLSearchParams({ tab, page, about })}`;
};
addEventListener("pagehide", () => {
  const url = line()?.dataset.url?.replace(/progress$/, "leave");
  const token = document.body.getAttribute("hx-headers:inherited")?.match(/"X-CSRFToken": "([^"]*)"/)?.[1] ?? "";
  const said = new FormData();
  said.set("tab", tab);
  said.set("csrf_token", token);
  if (url) navigator.sendBeacon(url, said);
});

/** Mark the rows of takes that somebody else looks at. */
const mark = () => {
  for (const old of document.querySelectorAll("td[data-with]")) old.removeAttribute("data-with");
  for (const one of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll(".others [data-at]"))) {
    const row = one.dataset.at && document.querySelector(`tr[data-recording="${one.dataset.at}"] td.name`);
    if (row instanceof HTMLElement) row.dataset.with = one.querySelector("b")?.textContent ?? "";
  }
};

let shown = line()?.dataset.stamp;
const follow = async () => {
  const now = line();
  if (now && !document.hidden) {
    try {
      const response = await fetch(here(now.dataset.url ?? ""), { headers: { "HX-Request-Type": "partial" } });
      if (response.ok) {
        const holder = document.createElement("template");
        holder.innerHTML = await response.text();
        const fresh = /** @type {HTMLElement} */ (holder.content.firstElementChild);
        const was = now.dataset.open;
        if (fresh.outerHTML !== now.outerHTML) {
          now.replaceWith(fresh);
          window.htmx.process(fresh);
        }
        mark();
        const page = /** @type {HTMLElement | null} */ (document.querySelector("[data-live]"));
        if (page && (fresh.dataset.stamp !== shown || was !== fresh.dataset.open) && !busy(page)) {
          shown = fresh.dataset.stamp;
          refresh(withRows(page.dataset.live ?? ""), page);
        }
      }
    } catch {
      /* the server is away; the next turn asks again */
    }
  }
  setTimeout(follow, line()?.dataset.open === "1" ? 1000 : 1300);
};
setTimeout(follow, 100);
