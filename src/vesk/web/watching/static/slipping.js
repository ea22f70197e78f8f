// Slipping: seen and heard at once, sent when the keys rest, or as soon as another camera is slipped or left for.

/** @typedef {import("./panes.js").Pane} Pane */
/** @typedef {{ frames: number, tenths: number, samples: number }} By */
/** @typedef {{ pane: Pane, picture: number, sound: number, fps: number, rate: number, by: By }} Slip */

const RESTS_MS = 500;

/** @param {Slip} own */
const seconds = ({ by, fps, rate }) => (by.frames + by.tenths / 10) / fps + by.samples / rate;

export class Slipping {
  /** @param {{ camera: () => Pane | null, paired: () => { sound: any, picture: any, off: any }, pictures: () => any[],
   *   asRecorded: () => boolean, say: (text: string) => void, again: () => void,
   *   act: (what: string, values: Record<string, any>) => Promise<boolean> }} page */
  constructor(page) {
    this.page = page;
    this.waiting = 0;
    /** What is gathered for one camera against one sound, and not sent yet.
     * @type {Slip | null} */
    this.gathered = null;
    /** One after the other: each is made on what the one before it left.
     * @type {Promise<void>} */
    this.sending = Promise.resolve();
    addEventListener("pagehide", () => void this.send());
  }

  send() {
    clearTimeout(this.waiting);
    const own = this.gathered;
    if (!own) return this.sending;
    const { act, again, pictures } = this.page;
    this.gathered = null;
    own.pane.sent += seconds(own);
    this.sending = this.sending.then(async () => {
      const off = pictures().find((one) => one.id === own.picture)?.off[own.sound];
      if (off) await act("slip", { pairing: off.pairing, version: off.version, ...own.by });
      own.pane.sent -= seconds(own);
      own.pane.slip = own.pane.sent + (this.gathered?.pane === own.pane ? seconds(this.gathered) : 0);
      again();
    });
    return this.sending;
  }

  /** @param {keyof By} unit @param {number} by */
  by(unit, by) {
    const { camera, paired, asRecorded, say, again } = this.page;
    const { picture, off, sound } = paired();
    const pane = camera();
    if (!off || !picture || !pane || asRecorded())
      return say(picture ? `${picture.name} is not paired with this sound: there is nothing to slip.`
        : "It is not rolling now.");
    if (this.gathered && (this.gathered.picture !== picture.id || this.gathered.sound !== sound.id)) void this.send();
    this.gathered ??= {
      pane, picture: picture.id, sound: sound.id, fps: picture.fps, rate: sound.rate,
      by: { frames: 0, tenths: 0, samples: 0 },
    };
    this.gathered.by[unit] += by;
    pane.slip = pane.sent + seconds(this.gathered);
    say(`slip ${pane.slip < 0 ? "−" : "+"}${Math.abs(pane.slip * picture.fps).toFixed(2)} f`);
    again();
    clearTimeout(this.waiting);
    this.waiting = window.setTimeout(() => this.send(), RESTS_MS);
  }
}
