// Where the listener is and what is heard: speaks to the worker that holds the live socket, and owns the audio output.

const CARRIED_S = 0.1; // how long a report is carried on from
const READER = new TextDecoder();

/** A block on its way to the listener; its meters are read when they are drawn, which most never are. */
class Block {
  constructor(offset, frames, frame, told) {
    Object.assign(this, { offset, frames, frame, told });
  }

  get meters() {
    return (this.read ??= JSON.parse(READER.decode(this.told)));
  }
}

export class Live extends EventTarget {
  /** @param {string} sessionId @param {number} sampleRate Hz @param {{worklet: string, worker: string}} urls */
  constructor(sessionId, sampleRate, urls) {
    super();
    Object.assign(this, { sampleRate, urls });
    this.playing = false;
    this.restsAfterMs = 10_000; // an output that is open takes some of a processor, also while it is silent
    this.lost = false;
    this.underruns = 0;
    this.ahead = 0;
    this.heard = null;
    this.frame = 0;
    this.loop = { on: false, end_frame: 0 };
    this.clear(0);
    this.worker = new Worker(urls.worker, { type: "module" });
    this.worker.onmessage = ({ data }) => this[`on_${data.type}`]?.(data);
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.send({ type: "connect", url: `${scheme}://${location.host}/api/sessions/${sessionId}/live?meters=within` });
  }

  /** @param {object} message to the worker, which passes on what is meant for the server */
  send(message) {
    this.worker.postMessage(message);
  }

  tell(type, detail = {}) {
    this.dispatchEvent(new CustomEvent(type, { detail }));
  }

  clear(stream) {
    this.stream = stream;
    this.last = this.ending = null;
    this.blocks = [];
    this.received = 0;
    this.played = 0;
    this.reportedAt = performance.now();
  }

  async wake() {
    if (!this.audio) {
      this.audio = new AudioContext({ sampleRate: this.sampleRate, latencyHint: "interactive" });
      this.waking = this.audio.audioWorklet.addModule(this.urls.worklet).then(() => {
        const node = new AudioWorkletNode(this.audio, "ring-player", { numberOfInputs: 0, outputChannelCount: [2] });
        const channel = new MessageChannel();
        node.port.postMessage({ type: "port" }, [channel.port1]);
        this.worker.postMessage({ type: "player" }, [channel.port2]);
        node.connect(this.audio.destination);
      });
    }
    await this.waking;
    await this.audio.resume();
  }

  async play(frame) {
    this.frame = frame;
    this.playing = true;
    clearTimeout(this.resting);
    this.tell("state");
    await this.wake();
    if (this.playing) this.send({ type: "play", frame: Math.round(frame) });
  }

  stop() {
    this.send({ type: "stop" });
    this.frame = this.position();
    this.silence();
  }

  silence() {
    this.playing = false;
    this.heard = null;
    this.send({ type: "silence" });
    clearTimeout(this.resting);
    this.resting = setTimeout(() => { if (!this.playing) this.audio?.suspend(); }, this.restsAfterMs);
    this.tell("state");
  }

  seek(frame) {
    this.frame = frame;
    if (this.playing) this.play(frame);
  }

  /** @param {{what: string, of: string | null, processor_id: string | null, gain_db: number}} to */
  listen(to) {
    this.send({ type: "listen", ...to });
  }

  /** Say what is looked at. @param {{strip_id: string, processor_id: string, spectra: boolean, beside: string}} what */
  watch(what) {
    const told = JSON.stringify(what);
    if (told !== this.watched) this.send({ type: "watch", ...what });
    this.watched = told;
  }

  /** The first take gives the session its rate: the output is made anew for it. */
  changeRate(sampleRate) {
    if (sampleRate === this.sampleRate) return;
    this.sampleRate = sampleRate;
    if (this.playing) this.stop();
    this.audio?.close();
    this.audio = null;
  }

  on_open() {
    if (!this.lost) return;
    this.lost = false;
    this.tell("back");
    if (this.resume) this.play(this.frame);
  }

  on_lost({ final }) {
    if (final || this.lost) return;
    this.lost = true;
    this.resume = this.playing;
    this.frame = this.position();
    this.silence();
    this.tell("lost");
  }

  on_getting_ready({ processors }) {
    this.tell("awaited", processors);
  }

  on_started({ stream, frame }) {
    this.clear(stream);
    this.frame = frame;
  }

  take({ stream, frames, frame, meters }) {
    if (stream !== this.stream || !this.playing) return;
    this.blocks.push(new Block(this.received, frames, frame, meters));
    this.received += frames;
  }

  on_report({ stream, played, underruns, ahead, done, blocks }) {
    this.underruns = underruns;
    blocks.forEach((block) => this.take(block));
    if (stream !== this.stream) return;
    Object.assign(this, { played, ahead, reportedAt: performance.now() });
    while (this.blocks.length > 1 && this.blocks[0].offset + this.blocks[0].frames <= played) this.blocks.shift();
    this.heard = this.playing ? this.blocks[0] ?? this.heard : null;
    if (done && this.playing) {
      const read = this.ending;
      this.frame = 0;
      this.clear(stream);
      this.silence();
      this.last = read;
    }
  }

  /** All is sent: what was read over the whole is shown once it has been heard, and stays. */
  on_ended({ stream, master }) {
    if (stream !== this.stream || !master) return;
    const { integrated_lufs, range_lu, true_peak_dbtp } = master;
    this.ending = { integrated_lufs, range_lu, true_peak_dbtp };
  }

  on_kept({ step }) {
    this.tell("kept", step);
  }

  /** Others play and the machine cannot feed this desk too: it goes on by itself, from the same place. */
  on_waiting({ sentence }) {
    this.send({ type: "silence" });
    this.tell("problem", sentence);
  }

  on_error({ sentence }) {
    this.tell("problem", sentence);
  }

  /** Of the block heard last, null while nothing sounds. */
  get meters() {
    return this.heard?.meters ?? null;
  }

  /** Frames of the stream that have been heard by now. */
  heardFrames() {
    return this.played + Math.min((performance.now() - this.reportedAt) / 1000, CARRIED_S) * this.sampleRate;
  }

  /** Whether little sound is ahead: less than 50 ms. */
  short() {
    return this.playing && this.ahead < this.sampleRate / 20;
  }

  /** The session frame heard now, carried on smoothly between reports. */
  position() {
    if (!this.playing || !this.blocks.length) return this.frame;
    const heard = this.heardFrames();
    const block = this.blocks.findLast(({ offset }) => offset <= heard) ?? this.blocks[0];
    // In the pause before a loop begins again, and until more is known, it goes as far as the loop's end and stands there.
    const end = this.loop.on && block.frame < this.loop.end_frame ? this.loop.end_frame : Infinity;
    return Math.max(0, Math.min(block.frame + heard - block.offset, end));
  }
}
