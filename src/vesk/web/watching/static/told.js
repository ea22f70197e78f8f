// What is told beneath the pictures: the chosen camera, sync points, what is wrong, the range that is handed over.
import { dayLabel, onAxis } from "./axis.js";

/** @typedef {(what: string, values: Record<string, any>) => Promise<boolean>} Act */

const $ = (/** @type {string} */ id) => /** @type {any} */ (document.getElementById(id));

/** @param {string} text @param {() => void} act */
export const button = (text, act) => {
  const made = document.createElement("button");
  made.type = "button";
  made.className = "plain";
  made.textContent = text;
  made.addEventListener("click", act);
  return made;
};

/** A button that changes something: shut for who may only look.
 * @param {string} text @param {() => void} act */
export const change = (text, act) => {
  const made = button(text, act);
  made.dataset.changes = "";
  return made;
};

/** @param {string} tag @param {string} text */
const line = (tag, text) => Object.assign(document.createElement(tag), { textContent: text });

/** How the chosen camera stands against the sound that is heard.
 * @param {{ picture: any, off: any, sound: any }} paired @param {Act} act */
export const tellCamera = ({ picture, off, sound }, act) => {
  const lines = [];
  if (picture) lines.push(`${picture.tag} ${picture.name}${picture.laid_by ? `, laid by ${picture.laid_by}` : ""}`);
  if (picture?.off_speed) lines.push(`off-speed: ${picture.off_speed}`);
  if (off) lines.push(`${off.state}: ${off.verdict}`);
  else if (picture && sound) lines.push(`not paired with ${sound.tag} ${sound.name}`);
  if (picture?.light === "failed") lines.push(`no light copy: ${picture.problem || "it could not be made"}`);
  const key = JSON.stringify([lines, off?.pairing, off?.version]);
  const box = $("chosen");
  if (box.dataset.key === key) return;
  box.dataset.key = key;
  box.replaceChildren(...lines.map((one) => line("p", one)));
  if (picture?.light === "failed") box.append(change("Make it again", () => void act("light", { picture: picture.id })));
  if (!off) return;
  const { pairing, version } = off;
  const row = document.createElement("p");
  row.className = "acts";
  row.append(
    change("Mark as checked c", () => void act("check", { pairing, version })),
    change("Undo u", () => void act("undo", { pairing, version })),
    Object.assign(line("a", "bench"), { href: `/bench/${pairing}` }),
  );
  box.append(row);
};

/** Sync points, notes and the range of the moment.
 * @param {any} state @param {(at: number) => void} go @param {Act} act */
export const tellLists = (state, go, act) => {
  const entry = (/** @type {number} */ at, /** @type {(Node | string)[]} */ ...rest) => {
    const item = document.createElement("li");
    item.append(
      button(dayLabel(state, at), () => go(at + 0.5 / state.fps)),
      " ",
      ...rest,
    );
    return item;
  };
  const points = state.points.map((/** @type {any} */ point) => {
    const where = point.frame ? `frame ${point.frame}` : `${point.own.toFixed(3)} s`;
    const what = `${point.tag} ${point.name || point.kind} ${point.how}`;
    return entry(onAxis(point.map, point.own), `${what}, ${where}${point.sure ? "" : ", proposed"}`);
  });
  const notes = state.notes.map((/** @type {any} */ note) => {
    const by = line("span", note.by);
    by.className = "quiet";
    return entry(note.at, note.text, " ", by, " ", change("take back", () => void act("unnote", { note: note.id })));
  });
  for (const [name, items] of /** @type {[string, HTMLElement[]][]} */ ([["points", points], ["notes", notes]]))
    $(name).replaceChildren(...(items.length ? items : [line("li", "none yet")]));
  const { range } = state;
  $("range").textContent = range ? `${dayLabel(state, range[0])} to ${dayLabel(state, range[1])}` : "all of it";
  if (range) $("range").append(" ", change("all of it", () => void act("whole", {})));
  $("put-on").replaceChildren(
    ...[...state.pictures, ...state.sounds].map((one) => new Option(`${one.tag} ${one.name}`, String(one.id))),
  );
};
