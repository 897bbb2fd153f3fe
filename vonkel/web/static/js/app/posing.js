// The pose at hand: dragging, sliding, trying, moving; frames come over the live socket.
import { call } from "../net/api.js";
import { Live } from "../net/live.js";
import { say } from "../widgets/toasts.js";
import { shown } from "../words.js";
import { Steps } from "./steps.js";

const FRAMES = 72,
  RATE = 24; // a try of a motion: frames, and how many a second

export class Posing extends Steps {
  constructor(number, values) {
    super(number, {
      trial: "", // a pose that is only looked at
      heat: false,
      heatOf: "", // a measure, or how far edges are stretched or squeezed
      over: false, // the skin is shown as it will be handed over
      wanted: true, // and the live one's outline with it
      strengths: {}, // of shapes in the pose that is shown, whatever turns them up
      off: new Set(), // operations left out, to see what they do
      running: false, // springs and swings live
      playing: false,
      motionFrame: 0,
      motionFrames: FRAMES,
      clip: "", // the kept motion that is looked at
      clipFrame: 0,
      clipPlaying: false,
      listening: false, // to a device
      heardFrames: 0,
      symmetry: true, // what is done on one side is done on the other
      carryBelow: false, // dragged joints take along what hangs below them
      hinted: false,
      ...values,
    });
    /** @type {{ drag: number, values: any } | null} */
    this.held = null;
    /** @type {import("../../types/page").Values} */
    this.clipValues = {};
    this.carried = [0, 0, 0]; // where a motion has taken the figure
    this.drag = 0;
    this.dropped = 0;
    this.live = new Live(number, {
      onFrame: (frame, wish) => this.takeFrame(frame, wish),
      onPlaces: (places) => {
        if (this.draggingJoint) this.plate.setPreview(places);
      },
      onError: say,
      onStroke: (told) => this.tool?.stroked?.(told),
    });
  }

  wants(extra = {}) {
    return {
      step: this.position().step,
      values: this.values,
      heat: this.heat && !!this.state.skin,
      heat_of: this.heatOf || undefined,
      over: this.over && !!this.state.skin,
      wanted: (this.over && this.wanted) || undefined,
      off: [...this.off],
      run: this.running || undefined,
      ...extra,
    };
  }

  /** Show the present values (or the trial pose) through the live socket. */
  pose() {
    if (!this.state.joints.length && !this.state.shapes.length) return;
    this.live.ask(() => (this.trial ? this.wants({ kind: "trial", name: this.trial }) : this.wants({ kind: "pose" })));
  }

  /** The same; the promise is kept once it is shown. */
  posed() {
    return this.live.askLast(() => this.wants(this.trial ? { kind: "trial", name: this.trial } : { kind: "pose" }));
  }

  /** Strengths of shapes, in their order; those that are off are left out.  @param {ArrayLike<number>} told */
  takeStrengths(told) {
    const { shapes } = this.state;
    if (told.length && told.length !== shapes.length) return; // of another state
    const strengths = {};
    shapes.forEach((s, i) => {
      if (told[i]) strengths[s.name] = Math.round(1e4 * told[i]) / 1e4;
    });
    if (JSON.stringify(strengths) !== JSON.stringify(this.strengths)) this.strengths = strengths;
  }

  takeFrame(frame, wish) {
    if (frame.said.values && wish.drag > this.dropped) Object.assign(this.values, frame.said.values);
    if (frame.points.length !== this.plate.rest?.length) return;
    if (this.kind.rest && !this.plate.dragging) {
      this.plate.setSkeleton(this.state.joints, this.state.controls);
      return;
    }
    this.plate.wanted = frame.wanted;
    this.takeStrengths(frame.strengths ?? []);
    this.plate.setFrame(frame);
    if (frame.heat) this.plate.setValues(frame.heat);
    if (frame.said.frame !== undefined) this.motionShown(frame.said.frame);
    else if (frame.said.heard !== undefined) this.heardShown(frame.said);
    else if (frame.said.clip !== undefined) this.clipShown(frame.said.clip, frame.said.values);
    else if (this.running && frame.said.time !== undefined && this.live.idle && this.plate.dragging !== true)
      requestAnimationFrame(() => {
        if (this.running && this.live.idle) this.pose();
      });
  }

  // -- springs, swings, tries ----------------------------------------------------------------------------------------
  /** true: springs and swings run live; "reset": they begin anew; false: they rest. */
  run(how) {
    this.playing = false;
    this.running = how !== false;
    if (how === "reset") this.live.ask(() => this.wants({ kind: "pose", run: "reset" }));
    else this.pose();
  }

  /** One frame of a try from rest to the pose at hand and back. */
  motionTo(frame) {
    this.motionFrame = frame;
    this.running = false;
    this.live.ask(() => this.wants({ kind: "motion", start: {}, frame, frames: this.motionFrames, rate: RATE }));
  }

  playMotion(on) {
    this.playing = on;
    this.running = false;
    if (on) {
      this.motionBegan = performance.now();
      this.motionTo(0);
    } else this.pose();
  }

  motionShown(frame) {
    this.motionFrame = frame;
    if (!this.playing) return;
    const next = Math.floor(((performance.now() - this.motionBegan) / 1000) * RATE) % this.motionFrames;
    requestAnimationFrame(() => {
      if (this.playing) this.motionTo(next);
    });
  }

  // -- kept motions --------------------------------------------------------------------------------------------------
  /** Show a frame of a kept motion. */
  clipTo(frame) {
    const clip = this.clipAtHand();
    if (!clip) return;
    this.clipFrame = frame;
    this.running = this.playing = false;
    this.trial = "";
    this.live.ask(() => this.wants({ kind: "clip", name: clip.name, frame }));
  }

  /** The kept motion that is looked at: the chosen one, or the first.  @returns {any} */
  clipAtHand() {
    const { clips } = this.state;
    return clips.find((c) => c.name === this.clip) ?? clips[0] ?? null;
  }

  /** The eye goes along with a figure that is carried somewhere. */
  followFigure(place) {
    this.plate.goAlong(place.map((v, k) => v - this.carried[k]));
    this.carried = place;
  }

  playClip(on) {
    this.clipPlaying = on;
    if (!on) return;
    const clip = this.clipAtHand();
    this.clipBegan = performance.now() - (1000 * this.clipFrame) / clip.rate;
    this.clipTo(this.clipFrame);
  }

  clipShown(frame, values) {
    this.clipFrame = frame;
    this.values = values;
    this.clipValues = structuredClone(values); // what the motion itself says there
    const { "move x": x = 0, "move y": y = 0, "move z": z = 0 } = values.whole ?? {};
    this.followFigure([x, y, z]);
    const clip = this.clipAtHand();
    if (!this.clipPlaying || !clip) return;
    const next = Math.floor(((performance.now() - this.clipBegan) / 1000) * clip.rate) % clip.frames;
    requestAnimationFrame(() => {
      if (this.clipPlaying) this.clipTo(next);
    });
  }

  // -- devices -------------------------------------------------------------------------------------------------------
  /** Show what a device said last, again and again. */
  heard() {
    this.trial = "";
    this.running = this.playing = false;
    this.live.ask(() => this.wants({ kind: "heard" }));
  }

  heardShown({ heard, over, values }) {
    this.heardFrames = heard;
    this.values = values;
    if (over) this.listening = false;
    requestAnimationFrame(() => {
      if (this.listening) this.heard();
    });
  }

  /** Values that the server finds for the pose at hand become one entry of the pose history. */
  async takeValues(path, body, label) {
    try {
      const { values } = await call("POST", `/api/c/${this.number}/${path}`, { ...body, values: this.values });
      this.trial = "";
      this.values = values;
      this.pose();
      await this.keepPose(label);
    } catch (error) {
      say(error);
    }
  }

  // -- drags ---------------------------------------------------------------------------------------------------------
  /** A drag begins.  What it builds on is known once the answers to the drag before it are in. */
  grab() {
    this.hinted = true;
    this.drag += 1;
    this.held = { drag: this.drag, values: null };
    this.trial = "";
  }

  dragReach(joint, place, done) {
    this.follow({ kind: "reach", joint, to: place }, done, `Dragged ${joint}`);
  }

  dragControl({ done, ...drag }) {
    this.follow(drag, done, `Moved ${drag.control}`);
  }

  /**
   * One wish of a drag; the drag is over when the answer to its last wish has come: that pose is kept, and no other.
   */
  follow(message, done, label) {
    const held = this.held; // of this drag: the next may begin before it has asked its last
    const make = () => ({
      ...this.wants({ ...message, drag: held.drag }),
      values: (held.values ??= structuredClone(this.values)),
    });
    if (!done) {
      this.live.ask(make);
      return;
    }
    this.settling = this.live.askLast(make).then(() => this.keepPose(label));
  }

  /**
   * An outline that neither moves nor turns leads its first channel: along the way of the hand, both ends within
   * reach.
   */
  dragChannel({ control, channel, by, done }) {
    const k = this.channel(control, channel);
    const low = k.low ?? Math.min(k.rest, -1),
      high = k.high ?? Math.max(k.rest, 1);
    this.held.values ??= structuredClone(this.values);
    const value = Math.min(Math.max((this.held.values[control]?.[channel] ?? k.rest) + by * (high - low), low), high);
    this.setChannel(control, channel, value, done);
    return `${channel} ${shown(k, value)}`;
  }

  channel(control, channel) {
    return this.state.controls.find((c) => c.name === control)?.channels.find((c) => c.name === channel);
  }

  // -- keeping -------------------------------------------------------------------------------------------------------
  keepPose(label) {
    const values = structuredClone(this.values);
    return this.inTurn(() => this.doKeepPose(label, values));
  }

  async doKeepPose(label, values) {
    try {
      const body = { values, label, position: this.position() };
      const { position } = await call("POST", `/api/c/${this.number}/pose`, body);
      this.state = { ...this.state, position, pose: { values, label }, can_undo: true, can_redo: false };
      this.kind.posed?.(this, values);
    } catch (error) {
      await this.failed(error);
    }
  }

  setChannel(control, channel, value, keep) {
    this.trial = "";
    this.playing = false;
    this.values = { ...this.values, [control]: { ...this.values[control], [channel]: value } };
    this.pose();
    if (keep) this.keepPose(`Set ${channel} of ${control}`);
  }

  /** Controls back to rest, the others as they are. */
  zero(names, label) {
    this.trial = "";
    this.values = Object.fromEntries(Object.entries(this.values).filter(([k]) => !names.has(k)));
    this.pose();
    this.keepPose(label);
  }

  async toRest() {
    this.trial = "";
    this.clipPlaying = false;
    this.followFigure([0, 0, 0]);
    this.dropped = this.drag; // answers still on their way belong to what is over
    if (Object.keys(this.values).length) {
      this.values = {};
      await this.keepPose("Back to rest");
    }
    this.pose();
  }
}
