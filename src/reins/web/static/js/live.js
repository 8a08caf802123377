// The only module that speaks to the live socket: sound in, commands out, and where the listener is.

const HEADER_BYTES = 16;
const RETRY_MS = 700;

export class Live extends EventTarget {
  /** @param {string} sessionId @param {number} sampleRate Hz @param {string} workletUrl */
  constructor(sessionId, sampleRate, workletUrl) {
    super();
    Object.assign(this, { sessionId, sampleRate, workletUrl });
    this.playing = false;
    this.underruns = 0;
    this.held = 0;
    this.meters = null;
    this.frame = 0;
    this.clear(0);
    this.connect();
  }

  clear(stream) {
    this.stream = stream;
    this.blocks = [];
    this.received = 0;
    this.played = 0;
    this.reportedAt = performance.now();
  }

  tell(type, detail) {
    this.dispatchEvent(new CustomEvent(type, { detail }));
  }

  connect() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/api/sessions/${this.sessionId}/live`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => {
      const again = this.lost;
      this.lost = false;
      this.send({ type: "listen", what: this.what || "result" });
      if (again) this.tell("back", {});
      if (again && this.resume) this.play(this.frame);
    };
    this.socket.onmessage = (event) => (typeof event.data === "string" ? this.hear(JSON.parse(event.data)) : this.take(event.data));
    this.socket.onclose = (event) => {
      if (event.code === 4404) return;
      this.resume = this.lost ? this.resume : this.playing;
      this.lost = true;
      this.silence();
      this.tell("lost", {});
      setTimeout(() => this.connect(), RETRY_MS);
    };
  }

  send(message) {
    if (this.socket.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message));
  }

  async wake() {
    if (!this.audio) {
      this.audio = new AudioContext({ sampleRate: this.sampleRate, latencyHint: "interactive" });
      this.waking = this.audio.audioWorklet.addModule(this.workletUrl).then(() => {
        this.node = new AudioWorkletNode(this.audio, "ring-player", { numberOfInputs: 0, outputChannelCount: [2] });
        this.node.port.onmessage = (event) => this.report(event.data);
        this.node.connect(this.audio.destination);
      });
    }
    await this.waking;
    await this.audio.resume();
  }

  async play(frame) {
    this.frame = frame;
    this.playing = true;
    this.tell("state", {});
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
    this.node?.port.postMessage({ type: "stop" });
    this.meters = null;
    this.tell("state", {});
  }

  seek(frame) {
    this.frame = frame;
    if (this.playing) this.play(frame);
  }

  listen(what) {
    this.what = what;
    this.send({ type: "listen", what });
  }

  hear(message) {
    if (message.type === "started") {
      this.clear(message.stream);
      this.frame = message.frame;
      this.node?.port.postMessage({ type: "start", stream: message.stream });
    } else if (message.type === "meters") {
      const block = this.blocks[this.blocks.length - 1];
      if (block && message.stream === this.stream) block.meters = message;
    } else if (message.type === "ended") {
      this.node?.port.postMessage(message);
    } else if (message.type === "kept") {
      this.tell("kept", {});
    } else if (message.type === "error") {
      this.tell("problem", message.sentence);
    }
  }

  take(buffer) {
    const view = new DataView(buffer);
    const stream = view.getUint32(0, true);
    const frames = view.getUint32(4, true);
    if (stream !== this.stream || !this.playing) return;
    this.blocks.push({ offset: this.received, frames, frame: view.getFloat64(8, true), meters: null });
    this.received += frames;
    const samples = new Float32Array(buffer.slice(HEADER_BYTES));
    this.node.port.postMessage({ type: "block", stream, samples }, [samples.buffer]);
  }

  report({ stream, played, underruns, held, done }) {
    this.underruns = underruns;
    if (stream !== this.stream) return;
    this.played = played;
    this.held = held;
    this.reportedAt = performance.now();
    this.send({ type: "played", stream, frames: played });
    while (this.blocks.length > 1 && this.blocks[0].offset + this.blocks[0].frames <= played) this.blocks.shift();
    this.meters = this.blocks[0]?.meters ?? this.meters;
    if (done && this.playing) {
      this.frame = 0;
      this.silence();
    }
  }

  /** The session frame heard now, carried on smoothly between reports. */
  position() {
    const block = this.blocks[0];
    if (!this.playing || !block) return this.frame;
    const since = Math.min((performance.now() - this.reportedAt) / 1000, 0.05) * this.sampleRate;
    const into = this.played + since - block.offset;
    const at = into < block.frames || !this.blocks[1] ? block.frame + into : this.blocks[1].frame + (into - block.frames);
    return Math.max(0, at);
  }
}
