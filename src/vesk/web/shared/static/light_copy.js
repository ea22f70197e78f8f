// A light copy: its frames fetched by bytes and decoded a group at a time, the ones wanted soonest first.

const TOGETHER = 3; // groups fetched at once
const SPANS = 16; // such stretches kept
const RENEW_MS = 2000; // of a copy that grows, what there is now is asked for no sooner
const HELD_MS = 400;
const REST_MS = 100; // how long it stands before what lies beside is decoded: who seeks on waits for nothing

/** @typedef {{ fps: [number, number], frames: number, width: number, height: number, codec: string,
 *   description: string, begins: number, sizes: number[], runs: [number, number][], keys: number[],
 *   lift: { gain: number, shift: number } | null, whole: boolean }} Index */

/** Whether frames can be decoded one by one here: only where the page is safe from strangers on its way. */
export const exact = () => "VideoDecoder" in window;

/** @typedef {{ first: number, next: number, frames: Map<number, VideoFrame> }} Group */

/** @type {{ content: string, low: number, high: number, came: (bytes: Uint8Array) => void,
 *   broke: (why: unknown) => void }[]} */
let asking = [];
/** Have a part of a copy, empty where it was let go of. What is asked for in one breath is fetched in one: a browser
 * spends more on each request than on its bytes.
 * @param {string} content @param {number} low @param {number} high @returns {Promise<Uint8Array>} */
const part = (content, low, high) =>
  new Promise((came, broke) => {
    asking.push({ content, low, high, came, broke });
    if (asking.length === 1) queueMicrotask(askTogether);
  });
const askTogether = async () => {
  const mine = asking;
  asking = [];
  try {
    const parts = mine.map(({ content, low, high }) => `${content}:${low}-${high}`).join(",");
    const answer = await fetch(`/media/light?parts=${parts}`);
    if (!answer.ok) throw new Error(String(answer.status));
    const lengths = (answer.headers.get("X-Lengths") ?? "").split(",").map(Number);
    const bytes = new Uint8Array(await answer.arrayBuffer());
    let at = 0;
    for (const [k, one] of mine.entries()) one.came(bytes.subarray(at, (at += lengths[k])));
  } catch (error) {
    for (const one of mine) one.broke(error);
  }
};

export class Copy {
  /** @param {string} content @param {Index} index @param {number} recording */
  constructor(content, index, recording) {
    this.content = content;
    this.recording = recording;
    this.index = index;
    /** @type {number[]} */
    this.offsets = [];
    this.end = 0;
    this.take(index);
    this.renewed = performance.now();
    this.renewing = 0;
    /** Bytes of stretches by their first group; of a group alone by ``~group``.
     * @type {Map<number, Promise<Uint8Array>>} */
    this.spans = new Map();
    /** What is decoded of groups: which samples of each were given to the decoder, and what came of them.
     * @type {Map<number, Group>} */
    this.groups = new Map();
    /** Groups that are decoded now, soonest first, and those that will be.
     * @type {number[]} */
    this.wanted = [];
    /** @type {number[]} */
    this.near = [];
    this.keysOnly = false;
    this.busy = false;
    this.due = -1; // the sample that is waited for
    this.ahead = true; // whether more is decoded than is waited for
    this.resting = 0;
    this.fed = -1; // the group that the decoder can go on with
    this.came = (/** @type {unknown} */ _) => {};
    this.broke = (/** @type {unknown} */ _) => {};
    this.failed = -Infinity; // when; asked for again no sooner than a second after
    this.gone = false; // let go of by the cache: it is made anew
    this.closed = false;
    /** @type {VideoDecoder | null} */
    this.decoder = null;
    /** @type {(frame: VideoFrame) => void} */
    this.arrived = (frame) => frame.close();
    this.onFrames = () => {};
  }

  /** @param {number} recording */
  static async open(recording) {
    const answer = await fetch(`/media/${recording}/light.json`);
    return answer.ok ? new Copy(answer.headers.get("X-Content") ?? "", await answer.json(), recording) : null;
  }

  /** @param {Index} index */
  take(index) {
    this.index = index;
    this.offsets = [];
    let at = index.begins;
    for (const size of index.sizes) {
      this.offsets.push(at);
      at += size;
    }
    this.end = at;
  }

  /** Whether a frame is there, of a copy that may be growing still.
   * @param {number} frame */
  has(frame) {
    if (this.index.whole) return true;
    void this.renew();
    const [sample, number] = this.index.runs[this.index.runs.length - 1];
    return frame < number + this.index.sizes.length - sample;
  }

  /** Ask what there is by now, or as soon as that was long enough ago: a page that stands paints nothing anew. */
  async renew() {
    const rest = this.renewed + RENEW_MS - performance.now();
    if (rest > 0 || this.closed) {
      if (!this.renewing && !this.closed)
        this.renewing = window.setTimeout(() => {
          this.renewing = 0;
          void this.renew();
        }, rest);
      return;
    }
    this.renewed = performance.now();
    try {
      const answer = await fetch(`/media/${this.recording}/light.json`);
      if (!answer.ok || this.closed) return;
      const fresh = await answer.json();
      const last = this.index.keys.length - 1; // it ended within that
      this.spans.delete(last - (last % TOGETHER));
      this.spans.delete(~last);
      this.take(fresh);
    } catch {
      // It is asked again with the next picture.
    } finally {
      if (!this.closed) this.onFrames();
    }
  }

  /** The last sample whose number is not beyond a frame's.
   * @param {number} frame */
  sampleOf(frame) {
    const { runs, sizes } = this.index;
    let low = 0,
      high = runs.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (runs[middle][1] <= frame) low = middle;
      else high = middle - 1;
    }
    const next = low + 1 < runs.length ? runs[low + 1][0] : sizes.length;
    return Math.max(0, Math.min(next - 1, runs[low][0] + frame - runs[low][1]));
  }

  /** @param {number} sample */
  groupOf(sample) {
    const { keys } = this.index;
    let low = 0,
      high = keys.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (keys[middle] <= sample) low = middle;
      else high = middle - 1;
    }
    return low;
  }

  /** The picture of a frame if it is decoded, with its sample; and have what is needed next decoded.
   * @param {number} frame @param {number} speed frames a frame of time: its sign tells what is needed next */
  at(frame, speed) {
    const sample = this.sampleOf(frame);
    const group = this.groupOf(sample);
    const step = speed < 0 ? -1 : 1;
    this.keysOnly = Math.abs(speed) > 3;
    const ahead = this.keysOnly ? 10 : Math.abs(speed) > 1 ? 4 : speed ? 3 : 1;
    const wanted = [group];
    for (let k = 1; k <= ahead; k += 1) wanted.push(group + k * step);
    wanted.push(group - step);
    this.near = wanted.filter((one) => one >= 0 && one < this.index.keys.length);
    const sought = !speed && !this.groups.has(group);
    const stepped = !sought && sample !== this.due;
    this.due = sample;
    if (speed || sought || stepped) clearTimeout(this.resting);
    if (speed || stepped) this.rest();
    else if (sought) {
      this.wanted = [group];
      this.ahead = false;
      void this.bytes(group).catch(() => {}); // while what was wanted before is still on its way
    } else this.wanted = this.ahead ? this.near : [group];
    void this.work();
    if (speed && !this.keysOnly) {
      const soon = group + 4 * step;
      if (soon >= 0 && soon < this.index.keys.length) void this.bytes(soon).catch(() => {});
    }
    const have = this.groups.get(group);
    const shown = this.keysOnly ? this.index.keys[group] : sample;
    const picture = have?.frames.get(shown);
    return picture ? { picture, sample: shown } : null;
  }

  /** Decode what lies beside, too: nobody seeks on. */
  rest() {
    this.wanted = this.near;
    this.ahead = true;
  }

  /** What was waited for is there: soon what lies beside is wanted. */
  restSoon() {
    clearTimeout(this.resting);
    this.resting = window.setTimeout(() => {
      this.rest();
      void this.work();
    }, REST_MS);
  }

  async work() {
    if (this.busy || performance.now() - this.failed < 1000) return;
    this.busy = true;
    try {
      for (;;) {
        this.tidy();
        const next = this.wanted.find((one) => (this.groups.get(one)?.next ?? -1) < this.until(one));
        if (next === undefined || this.closed) return;
        await this.decode(next);
        this.onFrames();
      }
    } catch {
      // What could not be fetched or decoded is asked for again with the next picture.
      if (this.decoder && this.decoder.state !== "closed") this.decoder.close();
      this.decoder = null;
      this.fed = -1;
      this.failed = performance.now();
      for (const [group, have] of this.groups) if (have.frames.size < have.next - have.first) this.forget(group);
    } finally {
      this.busy = false;
    }
  }

  /** Before which sample a group is to be decoded now: the one that is waited for, while nothing else is wanted.
   * @param {number} group */
  until(group) {
    const { keys, sizes } = this.index;
    if (this.keysOnly) return keys[group] + 1;
    const ends = keys[group + 1] ?? sizes.length;
    return this.ahead || this.due < keys[group] || this.due >= ends ? ends : this.due + 1;
  }

  /** @param {number} group */
  forget(group) {
    for (const frame of this.groups.get(group)?.frames.values() ?? []) frame.close();
    this.groups.delete(group);
  }

  tidy() {
    for (const group of [...this.groups.keys()])
      if (this.closed || !(this.near.includes(group) || this.wanted.includes(group))) {
        this.forget(group);
      }
    while (this.spans.size > SPANS) this.spans.delete([...this.spans.keys()][0]);
  }

  /** The bytes that a group lies in, and where in the file they begin: a stretch of groups, the group alone while
   * nothing beside it is wanted.
   * @param {number} group @returns {Promise<{ bytes: Uint8Array, base: number }>} */
  async bytes(group) {
    const { keys } = this.index;
    const stretch = group - (group % TOGETHER);
    const alone = !this.ahead && !this.spans.has(stretch);
    const first = alone ? group : stretch;
    const next = keys[first + (alone ? 1 : TOGETHER)];
    const base = this.offsets[keys[first]];
    const bytes = await this.fetched(alone ? ~group : stretch, base, next === undefined ? this.end : this.offsets[next]);
    return { bytes, base };
  }

  /** @param {number} span @param {number} low @param {number} high */
  fetched(span, low, high) {
    const have = this.spans.get(span);
    if (have) {
      this.spans.delete(span); // the last used is let go last
      this.spans.set(span, have);
      return have;
    }
    const asked = part(this.content, low, high).then((bytes) => {
      this.gone ||= bytes.length === 0;
      if (bytes.length !== high - low) throw new Error("it is another by now");
      return bytes;
    });
    asked.catch(() => this.spans.delete(span));
    this.spans.set(span, asked);
    return asked;
  }

  /** @param {number} group */
  async decode(group) {
    const { keys, sizes } = this.index;
    const { bytes, base } = await this.bytes(group);
    if (!this.wanted.includes(group)) return; // something else is waited for by now
    const until = this.until(group);
    let have = this.groups.get(group);
    if (!have || this.fed !== group) {
      // A coded picture leans on those before it: where others were decoded since, it begins with the group again.
      this.forget(group);
      have = { first: keys[group], next: keys[group], frames: new Map() };
      this.groups.set(group, have);
    }
    if (have.next >= until) return;
    const into = have;
    this.arrived = (frame) => {
      if (this.groups.get(group) !== into) frame.close(); // let go of meanwhile
      else into.frames.set(frame.timestamp, frame);
      if (frame.timestamp === this.due) {
        if (!this.ahead) this.restSoon();
        this.onFrames();
      }
      if (frame.timestamp === until - 1) this.came(null);
    };
    const decoder = this.coder();
    this.fed = group;
    const last = new Promise((came, broke) => Object.assign(this, { came, broke }));
    for (let sample = have.next; sample < until; sample += 1) {
      const at = this.offsets[sample] - base;
      const data = bytes.subarray(at, at + sizes[sample]);
      decoder.decode(new EncodedVideoChunk({ type: sample === have.first ? "key" : "delta", timestamp: sample, data }));
    }
    have.next = until;
    // A decoder that holds its last frame back gives it when it is told that no more come; then it needs a key.
    const held = window.setTimeout(() => {
      this.fed = -1;
      decoder.flush().then(this.came, this.broke);
    }, HELD_MS);
    await last.finally(() => clearTimeout(held));
  }

  coder() {
    if (this.decoder && this.decoder.state !== "closed") return this.decoder;
    this.decoder = new VideoDecoder({ output: (frame) => this.arrived(frame), error: (why) => this.broke(why) });
    const { codec, description, width, height } = this.index;
    this.decoder.configure({
      codec,
      description: Uint8Array.from(atob(description), (letter) => letter.charCodeAt(0)),
      codedWidth: width,
      codedHeight: height,
      hardwareAcceleration: "prefer-software", // many small pictures, held for a while: no pool to run out of
      optimizeForLatency: true,
    });
    return this.decoder;
  }

  close() {
    this.closed = true;
    this.tidy();
    if (this.decoder && this.decoder.state !== "closed") this.decoder.close();
  }
}

/** Where frames cannot be decoded one by one: a film that is steered to the clock, within two frames of it. */
export class Film {
  /** @param {string} content @param {Index} index */
  constructor(content, index) {
    this.index = index;
    this.film = document.createElement("video");
    this.film.muted = true;
    this.film.preload = "auto";
    this.film.src = `/media/light/${content}.mp4`;
    this.onFrames = () => {};
    this.film.addEventListener("seeked", () => this.onFrames());
    this.film.addEventListener("loadeddata", () => this.onFrames());
  }

  /** @param {number} frame @param {number} speed */
  at(frame, speed) {
    const { film } = this;
    const fps = this.index.fps[0] / this.index.fps[1];
    const wanted = (frame + 0.5) / fps;
    const away = wanted - film.currentTime;
    if (speed > 0 && speed <= 2 && Math.abs(away) < 0.4) {
      film.playbackRate = Math.min(4, Math.max(0.25, speed + 2 * away));
      if (film.paused) film.play().catch(() => {});
    } else {
      if (!film.paused) film.pause();
      if (Math.abs(away) > 0.4 / fps && !film.seeking) film.currentTime = wanted;
    }
    return film.readyState >= 2 ? { picture: film, sample: Math.floor(film.currentTime * fps) } : null;
  }

  close() {
    this.film.removeAttribute("src");
    this.film.load();
  }
}
