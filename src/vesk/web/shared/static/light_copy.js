// A light copy: its frames fetched by bytes and decoded a group at a time, the ones wanted soonest first.

const TOGETHER = 3; // groups fetched at once
const SPANS = 16; // such stretches kept
const RENEW_MS = 2000; // of a copy that grows, what there is now is asked for no sooner
const REST_MS = 50; // how long it stands before what lies beside is decoded: who seeks on waits for nothing

/** @typedef {{ fps: [number, number], frames: number, width: number, height: number, codec: string,
 *   description: string, begins: number, sizes: number[], runs: [number, number][], keys: number[],
 *   lift: { gain: number, shift: number } | null, whole: boolean }} Index */

/** Whether frames can be decoded one by one here: only where the page is safe from strangers on its way. */
export const exact = () => "VideoDecoder" in window;

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
    /** @type {Map<number, Promise<Uint8Array>>} */
    this.spans = new Map();
    /** @type {Map<number, { first: number, keysOnly: boolean, frames: Map<number, VideoFrame> }>} */
    this.groups = new Map();
    /** Groups that are decoded now, soonest first, and those that will be.
     * @type {number[]} */
    this.wanted = [];
    /** @type {number[]} */
    this.near = [];
    this.keysOnly = false;
    this.busy = false;
    this.due = -1; // the sample that is waited for
    this.resting = 0;
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

  /** Ask what there is by now. */
  async renew() {
    if (performance.now() - this.renewed < RENEW_MS) return;
    this.renewed = performance.now();
    try {
      const answer = await fetch(`/media/${this.recording}/light.json`);
      if (!answer.ok || this.closed) return;
      const fresh = await answer.json();
      this.spans.delete(Math.floor((this.index.keys.length - 1) / TOGETHER)); // it ended within that stretch
      this.take(fresh);
      this.onFrames();
    } catch {
      // It is asked again with the next picture.
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
    this.due = sample;
    if (speed || this.groups.has(group)) this.wanted = this.near;
    else {
      this.wanted = [group];
      clearTimeout(this.resting);
      this.resting = window.setTimeout(() => {
        this.wanted = this.near;
        void this.work();
      }, REST_MS);
    }
    void this.work();
    if (speed && !this.keysOnly) {
      const span = Math.floor((group + 4 * step) / TOGETHER);
      if (span >= 0 && span * TOGETHER < this.index.keys.length) void this.bytes(span).catch(() => {});
    }
    const have = this.groups.get(group);
    const shown = have?.keysOnly ? this.index.keys[group] : sample;
    const picture = have?.frames.get(shown);
    return picture ? { picture, sample: shown } : null;
  }

  async work() {
    if (this.busy || performance.now() - this.failed < 1000) return;
    this.busy = true;
    try {
      for (;;) {
        this.tidy();
        const next = this.wanted.find((one) => {
          const have = this.groups.get(one);
          return !have || (have.keysOnly && !this.keysOnly);
        });
        if (next === undefined || this.closed) return;
        await this.decode(next, this.keysOnly);
        this.onFrames();
      }
    } catch {
      // What could not be fetched or decoded is asked for again with the next picture.
      if (this.decoder && this.decoder.state !== "closed") this.decoder.close();
      this.decoder = null;
      this.failed = performance.now();
      for (const group of this.groups.keys()) if (!this.whole(group)) this.forget(group);
    } finally {
      this.busy = false;
    }
  }

  /** @param {number} group */
  whole(group) {
    const { keys, sizes } = this.index;
    const have = this.groups.get(group);
    return have && (have.keysOnly ? 1 : (keys[group + 1] ?? sizes.length) - keys[group]) === have.frames.size;
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

  /** @param {number} span */
  bytes(span) {
    const have = this.spans.get(span);
    if (have) {
      this.spans.delete(span); // the last used is let go last
      this.spans.set(span, have);
      return have;
    }
    const { keys } = this.index;
    const low = this.offsets[keys[span * TOGETHER]],
      next = keys[(span + 1) * TOGETHER];
    const high = next === undefined ? this.end : this.offsets[next];
    const asked = fetch(`/media/light/${this.content}.mp4`, { headers: { Range: `bytes=${low}-${high - 1}` } })
      .then(async (answer) => {
        if (answer.status === 404) this.gone = true;
        if (answer.status !== 206) throw new Error(String(answer.status));
        return new Uint8Array(await answer.arrayBuffer());
      });
    asked.catch(() => this.spans.delete(span));
    this.spans.set(span, asked);
    return asked;
  }

  /** @param {number} group @param {boolean} keysOnly */
  async decode(group, keysOnly) {
    const { keys, sizes } = this.index;
    const span = Math.floor(group / TOGETHER);
    const bytes = await this.bytes(span);
    const base = this.offsets[keys[span * TOGETHER]];
    const first = keys[group],
      last = keysOnly ? first : (keys[group + 1] ?? sizes.length) - 1;
    /** @type {Map<number, VideoFrame>} */
    const frames = new Map();
    const before = this.groups.get(group);
    if (before) for (const frame of before.frames.values()) frame.close();
    this.groups.set(group, { first, keysOnly, frames });
    this.arrived = (frame) => {
      if (this.groups.get(group)?.frames !== frames) return frame.close(); // let go of meanwhile
      frames.set(frame.timestamp, frame);
      if (frame.timestamp === this.due) this.onFrames();
    };
    const decoder = this.coder();
    for (let sample = first; sample <= last; sample += 1) {
      const at = this.offsets[sample] - base;
      const data = bytes.subarray(at, at + sizes[sample]);
      decoder.decode(new EncodedVideoChunk({ type: sample === first ? "key" : "delta", timestamp: sample, data }));
    }
    await decoder.flush();
  }

  coder() {
    if (this.decoder && this.decoder.state !== "closed") return this.decoder;
    this.decoder = new VideoDecoder({ output: (frame) => this.arrived(frame), error: () => {} });
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
