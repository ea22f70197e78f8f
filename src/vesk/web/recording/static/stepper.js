// Step through a recording's frames, large enough to read a display; what is typed beside them is the page's form.
const field = () => /** @type {HTMLInputElement | null} */ (document.getElementById("frame"));
const image = () => /** @type {HTMLImageElement | null} */ (document.getElementById("stepped"));
const place = () => document.getElementById("stepper");

/** @param {number} to */
const show = (to) => {
  const last = Number(place()?.dataset.frames ?? 1) - 1;
  const frame = Math.min(Math.max(Math.round(to) || 0, 0), last);
  const [input, picture] = [field(), image()];
  if (!input || !picture) return;
  input.value = String(frame);
  picture.src = `${place()?.dataset.src}${frame}.jpg?large=1`;
  picture.alt = `frame ${frame}`;
};

document.addEventListener("click", (event) => {
  const button = /** @type {Element} */ (event.target).closest?.("[data-step]");
  if (button) show(Number(field()?.value) + Number(/** @type {HTMLElement} */ (button).dataset.step));
});
document.addEventListener("change", (event) => {
  if (event.target === field()) show(Number(field()?.value));
});
document.addEventListener("keydown", (event) => {
  if (event.target !== field() || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
  event.preventDefault();
  show(Number(field()?.value) + (event.key === "ArrowUp" ? 1 : -1) * (event.shiftKey ? 25 : 1));
});
