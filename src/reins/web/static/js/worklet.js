// Plays blocks from a ring buffer in the audio thread, and tells how much it has played and holds.

const RING_FRAMES = 48000;
const REPORT_FRAMES = 2048;
const START_FRAMES = 2048; // what must be there before a stream is heard
const RESIDUE = 0.99; // per frame: what was heard last dies away in about 5 ms, so that a cut does not click
const NOTHING = 1e-7; // of it is left when it has died away

class RingPlayer extends AudioWorkletProcessor {
  constructor() {
    super();
    this.ring = [new Float32Array(RING_FRAMES), new Float32Array(RING_FRAMES)];
    this.last = [0, 0];
    this.residue = [0, 0];
    this.underruns = 0;
    this.reset(0, false);
    this.worker = null;
    this.port.onmessage = ({ ports }) => {
      [this.worker] = ports;
      this.worker.onmessage = ({ data }) => this.receive(data);
    };
  }

  reset(stream, running) {
    this.stream = stream;
    this.running = running;
    this.sounding = false;
    this.ended = false;
    this.read = this.write = this.played = this.reported = 0;
    this.fadeIn = 0;
    this.residue = [this.last[0], this.last[1]];
  }

  receive(message) {
    if (message.type === "start") this.reset(message.stream, true);
    else if (message.type === "stop") this.reset(this.stream, false);
    else if (message.type === "ended") this.ended = message.stream === this.stream;
    else if (message.type === "block" && message.stream === this.stream && this.running) this.keep(message.samples);
  }

  keep(samples) {
    const frames = samples.length / 2;
    for (let i = 0; i < frames; i++) {
      const at = (this.write + i) % RING_FRAMES;
      this.ring[0][at] = samples[2 * i];
      this.ring[1][at] = samples[2 * i + 1];
    }
    this.write += frames;
  }

  process(_inputs, [output]) {
    const frames = output[0].length;
    const ahead = this.write - this.read;
    if (this.running && !this.sounding && (ahead >= START_FRAMES || (this.ended && ahead > 0))) this.sounding = true;
    const starved = this.sounding && ahead < frames;
    if (starved && !this.ended) this.underruns += 1;
    const playing = this.sounding ? Math.min(frames, ahead) : 0;
    if (playing === frames && this.runsOn(frames)) this.copy(output, frames);
    else this.blend(output, frames, playing);
    this.read += playing;
    this.played += playing;
    this.report(starved);
    return true;
  }

  /** Whether the next frames are heard as they are: faded in, nothing dying away, and in one piece. */
  runsOn(frames) {
    const whole = this.read % RING_FRAMES + frames <= RING_FRAMES;
    return whole && this.fadeIn === 1 && this.residue.every((left) => Math.abs(left) < NOTHING);
  }

  copy(output, frames) {
    const first = this.read % RING_FRAMES;
    for (let c = 0; c < 2; c++) {
      output[c]?.set(this.ring[c].subarray(first, first + frames));
      this.last[c] = this.ring[c][first + frames - 1];
      this.residue[c] = 0;
    }
  }

  blend(output, frames, playing) {
    for (let i = 0; i < frames; i++) {
      this.fadeIn = Math.min(1, this.fadeIn + (i < playing ? 1 / 128 : 0));
      for (let c = 0; c < 2; c++) {
        this.residue[c] *= RESIDUE;
        const sound = i < playing ? this.ring[c][(this.read + i) % RING_FRAMES] * this.fadeIn : 0;
        this.last[c] = sound + this.residue[c];
        if (output[c]) output[c][i] = this.last[c];
      }
    }
  }

  report(starved) {
    const done = this.running && this.ended && this.read === this.write;
    if (this.played - this.reported < REPORT_FRAMES && !done && !starved) return;
    this.reported = this.played;
    const { stream, played, underruns } = this;
    this.worker.postMessage({ stream, played, underruns, ahead: this.write - this.read, done });
    if (done) this.running = this.sounding = false;
  }
}

registerProcessor("ring-player", RingPlayer);
