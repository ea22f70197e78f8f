// Set before the page is painted, so that a dark room sees no flash of paper.
(() => {
  const root = document.documentElement;
  /** @param {string} theme */
  const set = (theme) => {
    root.dataset.theme = theme;
    root.dataset.bsTheme = theme === "night" ? "dark" : "light";
    document.getElementById("night")?.setAttribute("aria-pressed", String(theme === "night"));
    document.dispatchEvent(new CustomEvent("vesk:theme"));
  };
  let kept = null;
  try {
    kept = localStorage.getItem("vesk-theme");
  } catch {
    /* private window */
  }
  set(kept === "night" ? "night" : "paper");
  const turn = () => {
    const next = root.dataset.theme === "night" ? "paper" : "night";
    try {
      localStorage.setItem("vesk-theme", next);
    } catch {
      /* private window */
    }
    set(next);
  };
  document.addEventListener("DOMContentLoaded", () => {
    set(root.dataset.theme ?? "paper");
    document.getElementById("night")?.addEventListener("click", turn);
  });
  document.addEventListener("vesk:turn-theme", turn);
})();
