// What lies under the pointer, and what a drag would do there.
import { fullName } from "../words.js";
import { Figure } from "./figure.js";
import { plus, toSegment } from "./space.js";

const NEAR = 9,
  SAME = 3; // pixels: how near is on an outline, and by how much two are equally near

export class Picking extends Figure {
  constructor(stage, scene) {
    super(stage, scene);
    this.landmarks = [];
    this.seen = []; // ends of a body that no plan could read
    this.grip = "move"; // what dragging a control does: move or turn
  }

  nearestJoint(name, x, y, within = 11) {
    let best = within,
      found = -1;
    for (let i = 0; i < this.joints.length; i++) {
      const [px, py] = this.project(name, this.jointPlace(i));
      if (this.aside.has(`joint:${this.joints[i].name}`)) continue;
      const d = Math.hypot(px - x, py - y) - (this.joints[i].name === this.selected.joint ? 3 : 0);
      if (d < best) {
        best = d;
        found = i;
      }
    }
    return found;
  }

  nearestControl(name, x, y, within = NEAR) {
    return this.controlsAt(name, x, y, within)[0] ?? -1;
  }

  /**
   * Controls whose outlines are near a place, the one that is meant first: the nearest, and of equally near ones the
   * smallest.
   */
  controlsAt(name, x, y, within = NEAR) {
    const found = [];
    for (let i = 0; i < this.controls.length; i++) {
      if (!this.showsControl(i) || this.aside.has(`control:${this.controls[i].name}`)) continue;
      const line = this.controlLine(i).map((p) => this.project(name, p));
      let d = Infinity,
        size = 0;
      for (let k = 0; k < line.length; k++) {
        const next = line[(k + 1) % line.length];
        d = Math.min(d, toSegment(x, y, line[k], next));
        size += Math.hypot(next[0] - line[k][0], next[1] - line[k][1]);
      }
      if (d < within) found.push({ i, d, size });
    }
    const nearest = Math.min(...found.map((f) => f.d));
    return found
      .sort((a, b) => (a.d < nearest + SAME && b.d < nearest + SAME ? a.size - b.size : a.d - b.d))
      .map((f) => f.i);
  }

  /** What dragging a control does: turn it, move it, or lead its first channel. */
  dragKind(c) {
    const free = c.channels.filter((k) => !k.locked),
      has = (kind) => free.some((k) => k.name.startsWith(`${kind} `));
    if (has("turn") && (!has("move") || this.grip === "turn")) return { kind: "turn" };
    if (has("move")) return { kind: "move" };
    const channel = free.find((k) => !k.name.startsWith("in "));
    return channel ? { kind: "channel", channel: channel.name } : { kind: "nothing" };
  }

  /** What the pointer is on, in words: the outline's name, what a drag does there, and what else lies under it. */
  tipFor(found) {
    const c = this.controls[found[0]],
      way = this.dragKind(c);
    const does = {
      turn: "drag turns it",
      move: "drag moves it",
      channel: `drag: ${way.channel}`,
      nothing: "nothing to drag",
    }[way.kind];
    return `${fullName(c.name)} · ${does}${
      found.length > 1
        ? `; behind it ${found
            .slice(1, 3)
            .map((i) => fullName(this.controls[i].name))
            .join(", ")}`
        : ""
    }`;
  }

  /** What a click or hover at a place of a view means for a tool. */
  spot(name, x, y) {
    const ray = this.ray(name, x, y),
      hit = this.hit(ray);
    const place = hit ? plus(ray[0], ray[1], hit.distance) : null;
    const [ax, ay] = [this.unproject(name, place ?? this.focus, 0, 0), this.unproject(name, place ?? this.focus, 1, 0)];
    return { view: name, x, y, ray, hit, place, metre: Math.hypot(...plus(ay, ax, -1)) };
  }

  nearestLandmark(name, x, y, within = 11) {
    let best = within,
      found = null;
    for (const m of this.landmarks) {
      const [px, py] = this.project(name, m.place),
        d = Math.hypot(px - x, py - y);
      if (d < best) {
        best = d;
        found = m;
      }
    }
    return found;
  }
}
