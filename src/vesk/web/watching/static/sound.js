// The chosen sound, and the clock that pictures follow: buffers laid on whole samples, always a little ahead.

const AHEAD_S = 2.5,
  FIRST_S = 0.4,
  PIECE_S = 1.2,
  LEAD_S = 0.06;

/** @type {AudioContext | null} */
let context = null;
/** @type {GainNode | null} */
let output = null;

/** The graph's end, made at the first sound: what is heard passes through it. */
export const tap = () => {
  context ??= new AudioContext({ sampleRate: 48000, latencyHint: "interactive" });
  if (!output) {
    output = context.createGain();
    output.connect(context.destination);
  }
  return { context, output };
};

/** A time of the graph on a whole sample: between two, a sound would be smeared.
 * @param {number} seconds */
const whole = (seconds) => {
  const { context } = tap();
  return Math.round(seconds * context.sampleRate) / context.sampleRate;
};

/** One stretch of playing: from a time of the axis on, at one speed, of one choice of sound. */
class Run {
  /** @param {string | null} url what is heard, without its place; null: nothing, the clock alone runs
   * @param {number} begin time of the axis @param {number} speed @param {number} shift the sound lies this much later */
  constructor(url, begin, speed, shift) {
    this.url = url;
    this.begin = begin;
    this.speed = speed;
    this.shift = shift;
    this.zero = 0; // the graph's time at which `begin` is heard
    this.laid = 0; // samples laid so far
    this.ended = false;
    this.until = Infinity; // the graph's time at which another goes on
    /** @type {Set<AudioBufferSourceNode>} */
    this.nodes = new Set();
    this.asking = false;
  }

  /** @param {number} seconds @returns {Promise<AudioBuffer>} */
  async piece(seconds) {
    const { context } = tap();
    const rate = context.sampleRate;
    const count = Math.round(seconds * rate);
    const place = `begin_us=${Math.round((this.begin - this.shift) * 1e6)}&first=${this.laid}&count=${count}`;
    const answer = await fetch(`${this.url}&${place}&speed=${this.speed}&rate=${rate}`);
    if (!answer.ok) throw new Error(answer.headers.get("X-Says") ?? "This sound cannot be played now.");
    const wide = Number(answer.headers.get("X-Channels") ?? 1);
    const data = new Int16Array(await answer.arrayBuffer());
    const made = context.createBuffer(wide, data.length / wide, rate);
    for (let ear = 0; ear < wide; ear += 1) {
      const to = made.getChannelData(ear);
      for (let k = 0; k < to.length; k += 1) to[k] = data[k * wide + ear] / 32768;
    }
    return made;
  }

  /** @param {AudioBuffer} buffer @param {number} [skip] of its samples that are past already */
  lay(buffer, skip = 0) {
    const { context, output } = tap();
    const rate = context.sampleRate;
    const node = context.createBufferSource();
    node.buffer = buffer;
    node.connect(output);
    const at = this.zero + (this.laid + skip) / rate;
    if (at < context.currentTime) this.zero = whole(this.zero + context.currentTime + 0.02 - at); // the clock waits
    node.start(this.zero + (this.laid + skip) / rate, skip / rate);
    if (this.until < Infinity) node.stop(Math.max(this.until, this.zero + (this.laid + skip) / rate));
    this.laid += buffer.length;
    this.nodes.add(node);
    node.onended = () => this.nodes.delete(node);
  }

  async feed() {
    if (this.asking || this.ended || this.url === null) return;
    const { context } = tap();
    const laid = this.zero + this.laid / context.sampleRate;
    if (laid - context.currentTime > AHEAD_S || laid >= this.until) return;
    this.asking = true;
    try {
      const buffer = await this.piece(PIECE_S);
      if (!this.ended) this.lay(buffer);
    } finally {
      this.asking = false;
    }
  }

  stop(at = 0) {
    this.ended = true;
    this.silence(at);
  }

  /** Another goes on from a time of the graph: until then it is fed.
   * @param {number} at */
  give(at) {
    this.until = at;
    this.silence(at);
  }

  /** @param {number} at */
  silence(at) {
    for (const node of this.nodes) {
      try {
        node.stop(at);
      } catch {
        /* it had ended */
      }
    }
  }

  /** Time of the axis that is heard now: what was laid is what there is to hear. */
  now() {
    const { context } = tap();
    const late = context.outputLatency || context.baseLatency || 0;
    let passed = context.currentTime - late - this.zero;
    if (this.url !== null) passed = Math.min(passed, this.laid / context.sampleRate);
    return this.begin + this.speed * Math.max(0, passed);
  }
}

/** @type {Run | null} */
let run = null;
/** What goes on from a time on that is yet to come.
 * @type {Run | null} */
let after = null;
let resting = 0;
let turn = 0;

/** Time of the axis: where it plays, or where it stands. */
export const position = () => {
  if (after && after.laid && after.now() > after.begin) {
    run?.stop(after.zero);
    [run, after] = [after, null];
  }
  return run ? run.now() : resting;
};
/** Whether another sound goes on soon; whether one is heard.
 * @type {() => boolean} */
export const goesOn = () => after !== null;
/** @param {string} url */
export const hears = (url) => run?.url === url;
export const playing = () => run !== null;
export const speed = () => run?.speed ?? 0;

/** @param {number} at */
export const stand = (at) => {
  turn += 1;
  run?.stop();
  after?.stop();
  [run, after] = [null, null];
  resting = at;
};

/** Play on, or play otherwise, from where it is: what was heard goes on until the new sound is there.
 * @param {string | null} url @param {number} rate times its own speed @param {number} [shift] seconds later */
export const play = async (url, rate, shift = 0) => {
  turn += 1;
  const mine = turn;
  const { context } = tap();
  await context.resume();
  const before = run;
  const begin = before ? before.now() : resting;
  const next = new Run(url, begin, rate, shift);
  const buffer = url === null ? null : await next.piece(FIRST_S);
  if (mine !== turn) return;
  const begins = whole(context.currentTime + LEAD_S);
  let skip = 0;
  if (before) {
    // What the old one will have reached by then is where the new one goes on.
    const reached = before.begin + before.speed * (begins - before.zero);
    skip = Math.round(((reached - begin) / rate) * context.sampleRate);
    if (buffer && skip >= buffer.length) skip = 0;
  }
  next.zero = whole(begins - skip / context.sampleRate);
  if (buffer) next.lay(buffer, Math.max(0, skip));
  before?.stop(Math.max(begins, next.zero));
  after?.stop();
  [run, after] = [next, null];
  void next.feed();
};

/** Have another sound go on at a time of the axis that is yet to come, to the sample; nothing where it comes too late.
 * @param {string} url @param {number} at @param {number} [shift] seconds later */
export const goOnWith = async (url, at, shift = 0) => {
  const before = run;
  if (!before || after) return;
  const mine = turn;
  const { context } = tap();
  const next = new Run(url, at, before.speed, shift);
  after = next;
  try {
    const buffer = await next.piece(FIRST_S);
    next.zero = whole(before.zero + (at - before.begin) / before.speed);
    if (mine !== turn || run !== before || next.zero < context.currentTime + LEAD_S / 3) return;
    next.lay(buffer);
    before.give(next.zero);
  } finally {
    if (after === next && !next.laid) after = null;
  }
};

/** Keep a little ahead; called with every picture.
 * @param {(error: unknown) => void} failed */
export const feed = (failed) => {
  run?.feed().catch(failed);
  if (after?.laid) after.feed().catch(failed);
};
