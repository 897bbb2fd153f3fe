// The live socket: asks for frames, one at a time; while one is under way only the newest wish is kept.  The last wish
// of a drag is never dropped: it is asked before whatever comes after it.

import { frameFrom } from "./net/frame.js";

export class Live {
  /** onFrame({said, points, joints, controls, heat}, wish) for mesh frames, onPlaces(places) for dragged joints. */
  constructor(number, { onFrame, onPlaces, onError }) {
    this.number = number;
    this.onFrame = onFrame;
    this.onPlaces = onPlaces;
    this.onError = onError;
    this.sequence = 0;
    this.busy = false;
    this.asked = null; // the wish that is under way: {make, message, done}
    this.lasts = []; // last wishes of drags, in their order
    this.newest = null;
    this.shown = 0; // how many frames have been shown; tests read it
    this.open();
  }

  open() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/live/${this.number}`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => {
      this.busy = false;
      this.next();
    };
    this.socket.onmessage = (event) => this.take(event.data);
    this.socket.onclose = () => {
      this.busy = true;
      if (this.asked) {
        this.lasts.unshift(this.asked);
        this.asked = null;
      } // it was not answered: ask again
      setTimeout(() => this.open(), 800);
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
    wish.message = { ...wish.make(), seq: ++this.sequence };
    this.asked = wish;
    this.socket.send(JSON.stringify(wish.message));
  }

  take(data) {
    this.busy = false;
    const wish = this.asked;
    this.asked = null;
    if (typeof data === "string") this.onError(JSON.parse(data).error);
    else {
      const { sequence, said, blocks } = frameFrom(data);
      if (said.places) this.onPlaces(said.places);
      else {
        const { points, joints, controls, heat = null } = blocks;
        this.onFrame({ said, points, joints, controls, heat }, wish?.message ?? {});
        this.shown = sequence;
      }
    }
    wish?.done?.();
    this.next();
  }
}
