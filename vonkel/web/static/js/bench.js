// The bench: one character, its plate, its sheets.  Wires the widgets to the server's steps and readings.
import { all, byId, call, fullName, h, inWords, measureOf, megabytes, one, say, shown, spaced, toast } from "./dom.js";
import { nothing, take, whole } from "./app/slices.js";
import { meshFrom } from "./net/mesh.js";
import { actionOfKey, enter, enterTools } from "./app/actions.js";
import { Finder } from "./finder.js";
import { Ledger } from "./ledger.js";
import { Live } from "./live.js";
import { Plate } from "./plate.js";
import { findingCards, STATIONS } from "./stations.js";
import { Strip } from "./strip.js";
import { DRAW } from "./tools/draw.js";
import { KIT, POINTS } from "./tools/kit.js";
import { MESH_TOOLS } from "./tools/mesh.js";
import { tryPivot } from "./tools/pivot.js";
import { PLANS } from "./tools/plan.js";

/** @type {Record<string, import("../types/page").Tool>} */
const TOOLS = { ...MESH_TOOLS, draw: DRAW, plans: PLANS, kit: KIT, points: POINTS };
enterTools({ ...MESH_TOOLS, draw: DRAW, kit: KIT });
enter({
  id: "pivot",
  words: "Try a pivot for the chosen joint",
  where: "joints",
  run: (b) => {
    b.go("joints");
    tryPivot(b);
  },
});
const script = one("script[data-number]");

class Bench {
  constructor(number, station) {
    this.number = number;
    this.station = station;
    /** @type {import("../types/page").State} */
    this.state = null;
    /** @type {import("../types/page").Values} */
    this.values = {};
    /** @type {{ tags: Record<string, string>, values: any }} */
    this.known = nothing(); // the slices of the state, by name
    this.kitKinds = null;
    /** @type {any[] | null} */
    this.formats = null;
    this.carryBelow = false; // dragged joints take along what hangs below them
    /** @type {((frame: any) => void) | null} */
    this.onFrame = null;
    this.trial = "";
    this.heat = false;
    this.off = new Set(); // operations left out, to see what they do
    this.openGroups = new Set();
    this.running = false; // springs and swings live
    this.playing = false;
    this.motionFrame = 0;
    this.motionFrames = 72;
    this.symmetry = true; // what is done on one side is done on the other
    this.plate = new Plate(byId("stage"), {
      onPickJoint: (name) => this.selectJoint(name),
      onPickControl: (name) => this.selectControl(name),
      onDragJoint: (name, place, done) => this.dragJoint(name, place, done),
      onDragControl: (drag) => this.dragControl(drag),
      onDragChannel: (drag) => this.dragChannel(drag),
      onGrab: () => this.grab(),
      onHover: (name) => {
        if (name !== this.overName) {
          this.overName = name;
          this.foot();
        }
      },
      onPickPoint: (index) => STATIONS[this.station].pickPoint?.(this, index),
      onDragLandmark: (name, place, done) => this.tool?.drag?.(name, place, done),
      onReach: (joint, place, done) => this.dragReach(joint, place, done),
    });
    this.live = new Live(number, {
      onFrame: (frame, wish) => this.takeFrame(frame, wish),
      onPlaces: (places) => {
        if (this.draggingJoint) this.plate.setPreview(places);
      },
      onError: say,
    });
    this.ledger = new Ledger(this);
    this.finder = new Finder(this);
    this.strip = new Strip(this);
    this.bindPage();
  }

  // -- the state, and changing it ----------------------------------------------------------------------------------
  async refresh({ keepPose = false } = {}) {
    const state = await this.learn(!this.state);
    const moved = !this.state || state.mesh !== this.state.mesh;
    this.off.clear(); // looked at, not kept
    this.state = state;
    if (moved) await this.loadMesh();
    this.plate.setSkeleton(state.joints, state.controls);
    const which = (field) => new Set(state.parts.flatMap((p, i) => (p[field] ? [i] : [])));
    this.plate.setHidden(which("hidden"), which("locked"));
    this.plate.setPictures(
      state.pictures,
      (q) => `/api/c/${this.number}/pictures/${encodeURIComponent(q.name)}?v=${q.key}`,
    );
    this.plate.setTexture(state.texture ? `/api/c/${this.number}/texture?v=${state.texture}` : "");
    if (!keepPose) this.values = structuredClone(state.pose.values);
    this.heads();
    this.show();
    this.ledger.refresh();
    if (!state.stations.length)
      this.learn(false)
        .then((full) => {
          this.state = full;
          this.heads();
          this.sheets();
        })
        .catch(say);
  }

  /**
   * The state as it is now: what changed of it is asked for, slice by slice.  later: without what takes long on a
   * large mesh.
   */
  async learn(later) {
    const { known } = this;
    const told = await call("POST", `/api/c/${this.number}/changes`, { have: known.tags, later });
    take(known, told);
    return whole(known);
  }

  async loadMesh() {
    const response = await fetch(`/api/c/${this.number}/mesh/${this.state.mesh}`);
    const data = await response.arrayBuffer();
    const mesh = meshFrom(data);
    const same =
      this.plate.rest?.length === mesh.points.length && this.plate.triangles.length === mesh.triangles.length;
    this.plate.setMesh(mesh);
    this.tool?.meshChanged?.(same);
  }

  position() {
    return this.state.position;
  }

  /** One change after the other: each says which it follows, so two under way at once would refuse each other. */
  inTurn(work) {
    const mine = (this.queue ?? Promise.resolve()).then(work);
    this.queue = mine.catch(() => {});
    return mine;
  }

  /** Do a step; long ones run as a job whose progress shows on the plate. */
  step(step, params, options = {}) {
    return this.inTurn(() => this.doStep(step, params, options));
  }

  async doStep(step, params, { quiet = false }) {
    try {
      const answer = await call("POST", `/api/c/${this.number}/steps`, { step, params, position: this.position() });
      if (answer.job) await this.watch(answer.job);
      await this.refresh();
      if (!quiet && this.state.last) toast(this.state.last.sentence);
      return true;
    } catch (error) {
      await this.failed(error);
      return false;
    }
  }

  async failed(error) {
    say(error);
    this.plate.setPreview(null);
    if (error.status === 409 && this.state) await this.refresh().catch(() => {});
  }

  async watch(job) {
    const box = byId("job");
    box.hidden = false;
    byId("job-stop").onclick = () => call("POST", `/api/jobs/${job.id}/stop`).catch(say);
    try {
      while (job.state === "running") {
        byId("job-title").textContent = job.doing ? `${job.title}: ${job.doing}` : job.title;
        byId("job-bar").value = job.share;
        await new Promise((r) => setTimeout(r, 200));
        job = await call("GET", `/api/jobs/${job.id}`);
      }
    } finally {
      box.hidden = true;
    }
    if (job.error) throw job.error;
    return job;
  }

  undo(way = "undo") {
    return this.inTurn(() => this.doUndo(way));
  }

  async doUndo(way) {
    try {
      await call("POST", `/api/c/${this.number}/${way}`, { position: this.position() });
      this.trial = "";
      await this.refresh();
      toast(way === "undo" ? "Undone." : "Done again.");
    } catch (error) {
      await this.failed(error);
    }
  }

  // -- posing ------------------------------------------------------------------------------------------------------
  posed() {
    return Object.keys(this.values).length > 0 || this.trial;
  }

  wants(extra = {}) {
    return {
      step: this.position().step,
      values: this.values,
      heat: this.heat && !!this.state.skin,
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

  takeFrame(frame, wish) {
    if (frame.said.values && wish.drag > (this.dropped ?? 0)) Object.assign(this.values, frame.said.values);
    if (frame.points.length !== this.plate.rest?.length) return;
    if (STATIONS[this.station].rest && !this.plate.dragging) {
      this.plate.setSkeleton(this.state.joints, this.state.controls);
      return;
    }
    this.plate.setFrame(frame);
    if (frame.heat) this.plate.setValues(frame.heat);
    this.onFrame?.(frame);
    if (frame.said.frame !== undefined) this.motionShown(frame.said.frame);
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
    this.sheets();
  }

  /** One frame of a try from rest to the pose at hand and back. */
  motionTo(frame) {
    this.motionFrame = frame;
    this.running = false;
    this.live.ask(() => this.wants({ kind: "motion", start: {}, frame, frames: this.motionFrames, rate: 24 }));
  }

  playMotion(on) {
    this.playing = on;
    this.running = false;
    if (on) {
      this.motionBegan = performance.now();
      this.motionTo(0);
    } else this.pose();
    this.sheets();
  }

  motionShown(frame) {
    this.motionFrame = frame;
    const bar = one("[data-keep=motion-frame]");
    if (bar && document.activeElement !== bar) bar.value = String(frame);
    if (!this.playing) return;
    const next = Math.floor(((performance.now() - this.motionBegan) / 1000) * 24) % this.motionFrames;
    requestAnimationFrame(() => {
      if (this.playing) this.motionTo(next);
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

  async selectOpposite() {
    const name = this.plate.selected.control;
    if (!name) return;
    try {
      this.selectControl((await call("GET", `/api/c/${this.number}/opposite/${encodeURIComponent(name)}`)).control);
    } catch (error) {
      say(error);
    }
  }

  async loadKitKinds() {
    this.kitKinds ??= await call("GET", "/api/kits");
    this.sheets();
  }

  /** What a character can be written as: asked for once. */
  async loadFormats() {
    if (this.formats) return;
    this.formats = await call("GET", "/api/formats");
    this.sheets();
  }

  openKitPoints(kit) {
    POINTS.kit = kit;
    this.useTool("points");
  }

  /** A joint and those below it, as long as each has one child. */
  chainFrom(name) {
    const out = [name];
    for (;;) {
      const kids = this.state.joints.filter((j) => j.parent === out.at(-1) && j.deforms);
      if (kids.length !== 1) return out;
      out.push(kids[0].name);
    }
  }

  /** A swing of one channel, and with symmetry of its partner's, in one rule. */
  async addSwing(swing, rate) {
    const swingers = [swing];
    if (this.symmetry) {
      const { control } = await call("GET", `/api/c/${this.number}/opposite/${encodeURIComponent(swing.control)}`);
      const { values } = await call("POST", `/api/c/${this.number}/mirror_pose`, {
        values: { [swing.control]: { [swing.channel]: swing.angle } },
        how: "swap",
      });
      if (control !== swing.control)
        for (const [channel, angle] of Object.entries(values[control] ?? {}))
          if (Math.abs(angle) > 1e-9) swingers.push({ control, channel, angle, phase: swing.phase });
    }
    await this.step("rules.add", {
      rule: { kind: "swing", name: `${swing.control} swing`, rate, swingers },
      both_sides: false,
    });
  }

  /** A drag begins.  What it builds on is known once the answers to the drag before it are in. */
  grab() {
    this.hinted = true;
    byId("hint").hidden = true;
    this.drag = (this.drag ?? 0) + 1;
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
    const k = this.state.controls.find((c) => c.name === control).channels.find((c) => c.name === channel);
    const low = k.low ?? Math.min(k.rest, -1),
      high = k.high ?? Math.max(k.rest, 1);
    this.held.values ??= structuredClone(this.values);
    const value = Math.min(Math.max((this.held.values[control]?.[channel] ?? k.rest) + by * (high - low), low), high);
    this.setChannel(control, channel, value, done);
    return `${channel} ${shown(k, value)}`;
  }

  keepPose(label) {
    const values = structuredClone(this.values);
    return this.inTurn(() => this.doKeepPose(label, values));
  }

  async doKeepPose(label, values) {
    try {
      const { position } = await call("POST", `/api/c/${this.number}/pose`, {
        values,
        label,
        position: this.position(),
      });
      this.state.position = position;
      this.state.pose = { values, label };
      this.state.can_undo = true;
      this.state.can_redo = false;
      this.heads();
      this.show({ plate: false });
    } catch (error) {
      await this.failed(error);
    }
  }

  setChannel(control, channel, value, keep) {
    this.trial = "";
    this.playing = false;
    this.values = { ...this.values, [control]: { ...this.values[control], [channel]: value } };
    const k = this.state.controls.find((c) => c.name === control)?.channels.find((c) => c.name === channel),
      m = k && measureOf(k);
    for (const end of m ? ["f", "s"] : []) {
      // the sheet's field and slider go along
      const field = one(`[data-keep="${CSS.escape(`${end}-${control} ${channel}`)}"]`);
      if (field && field !== document.activeElement) field.value = (value * m.out).toFixed(m.digits);
    }
    this.pose();
    if (keep) this.keepPose(`Set ${channel} of ${control}`);
  }

  async toRest() {
    this.trial = "";
    this.dropped = this.drag; // answers still on their way belong to what is over
    this.strip.mark();
    if (Object.keys(this.values).length) {
      this.values = {};
      await this.keepPose("Back to rest");
    }
    this.pose();
  }

  // -- joints ------------------------------------------------------------------------------------------------------
  dragJoint(name, place, done) {
    const both = this.symmetry;
    this.draggingJoint = !done;
    const below = this.carryBelow === true;
    const message = { kind: "joint", step: this.position().step, joint: name, to: place, both, below };
    this.live.ask(message);
    this.lastPlace = place;
    if (done) this.step("joints.move", { joint: name, place, both_sides: both, with_children: below });
  }

  selectJoint(name) {
    this.plate.selected = { joint: name, control: "" };
    this.plate.draw();
    this.sheets();
    STATIONS[this.station].picked?.(this, name);
  }

  selectControl(name) {
    this.plate.selected = { joint: "", control: name };
    this.plate.draw();
    this.sheets();
  }

  // -- the page ----------------------------------------------------------------------------------------------------
  /** Take up a tool by name, or none: it gets the plate's clicks, and its panel stands on the right sheet. */
  useTool(name) {
    const tool = name ? TOOLS[name] : null;
    if (this.tool && this.tool !== tool) this.tool.leave(this);
    this.tool = tool;
    this.plate.tool = tool && !tool.passive ? tool : null;
    tool?.enter(this);
    this.plate.draw();
    if (this.state) {
      this.dock();
      this.sheets();
    }
  }

  openPlans() {
    this.useTool("plans");
  }

  /** The present pose becomes the rest pose. */
  async newRest() {
    const values = structuredClone(this.values);
    if (!Object.keys(values).length) {
      toast("Pose the character first, at the Limbs station.");
      return;
    }
    if (await this.step("joints.new_rest", { values })) await this.toRest();
  }

  go(station) {
    if (!STATIONS[station]) return;
    if (this.tool && this.tool.station !== station) this.useTool(null);
    if (!STATIONS[station].strip) this.trial = ""; // trial poses have no control values to go on from
    this.station = station;
    this.running = this.playing = false;
    history.pushState({}, "", `/c/${this.number}/${station}${location.search}`);
    this.heads();
    this.show();
  }

  heads() {
    const s = this.state;
    byId("who-name").textContent = s.name;
    byId("who-about").textContent = [s.about, `${s.height.toFixed(2)} m tall`].filter(Boolean).join(" · ");
    for (const a of all(".path a")) {
      const known = s.stations.find((x) => x.key === a.dataset.station) ?? {
        key: a.dataset.station,
        title: a.title,
        state: "",
        count: 0,
      };
      a.dataset.state = known.state;
      a.querySelector("b").textContent = known.count || "";
      a.setAttribute("aria-label", `${known.title}: ${known.state}${known.count ? `, ${known.count} findings` : ""}`);
      if (known.key === this.station) a.setAttribute("aria-current", "page");
      else a.removeAttribute("aria-current");
    }
    byId("ledger-count").textContent = s.steps;
    byId("undo").disabled = !s.can_undo;
    byId("redo").disabled = !s.can_redo;
    this.foot();
  }

  foot() {
    const s = this.state;
    const posed = this.trial
      ? `Trying: ${this.trial}`
      : Object.keys(this.values).length
        ? `Posed: ${inWords(s.pose.label || "by hand")}`
        : "At rest";
    byId("foot-left").textContent = [
      posed,
      `${s.counts.joints} joints · ${spaced(s.counts.points)} points`,
      `store ${megabytes(s.store_bytes)}`,
      fullName(this.overName ?? ""),
    ]
      .filter(Boolean)
      .join("   ·   ");
    byId("foot-right").textContent = s.last ? `Saved · step ${s.last.number}: “${inWords(s.last.sentence)}”` : "";
  }

  /** Set plate and sheets for the station one stands in. */
  show({ plate = true } = {}) {
    const station = STATIONS[this.station];
    document.title = `${this.state.name} · ${this.station} · Vonkel`;
    if (plate) {
      this.plate.marked = [];
      this.plate.layers = { joints: false, controls: false, ...station.layers };
      this.plate.levels = station.levels ?? null;
      this.heat = station.heat ?? false;
      this.plate.setValues(null, station.shading ?? "clay");
      const wanted = station.large ?? "";
      if (this.shownStation !== this.station) {
        this.plate.setLarge(wanted);
        this.shownStation = this.station;
      }
      this.plate.controlsAway = false;
      if (station.rest) {
        this.plate.setSkeleton(this.state.joints, this.state.controls);
        if (this.plate.mesh) this.plate.setPoints(this.plate.rest);
      } else this.pose();
      this.legend(station.heat ? "how far edges are stretched or squeezed" : "", ["none", "", "×2"]);
      this.dock();
      // One line for whoever opens a finished figure for the first time; it goes with the first drag.
      byId("hint").hidden =
        this.hinted ||
        this.station !== "limbs" ||
        !this.state.skin ||
        !this.state.controls.length ||
        this.state.position.pose > 0;
      const heading = byId("hint").hidden ? 0 : 52;
      if (heading !== this.plate.heading) {
        this.plate.heading = heading;
        this.plate.layout();
      }
      station.enter?.(this);
      this.strip.show(station.strip ?? false);
    }
    this.sheets();
    this.foot();
  }

  legend(title, labels = ["0", "¼", "½", "¾", "1"]) {
    const box = byId("legend");
    box.hidden = !title;
    box.replaceChildren(
      ...(title
        ? [
            h("div", {}, title),
            h("div", { class: "ramp" }),
            h(
              "div",
              { class: "ticks" },
              labels.map((x) => h("span", {}, x)),
            ),
          ]
        : []),
    );
  }

  dock() {
    const faded = this.plate.aside.size;
    const back = faded ? [{ label: `Bring back ${faded} faded`, act: () => this.bringBack() }] : [];
    const entries = [...(STATIONS[this.station].dock?.(this) ?? []), ...back];
    const entry = ({ label, on, act, title }, kind) =>
      h(
        "button",
        {
          class: kind === "switch" ? kind : "",
          "aria-pressed": on === undefined ? undefined : String(on),
          title,
          onclick: async () => {
            await act();
            this.dock();
          },
        },
        kind === "switch" ? h("i", {}) : null,
        label,
      );
    // One of several tools is in the hand; a switch is on or off; what is left happens at once.
    /** @type {[string, any[]][]} */
    const groups = [
      ["tool", entries.filter((e) => e.tool)],
      ["switch", entries.filter((e) => !e.tool && e.on !== undefined)],
      ["", entries.filter((e) => !e.tool && e.on === undefined)],
    ];
    byId("dock").replaceChildren(
      ...groups
        .filter(([, list]) => list.length)
        .map(([kind, list]) =>
          h(
            "div",
            { class: "group", role: "group" },
            list.map((e) => entry(e, kind)),
          ),
        ),
    );
  }

  sheets() {
    const station = STATIONS[this.station],
      focus = one(":focus")?.dataset.keep;
    const scroll = byId("left").scrollTop;
    const typed = new Map([...all(".sheet input[type=text][data-keep]")].map((x) => [x.dataset.keep, x.value]));
    byId("left").replaceChildren(...station.left(this));
    const tool = this.tool
      ? [
          h(
            "section",
            { class: "tool" },
            h(
              "h2",
              {},
              this.tool.title,
              h(
                "button",
                { class: "small quiet", title: "Put the tool down (Esc)", onclick: () => this.useTool(null) },
                "Done",
              ),
            ),
            this.tool.hint ? h("p", { class: "soft" }, this.tool.hint) : null,
            ...this.tool.panel(this).filter(Boolean),
          ),
        ]
      : [];
    byId("right").replaceChildren(
      ...tool,
      ...(this.tool ? [] : station.right(this).filter(Boolean)),
      ...findingCards(this, this.station),
    );
    byId("left").scrollTop = scroll;
    for (const [keep, value] of typed) {
      // what was typed but not yet used is not lost when the sheet is drawn anew
      const again = one(`[data-keep="${CSS.escape(keep)}"]`);
      if (again && !again.value) again.value = value;
    }
    if (focus) one(`[data-keep="${CSS.escape(focus)}"]`)?.focus();
  }

  bindPage() {
    byId("hint-away").onclick = () => {
      this.hinted = true;
      byId("hint").hidden = true;
    };
    byId("undo").onclick = () => this.undo("undo");
    byId("redo").onclick = () => this.undo("redo");
    byId("find").onclick = () => this.finder.open();
    byId("ledger-open").onclick = () => this.ledger.toggle();
    for (const a of all(".path a"))
      a.onclick = (e) => {
        e.preventDefault();
        this.go(a.dataset.station);
      };
    addEventListener("popstate", () => {
      this.useTool(null);
      this.station = location.pathname.split("/")[3] ?? "model";
      this.heads();
      this.show();
    });
    addEventListener("keydown", (e) => this.key(e));
  }

  key(e) {
    const typing = e.target.closest("input, textarea, select, dialog");
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && !e.target.closest("textarea, input[type=text]")) {
      e.preventDefault();
      this.undo(e.shiftKey ? "redo" : "undo");
      return;
    }
    if (typing || e.ctrlKey || e.metaKey) return;
    if (this.tool?.key?.(e)) e.preventDefault();
    else if (e.key === "Escape") this.escape();
    else if (STATIONS[this.station].key?.[e.key]) this.toggleTool(STATIONS[this.station].key[e.key]);
    else if (e.key.startsWith("Arrow") && e.target === this.plate.stage) this.nudge(e);
    else {
      const action = actionOfKey(e.key, this.station);
      if (!action) return;
      e.preventDefault();
      action.run(this);
    }
  }

  /** What is chosen, and its partner with symmetry on, is faded and out of reach; the second time it is back. */
  putAside() {
    const { joint, control } = this.plate.selected;
    const name = joint || control;
    if (!name) return toast("Choose a joint or a control first.");
    const kind = joint ? "joint" : "control",
      there = new Set((joint ? this.state.joints : this.state.controls).map((x) => x.name));
    const other = name.replace(/_([LR])$/, (_, side) => (side === "L" ? "_R" : "_L"));
    const keys = [name, ...(this.symmetry && other !== name && there.has(other) ? [other] : [])].map(
      (n) => `${kind}:${n}`,
    );
    const back = this.plate.aside.has(keys[0]);
    for (const key of keys) {
      if (back) this.plate.aside.delete(key);
      else this.plate.aside.add(key);
    }
    this.plate.draw();
    this.dock();
  }

  bringBack() {
    this.plate.aside.clear();
    this.plate.draw();
    this.dock();
  }

  escape() {
    if (this.tool) return this.useTool(null);
    this.ledger.hide();
    this.plate.setLarge(STATIONS[this.station].large ?? "");
  }

  toggleTool(name) {
    this.useTool(this.tool === TOOLS[name] ? null : name);
  }

  showAxes() {
    this.plate.axesShown = !this.plate.axesShown;
    this.plate.draw();
    this.dock();
  }

  /** Which page of the Limbs station's sheet stands open. */
  viewRig(page) {
    this.rigView = page;
    this.sheets();
  }

  /** Arrow keys move the chosen joint in front view: a centimetre, with Shift a millimetre, with Alt in depth. */
  nudge(e) {
    const joint = this.state.joints.find((j) => j.name === this.plate.selected.joint);
    if (!joint || this.station !== "joints") return;
    e.preventDefault();
    const by = e.shiftKey ? 0.001 : 0.01,
      p = [...joint.place];
    const [axis, sign] = {
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      ArrowUp: [e.altKey ? 2 : 1, 1],
      ArrowDown: [e.altKey ? 2 : 1, -1],
    }[e.key];
    p[axis] += sign * by;
    this.step("joints.move", { joint: joint.name, place: p, both_sides: this.symmetry }, { quiet: true });
  }
}

const bench = new Bench(Number(script.dataset.number), script.dataset.station);
window.vonkel = bench; // for tests and the curious
bench.refresh().catch(say);
