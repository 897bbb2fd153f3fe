// The live socket: asks for frames, one at a time; while one is under way only the newest wish is kept.

export class Live {
  /** onFrame({said, points, joints, controls, heat}) for mesh frames, onPlaces(places) for dragged joints. */
  constructor(number, { onFrame, onPlaces, onError }) {
    this.number = number;
    this.onFrame = onFrame;
    this.onPlaces = onPlaces;
    this.onError = onError;
    this.sequence = 0;
    this.busy = false;
    this.wish = null;
    this.counts = { points: 0, joints: 0 };
    this.shown = 0;  // how many frames have been shown; tests read it
    this.open();
  }

  open() {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    this.socket = new WebSocket(`${scheme}://${location.host}/live/${this.number}`);
    this.socket.binaryType = "arraybuffer";
    this.socket.onopen = () => { this.busy = false; this.next(); };
    this.socket.onmessage = (event) => this.take(event.data);
    this.socket.onclose = () => { this.busy = true; setTimeout(() => this.open(), 800); };
    this.busy = true;
  }

  ask(message) {
    this.wish = message;
    this.next();
  }

  next() {
    if (this.busy || !this.wish || this.socket.readyState !== WebSocket.OPEN) return;
    this.busy = true;
    const wish = { ...this.wish, seq: ++this.sequence };
    this.wish = null;
    this.socket.send(JSON.stringify(wish));
  }

  take(data) {
    this.busy = false;
    if (typeof data === "string") this.onError(JSON.parse(data).error);
    else {
      const view = new DataView(data);
      const size = view.getUint32(4, true);
      const said = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 8, size)));
      if (said.places) this.onPlaces(said.places);
      else {
        let at = 8 + size;
        const floats = (count) => { const out = new Float32Array(data, at, count); at += 4 * count; return out; };
        const points = floats(3 * this.counts.points);
        const joints = floats(12 * this.counts.joints);
        const controls = floats(12 * said.controls);
        this.onFrame({ said, points, joints, controls, heat: said.heat ? floats(this.counts.points) : null });
        this.shown = view.getUint32(0, true);
      }
    }
    this.next();
  }
}
