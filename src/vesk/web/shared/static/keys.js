// Keys that work on every page; a page's own actions carry data-key on their buttons.

/** @param {EventTarget | null} target */
export const typing = (target) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || /^(INPUT|SELECT|TEXTAREA)$/.test(target.tagName)) &&
  !(target instanceof HTMLInputElement && target.type === "checkbox");

const KEPT = "vesk-keys";
const single = () => {
  try {
    return localStorage.getItem(KEPT) !== "off";
  } catch {
    return true;
  }
};

/** Whether a key is none of ours: typed into a field, with a modifier of the browser's, below a dialog, or one letter
 * alone where these are switched off.
 * @param {KeyboardEvent} event */
export const notOurs = (event) =>
  typing(event.target) ||
  event.metaKey ||
  event.altKey ||
  document.querySelector("dialog[open]") !== null ||
  (event.key.length === 1 && event.key !== " " && !single());

const dialog = /** @type {HTMLDialogElement} */ (document.getElementById("keys"));
document.getElementById("show-keys")?.addEventListener("click", () => dialog.showModal());
const who = /** @type {HTMLDialogElement | null} */ (document.getElementById("who"));
document.getElementById("show-who")?.addEventListener("click", () => who?.showModal());
who?.querySelector("[data-close]")?.addEventListener("click", () => who.close());

// What a page is for, until it was read once in this browser.
for (const line of /** @type {NodeListOf<HTMLElement>} */ (document.querySelectorAll("[data-first]"))) {
  const name = `vesk-read-${line.dataset.first}`;
  try {
    line.hidden = localStorage.getItem(name) !== null;
  } catch {
    line.hidden = false;
  }
  line.querySelector("button")?.addEventListener("click", () => {
    line.hidden = true;
    try {
      localStorage.setItem(name, "1");
    } catch {
      /* private window: it comes again */
    }
  });
}

// Who may only look sees at once what is not theirs to press; the server refuses it anyway.
if (document.body.dataset.may === "look") {
  const shut = () => {
    const all = document.querySelectorAll(
      ':is(form[method="post"], form[data-changes]) :is(button, input, select, textarea), ' +
        "button[hx-post], button[data-changes]",
    );
    for (const one of /** @type {NodeListOf<HTMLButtonElement>} */ (all))
      if (!one.disabled && !one.closest("[data-anyone]")) {
        one.disabled = true;
        one.title = "You may look here, and change nothing.";
      }
  };
  shut();
  new MutationObserver(shut).observe(document.body, { childList: true, subtree: true });
}

const letters = /** @type {HTMLInputElement | null} */ (document.getElementById("single-keys"));
if (letters) {
  letters.checked = single();
  letters.addEventListener("change", () => {
    try {
      localStorage.setItem(KEPT, letters.checked ? "on" : "off");
    } catch {
      /* private window: until it is left */
    }
  });
}

document.addEventListener("keydown", (event) => {
  if (notOurs(event) || event.ctrlKey) return;
  if (event.key === "?") {
    event.preventDefault();
    dialog.showModal();
    return;
  }
  if (event.key === "n") {
    document.dispatchEvent(new CustomEvent("vesk:turn-theme"));
    return;
  }
  const field = document.getElementById("find");
  if (event.key === "q" && field instanceof HTMLInputElement) {
    event.preventDefault();
    field.select();
    return;
  }
  // Where digits mean something else on a page, its own script reads them.
  const digits = /^\d$/.test(event.key) && document.querySelector('[data-digits="own"]') !== null;
  const page = /** @type {HTMLAnchorElement | null} */ (
    digits ? null : document.querySelector(`[data-page="${CSS.escape(event.key)}"]`)
  );
  if (page) {
    location.assign(page.href);
    return;
  }
  const action = /** @type {HTMLButtonElement | null} */ (
    document.querySelector(`button[data-key="${CSS.escape(event.key)}"]:not(:disabled)`)
  );
  if (action) {
    event.preventDefault();
    action.click();
  }
});
