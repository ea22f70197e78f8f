// The rough cut: which camera from where to where, in frames of the day; the sound stays.
import { label } from "./axis.js";

/** @typedef {{ camera: string, first: number, last: number, takes: string }} Cut */

export class Cutting {
  /** @param {{ act: (what: string, values: Record<string, any>) => Promise<boolean>, go: (at: number) => void,
   *   panes: () => { tag: string, element: HTMLElement }[], sound: () => Record<string, string>, at: () => number,
   *   button: (text: string, act: () => void) => HTMLButtonElement,
   *   change: (text: string, act: () => void) => HTMLButtonElement }} page */
  constructor(page) {
    this.page = page;
    this.on = false;
    /** @type {any} */
    this.state = {};
    this.shown = "";
  }

  /** @param {any} state */
  take(state) {
    this.state = state;
    this.list();
  }

  turn() {
    this.on = !this.on;
    this.list();
    this.show(this.page.at());
  }

  undo() {
    void this.page.act("uncut", { version: this.state.cuts.version });
  }

  /** A digit takes that camera from here on, while cutting is on.
   * @param {number} index */
  digit(index) {
    const pane = this.page.panes()[index];
    if (!this.on || !pane) return false;
    const { tag, channel } = this.page.sound();
    const values = { camera: pane.tag, at_us: Math.round(this.page.at() * 1e6), sound: tag, channel };
    void this.page.act("cut", { ...values, version: this.state.cuts.version });
    return true;
  }

  /** Day frame at a time of the axis.
   * @param {number} at */
  frame(at) {
    return Math.floor(((this.state.start ?? 0) + at) * this.state.clock.fps + 1e-4);
  }

  /** The camera that the rough cut shows is marked, while it is on.
   * @param {number} at */
  show(at) {
    const now = this.camera(at);
    for (const pane of this.page.panes()) pane.element.classList.toggle("taken", pane.tag === now);
  }

  /** The camera that the rough cut shows at a time, while cutting is on; null where it shows none.
   * @param {number} at @returns {string | null} */
  camera(at) {
    const frame = this.frame(at);
    const here = (/** @type {Cut} */ cut) => cut.first <= frame && frame < cut.last && cut.takes !== "sound";
    return this.on ? (this.state.cuts.list.find(here)?.camera ?? null) : null;
  }

  /** The camera whose own sound the rough cut plays at a time; null where the chosen sound goes on.
   * @param {number} at @returns {string | null} */
  heard(at) {
    if (!this.on) return null;
    const frame = this.frame(at);
    let camera = null;
    for (const cut of /** @type {Cut[]} */ (this.state.cuts.list))
      if (cut.first <= frame && cut.takes !== "picture") camera = cut.camera;
    return camera;
  }

  /** When the rough cut next plays another sound than at a time, and whose; null where it goes on.
   * @param {number} at */
  turns(at) {
    const now = this.heard(at);
    const { start, clock, cuts } = this.state;
    for (const cut of /** @type {Cut[]} */ (this.on ? cuts.list : []))
      if (cut.first > this.frame(at) && cut.takes !== "picture" && cut.camera !== now)
        return { at: cut.first / clock.fps - (start ?? 0), camera: cut.camera };
    return null;
  }

  /** @param {number} at */
  follow(at) {
    if (this.on) this.show(at);
  }

  list() {
    const box = /** @type {HTMLElement} */ (document.getElementById("cuts"));
    const { list, version } = this.state.cuts;
    const key = JSON.stringify([list, this.on]);
    if (key === this.shown) return;
    this.shown = key;
    const { button, change: changing, act, go } = this.page;
    const mode = document.createElement("p");
    mode.append(button(this.on ? "cutting: digits take a camera; k ends it" : "Begin to cut k", () => this.turn()));
    mode.querySelector("button")?.setAttribute("aria-pressed", String(this.on));
    const rows = document.createElement("ol");
    rows.className = "plain-list";
    list.forEach((/** @type {Cut} */ cut, /** @type {number} */ index) => {
      const row = document.createElement("li");
      const start = (this.state.start ?? 0) * this.state.clock.fps;
      const change = (/** @type {Record<string, any>} */ values) => void act("trim", { index, version, ...values });
      const takes = document.createElement("select");
      takes.setAttribute("aria-label", `what cut ${index + 1} takes`);
      for (const one of ["picture", "sound", "both"]) takes.append(new Option(one, one));
      takes.value = cut.takes;
      takes.addEventListener("change", () => change({ takes: takes.value }));
      row.append(
        `${cut.camera} `,
        button(label(cut.first, this.state.clock), () => go((cut.first - start + 0.5) / this.state.clock.fps)),
        changing("−1 f", () => change({ edge: "first", frames: -1 })),
        changing("+1 f", () => change({ edge: "first", frames: 1 })),
        " to ",
        label(cut.last, this.state.clock),
        changing("−1 f", () => change({ edge: "last", frames: -1 })),
        changing("+1 f", () => change({ edge: "last", frames: 1 })),
        " ",
        takes,
      );
      rows.append(row);
    });
    const out = document.createElement("p");
    if (list.length) {
      const url = document.getElementById("watching")?.dataset.url;
      for (const kind of ["otio", "edl"])
        out.append(Object.assign(document.createElement("a"), { href: `${url}/cut.${kind}`, textContent:
          kind.toUpperCase() }), " ");
      out.append(changing("Undo the last K", () => this.undo()));
    }
    box.replaceChildren(mode, rows, out);
  }
}
