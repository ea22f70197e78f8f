// A light copy: its frames fetched by bytes and decoded a group at a time, the ones wanted soonest first.

const TOGETHER = 8; // groups fetched at once
const SPANS = 6; // such stretches kept

/** @typedef {{ fps: [number, number], frames: number, width: number, height: number, codec: string,
 *   description: string, begins: number, sizes: number[], runs: [number, number][], keys: number[],
 *   lift: { gain: number, shift: number } | null }} Index */

/** Whether frames can be decoded one by one here: only where the page is safe from strangers on its way. */
export const exact = () => "VideoDecoder" in window;

export class Copy {
  /** @param {number} recording @param {Index} index */
  constructor(recording, index) {
    this.recording = recording;
    this.index = index;
    /** @type {number[]} */
    this.offsets = [];
    let at = index.begins;
    for (const size of index.sizes) {
      this.offsets.push(at);
      at += size;
    }
    this.end = at;
    /** @type {Map<number, Promise<Uint8Array>>} */
    this.spans = new Map();
    /** @type {Map<number, { first: number, keysOnly: boolean, frames: Map<number, VideoFrame> }>} */
    this.groups = new Map();
    /** @type {number[]} */
    this.wanted = [];
    this.keysOnly = false;
    this.busy = false;
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
    return answer.ok ? new Copy(recording, await answer.json()) : null;
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
    const ahead = this.keysOnly ? 8 : Math.abs(speed) > 1 ? 3 : 2;
    this.wanted = [group];
    for (let k = 1; k <= ahead; k += 1) this.wanted.push(group + k * step);
    this.wanted.push(group - step);
    this.wanted = this.wanted.filter((one) => one >= 0 && one < this.index.keys.length);
    void this.work();
    const have = this.groups.get(group);
    const shown = have?.keysOnly ? this.index.keys[group] : sample;
    const picture = have?.frames.get(shown);
    return picture ? { picture, sample: shown } : null;
  }

  async work() {
    if (this.busy) return;
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
      this.decoder = null;
    } finally {
      this.busy = false;
    }
  }

  tidy() {
    for (const [group, have] of this.groups)
      if (this.closed || !this.wanted.includes(group)) {
        for (const frame of have.frames.values()) frame.close();
        this.groups.delete(group);
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
    const asked = fetch(`/media/${this.recording}/light.mp4`, { headers: { Range: `bytes=${low}-${high - 1}` } })
      .then(async (answer) => {
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
    this.arrived = (frame) => frames.set(frame.timestamp, frame);
    const decoder = this.coder();
    for (let sample = first; sample <= last; sample += 1) {
      const at = this.offsets[sample] - base;
      const data = bytes.subarray(at, at + sizes[sample]);
      decoder.decode(new EncodedVideoChunk({ type: sample === first ? "key" : "delta", timestamp: sample, data }));
    }
    await decoder.flush();
    const before = this.groups.get(group);
    if (before) for (const frame of before.frames.values()) frame.close();
    this.groups.set(group, { first, keysOnly, frames });
    if (span + 1 < keys.length / TOGETHER && group % TOGETHER > TOGETHER / 2) void this.bytes(span + 1);
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
  /** @param {number} recording @param {Index} index */
  constructor(recording, index) {
    this.index = index;
    this.film = document.createElement("video");
    this.film.muted = true;
    this.film.preload = "auto";
    this.film.src = `/media/${recording}/light.mp4`;
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
