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
const { Live } = await import("../../vonkel/web/static/js/net/live.js");

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

/** A frame with all points, or some of them. */
function points(sequence, values, ranges) {
  const head = new Uint8Array(frame(sequence, { blocks: [["points", values.length]], ...(ranges ? { ranges } : {}) }));
  return new Uint8Array([...head, ...new Uint8Array(new Float32Array(values).buffer)]).buffer;
}

test("of a frame only what moved comes, and is put among what is known", () => {
  const { live, socket } = opened();
  const got = [];
  live.onFrame = (f) => got.push([[...f.points], f.ranges]);
  live.ask({ kind: "pose" });
  assert.equal(socket.sent.at(-1).knows, 0);
  socket.onmessage({ data: points(1, [0, 0, 0, 1, 1, 1, 2, 2, 2]) });
  live.ask({ kind: "pose" });
  assert.equal(socket.sent.at(-1).knows, 1);
  socket.onmessage({ data: points(2, [9, 9, 9], [1, 1]) });
  assert.deepEqual(got[1], [
    [0, 0, 0, 9, 9, 9, 2, 2, 2],
    [1, 1],
  ]);
});

test("every place of a stroke is sent, in its order, and again from the beginning on another socket", async () => {
  const { live, socket } = opened();
  live.ask({ kind: "pose" }); // a wish under way doesn't hold a stroke up
  live.beginStroke("dust", 4);
  for (let i = 0; i < 5; i++) live.sample([i]);
  const first = socket.sent.filter((m) => m.kind === "samples");
  assert.deepEqual(
    first.flatMap((m) => m.samples.map(([v]) => v)),
    [0, 1, 2, 3, 4],
  );
  assert.deepEqual(
    first.map((m) => m.first),
    [0, 1, 2, 3, 4],
  );
  socket.onmessage({ data: JSON.stringify({ stroke: 1, taken: 3 }) });
  const { onclose } = socket;
  mock.timers.enable({ apis: ["setTimeout"] });
  onclose();
  mock.timers.tick(1000);
  mock.timers.reset();
  const other = Socket.all.at(-1);
  other.onopen();
  live.sample([5]);
  let over = 0;
  const ended = live.endStroke().then((n) => (over = n));
  const again = other.sent.filter((m) => m.kind === "samples");
  assert.deepEqual(
    again.flatMap((m) => m.samples.map(([v]) => v)),
    [0, 1, 2, 3, 4, 5],
  );
  assert.equal(again.at(-1).done, true);
  other.onmessage({ data: JSON.stringify({ stroke: 1, taken: 6 }) });
  await ended;
  assert.equal(over, 6);
});
