// The live socket, in two lanes.  Wishes for frames: one at a time; while one is under way only the newest is kept, and
// the last wish of a drag is never dropped.  Places of a brush's strokes: all of them, in their order, until the server
// has said that it took them.
import { frameFrom, patched } from "./frame.js";

const AGAIN = 800; // milliseconds until a lost socket is opened again
const MOST = 2000; // samples sent in one message

export class Live {
  /**
   * onFrame({said, points, ranges, joints, controls, heat, wanted, strengths}, wish); onPlaces(places) of
   * dragged joints;
   * onStroke(told).
   */
  constructor(number, { onFrame, onPlaces, onError, onStroke = (_told) => {} }) {
    this.number = number;
    this.onFrame = onFrame;
    this.onPlaces = onPlaces;
    this.onError = onError;
    this.onStroke = onStroke;
    this.sequence = 0;
    this.busy = false;
    this.asked = null; // the wish that is under way: {make, message, done}
    this.lasts = []; // last wishes of drags, in their order
    this.newest = null;
    this.shown = 0; // how many frames have been shown; tests read it
    this.points = null; // what the last frame came to
    this.knows = 0; // and its number
    this.strokes = 0;
    /** @type {{ head: any, samples: number[][], sent: number, taken: number, done: boolean, over: () => void }} */
    this.stroke = null;
    this.open();
  }

  open() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/live/${this.number}`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => {
      this.busy = false;
      this.knows = 0; // another socket knows nothing of what the last one sent
      if (this.stroke) this.stroke.sent = this.stroke.taken = 0;
      this.next();
      this.sendSamples(!!this.stroke?.done);
    };
    this.socket.onmessage = (event) => this.take(event.data);
    this.socket.onclose = () => {
      this.busy = true;
      if (this.asked) {
        this.lasts.unshift(this.asked);
        this.asked = null;
      } // it was not answered: ask again
      setTimeout(() => this.open(), AGAIN);
    };
    this.busy = true;
  }

  /** `make` gives the message when it is its turn, since what it builds on may still be on its way. */
  ask(make) {
    this.newest = { make: typeof make === "function" ? make : () => make };
    this.next();
  }

  /** The last wish of a drag.  The promise is kept when its answer has been shown. */
  askLast(make) {
    this.newest = null; // an earlier wish of the same drag
    return new Promise((done) => {
      this.lasts.push({ make, done });
      this.next();
    });
  }

  /** Whether nothing is asked and nothing waits. */
  get idle() {
    return !this.asked && !this.lasts.length && !this.newest;
  }

  next() {
    if (this.busy || this.socket.readyState !== WebSocket.OPEN) return;
    const wish = this.lasts.shift() ?? this.newest;
    if (!wish) return;
    if (wish === this.newest) this.newest = null;
    this.busy = true;
    wish.message = { ...wish.make(), seq: ++this.sequence, knows: this.knows };
    this.asked = wish;
    this.socket.send(JSON.stringify(wish.message));
  }

  take(data) {
    const told = typeof data === "string" ? JSON.parse(data) : null,
      frame = told ? null : frameFrom(data);
    const stroke = told ?? { ...frame.said, blocks: frame.blocks };
    if ("stroke" in stroke) {
      this.takeStroke(stroke);
      return;
    }
    this.busy = false;
    const wish = this.asked;
    this.asked = null;
    if (told) this.onError(told.error);
    else this.takeFrame(frame, wish?.message ?? {});
    wish?.done?.();
    this.next();
  }

  takeFrame({ sequence, said, blocks }, message) {
    if (said.places) {
      this.onPlaces(said.places);
      return;
    }
    const { joints, controls, heat = null, wanted = null, strengths = null } = blocks,
      ranges = said.ranges ?? null;
    this.points = ranges ? patched(this.points, ranges, blocks.points) : blocks.points;
    this.knows = sequence;
    this.onFrame({ said, points: this.points, ranges, joints, controls, heat, wanted, strengths }, message);
    this.shown = sequence;
  }

  // -- strokes -------------------------------------------------------------------------------------------------------
  /** A stroke begins: with which brush, over which state, `how`.  The one before must have been ended. */
  beginStroke(brush, step, how = {}) {
    this.strokes += 1;
    const head = { kind: "samples", stroke: this.strokes, brush, step, how };
    this.stroke = { head, samples: [], sent: 0, taken: 0, done: false, over: () => {} };
  }

  /** One more place of the stroke: a row of numbers. */
  sample(row) {
    this.stroke.samples.push(row);
    this.sendSamples();
  }

  /** The hand let go.  The promise is kept when all of the stroke has been taken. */
  endStroke() {
    const { stroke } = this;
    stroke.done = true;
    return new Promise((over) => {
      stroke.over = () => over(stroke.samples.length);
      this.sendSamples(true);
    });
  }

  sendSamples(last = false) {
    const { stroke } = this;
    if (!stroke || this.socket.readyState !== WebSocket.OPEN) return;
    while (stroke.sent < stroke.samples.length || last) {
      const samples = stroke.samples.slice(stroke.sent, stroke.sent + MOST);
      const ends = stroke.done && stroke.sent + samples.length === stroke.samples.length;
      this.socket.send(JSON.stringify({ ...stroke.head, first: stroke.sent, samples, done: ends }));
      stroke.sent += samples.length;
      if (ends) return;
    }
  }

  takeStroke(told) {
    const { stroke } = this;
    if (!stroke || told.stroke !== stroke.head.stroke) return;
    if (told.error) {
      this.stroke = null;
      this.onError(told.error);
      stroke.over();
      return;
    }
    stroke.taken = told.taken;
    this.onStroke(told);
    if (stroke.done && stroke.taken === stroke.samples.length) {
      this.stroke = null;
      stroke.over();
    }
  }
}
