// Listening to a window: the server lays the sound and mixes it; here it is only played.

/** @type {AudioContext | null} */
let context = null;
/** @type {AudioBufferSourceNode | null} */
let playing = null;
let begun = 0,
  from = 0,
  ends = 0;

export const stop = () => {
  try {
    playing?.stop();
  } catch {
    /* it had ended */
  }
  playing = null;
};

/** Picture time that is heard now, or null.
 * @returns {number | null} */
export const playhead = () => {
  if (!playing || !context) return null;
  const at = from + (context.currentTime - begun);
  return at <= ends ? at : null;
};

/** @param {number} pairing @param {number} centre picture seconds @param {number} span seconds
 * @param {string} mode @param {string} channel @param {() => void} ended */
export const play = async (pairing, centre, span, mode, channel, ended) => {
  stop();
  context ??= new AudioContext();
  await context.resume();
  const answer = await fetch(
    `/media/listen/${pairing}.wav?at_s=${centre}&span_s=${span}&mode=${mode}&channel=${channel}`,
  );
  if (!answer.ok) throw new Error("This cannot be listened to now: one of its files cannot be read.");
  const sound = await context.decodeAudioData(await answer.arrayBuffer());
  const node = context.createBufferSource();
  node.buffer = sound;
  node.connect(context.destination);
  node.onended = () => {
    if (playing === node) {
      playing = null;
      ended();
    }
  };
  node.start();
  playing = node;
  begun = context.currentTime;
  from = centre - span / 2;
  ends = centre + span / 2;
};
