// Holds the live socket in a thread of its own and hands sound straight to the audio thread, so that a busy page never
// starves it. The page gets everything but the samples.

const HEADER_BYTES = 16;
const RETRY_MS = 700;

let url = "";
let socket = null;
let player = null; // the port to the audio thread
const hello = {}; // said again after a lost connection
let blocks = []; // what the page is told of with the player's next report, so that it is woken once

function connect() {
  socket = new WebSocket(url);
  socket.binaryType = "arraybuffer";
  socket.onopen = () => {
    Object.values(hello).forEach(send);
    postMessage({ type: "open" });
  };
  socket.onmessage = ({ data }) => (typeof data === "string" ? hear(JSON.parse(data)) : take(data));
  socket.onclose = ({ code }) => {
    player?.postMessage({ type: "stop" });
    postMessage({ type: "lost", final: code === 4404 });
    if (code !== 4404) setTimeout(connect, RETRY_MS);
  };
}

const send = (message) => socket?.readyState === WebSocket.OPEN && socket.send(JSON.stringify(message));

function hear(message) {
  if (message.type === "started") {
    blocks = [];
    player?.postMessage({ type: "start", stream: message.stream });
  }
  if (message.type === "ended") player?.postMessage(message);
  postMessage(message);
}

function take(buffer) {
  const view = new DataView(buffer);
  const stream = view.getUint32(0, true);
  const frames = view.getUint32(4, true);
  const frame = view.getFloat64(8, true);
  const samples = new Float32Array(buffer, HEADER_BYTES, 2 * frames);
  // The page reads the meters of those blocks it comes to draw.
  blocks.push({ stream, frames, frame, meters: new Uint8Array(buffer.slice(HEADER_BYTES + samples.byteLength)) });
  player?.postMessage({ type: "block", stream, samples }, [buffer]);
}

onmessage = ({ data, ports }) => {
  if (data.type === "connect") {
    ({ url } = data);
    connect();
  } else if (data.type === "player") {
    [player] = ports;
    player.onmessage = ({ data: report }) => {
      send({ type: "played", stream: report.stream, frames: report.played });
      postMessage({ type: "report", ...report, blocks });
      blocks = [];
    };
  } else if (data.type === "silence") {
    player?.postMessage({ type: "stop" });
  } else {
    if (data.type === "listen" || data.type === "watch") hello[data.type] = data;
    send(data);
  }
};
