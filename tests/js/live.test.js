// The live socket: one wish at a time, the newest wins, and the last wish of a drag is never dropped.
import assert from "node:assert/strict";
import test, { mock } from "node:test";

class Socket {
  static OPEN = 1;
  static all = [];
  constructor() {
    this.readyState = 1;
    this.sent = [];
    Socket.all.push(this);
  }
  send(text) {
    this.sent.push(JSON.parse(text));
  }
}
globalThis.WebSocket = /** @type {any} */ (Socket);
globalThis.location = /** @type {any} */ ({ protocol: "http:", host: "here" });
const { Live } = await import("../../vonkel/web/static/js/live.js");

/** A frame as the server sends it: no points, only what it says. */
function frame(sequence, said) {
  const text = new TextEncoder().encode(JSON.stringify({ blocks: [], ...said }).padEnd(64));
  const data = new ArrayBuffer(8 + text.length);
  new DataView(data).setUint32(0, sequence, true);
  new DataView(data).setUint32(4, text.length, true);
  new Uint8Array(data, 8).set(text);
  return data;
}

function opened() {
  const shown = [];
  const live = new Live(1, { onFrame: (f, wish) => shown.push([f.said, wish]), onPlaces: () => {}, onError: () => {} });
  const socket = Socket.all.at(-1);
  socket.onopen();
  return { live, socket, shown };
}

test("blocks are cut out by the names and sizes that the frame itself tells", () => {
  const { live, socket, shown } = opened();
  live.ask({ kind: "pose" });
  const head = frame(9, {
    blocks: [
      ["points", 3],
      ["heat", 1],
    ],
  });
  const data = new Uint8Array([...new Uint8Array(head), ...new Uint8Array(new Float32Array([1, 2, 3, 0.5]).buffer)]);
  let got = null;
  live.onFrame = (f) => (got = f);
  socket.onmessage({ data: data.buffer });
  assert.deepEqual([...got.points], [1, 2, 3]);
  assert.deepEqual([...got.heat], [0.5]);
  assert.equal(live.shown, 9);
  assert.equal(shown.length, 0);
});

test("while one wish is under way only the newest waits", () => {
  const { live, socket } = opened();
  for (const kind of ["a", "b", "c"]) live.ask({ kind });
  assert.deepEqual(
    socket.sent.map((m) => m.kind),
    ["a"],
  );
  socket.onmessage({ data: frame(1, {}) });
  assert.deepEqual(
    socket.sent.map((m) => m.kind),
    ["a", "c"],
  );
});

test("the last wish of a drag comes before whatever follows it, and its promise waits for its answer", async () => {
  const { live, socket } = opened();
  let done = false;
  live.ask({ kind: "first" });
  live.ask({ kind: "dropped" });
  const kept = live.askLast(() => ({ kind: "last" })).then(() => (done = true));
  live.ask({ kind: "next" });
  socket.onmessage({ data: frame(1, {}) });
  assert.deepEqual(
    socket.sent.map((m) => m.kind),
    ["first", "last"],
  );
  assert.equal(done, false);
  socket.onmessage({ data: frame(2, {}) });
  await kept;
  assert.deepEqual(
    socket.sent.map((m) => m.kind),
    ["first", "last", "next"],
  );
  assert.equal(live.idle, false);
  socket.onmessage({ data: frame(3, {}) });
  assert.equal(live.idle, true);
});

test("a message is made when it is its turn: what it builds on may still be on its way", () => {
  const { live, socket, shown } = opened();
  let values = 0;
  live.ask({ kind: "a" });
  live.askLast(() => ({ kind: "b", values }));
  values = 7; // as the answer to the first would set it
  socket.onmessage({ data: frame(1, { values: 7 }) });
  assert.equal(socket.sent[1].values, 7);
  assert.equal(shown[0][1].kind, "a");
});

test("what was not answered when the socket was lost is asked again", () => {
  mock.timers.enable({ apis: ["setTimeout"] });
  const { live, socket } = opened();
  live.ask({ kind: "lost" });
  socket.onclose();
  mock.timers.tick(800);
  const again = Socket.all.at(-1);
  assert.notEqual(again, socket);
  again.onopen();
  assert.deepEqual(
    again.sent.map((m) => m.kind),
    ["lost"],
  );
  mock.timers.reset();
});
