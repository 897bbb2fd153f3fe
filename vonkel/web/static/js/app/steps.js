// One character on the page: its state, and changing it by steps, one after the other.
import { call } from "../net/api.js";
import { meshFrom } from "../net/mesh.js";
import { say, toast } from "../widgets/toasts.js";
import { nothing, take, whole } from "./slices.js";
import { OpenStore } from "./store.js";

const POLL = 200; // milliseconds between two looks at a job

export class Steps extends OpenStore {
  /** @param {number} number @param {Record<string, any>} values What the layers above keep in the store. */
  constructor(number, values) {
    super({
      /** @type {import("../../types/page").State | null} */
      state: null,
      /** @type {import("../../types/page").Values} */
      values: {},
      job: null,
      steps: new Map(), // what each step takes, by name
      ...values,
    });
    this.number = number;
    /** @type {{ tags: Record<string, string>, values: any }} */
    this.known = nothing(); // the slices of the state, by name
    /** @type {Promise<any> | null} */
    this.firstAnswer = this.changes(true); // on its way while the rest of the page is made
    this.firstAnswer.catch(() => {}); // whoever asks for it is told
  }

  async refresh({ keepPose = false } = {}) {
    const state = await this.learn(!this.state);
    const moved = !this.state || state.mesh !== this.state.mesh;
    if (this.off.size) this.off = new Set(); // looked at, not kept
    this.state = state;
    if (!keepPose) this.values = structuredClone(state.pose.values);
    if (moved) await this.loadMesh();
    this.learned();
    if (!state.stations.length)
      this.learn(false)
        .then((full) => {
          this.state = full;
        })
        .catch(say);
  }

  /**
   * The state as it is now: what changed of it is asked for, slice by slice.  later: without what takes long on a
   * large mesh.
   */
  async learn(later) {
    const { known } = this,
      answer = this.firstAnswer ?? this.changes(later);
    this.firstAnswer = null;
    take(known, await answer);
    return whole(known);
  }

  changes(later) {
    return call("POST", `/api/c/${this.number}/changes`, { have: this.known.tags, later });
  }

  async loadMesh() {
    const asked = this.meshAsked ?? fetch(`/api/c/${this.number}/mesh/${this.state.mesh}`);
    this.meshAsked = null;
    const mesh = meshFrom(await (await asked).arrayBuffer());
    const same =
      this.plate.rest?.length === mesh.points.length && this.plate.triangles.length === mesh.triangles.length;
    this.plate.setMesh(mesh);
    this.tool?.meshChanged?.(same);
  }

  position() {
    return this.state.position;
  }

  /** What each step takes: asked for once, when a form wants it. */
  loadSteps() {
    this.stepsAsked ??= call("GET", "/api/steps").then((kinds) => {
      this.steps = new Map(kinds.map((k) => [k.name, k]));
    }, say);
    return this.stepsAsked;
  }

  /** One change after the other: each says which it follows, so two under way at once would refuse each other. */
  inTurn(work) {
    const mine = (this.queue ?? Promise.resolve()).then(work);
    this.queue = mine.catch(() => {});
    return mine;
  }

  /** Do a step; long ones run as a job whose progress shows on the plate.  @returns {Promise<boolean>} */
  step(step, params, options = {}) {
    return this.inTurn(() => this.doStep(step, params, options));
  }

  async doStep(step, params, { quiet = false, keepPose = false }) {
    try {
      const answer = await call("POST", `/api/c/${this.number}/steps`, { step, params, position: this.position() });
      if (answer.job) await this.watchJob(answer.job);
      await this.refresh({ keepPose });
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
    this.touch("state"); // fields show again what holds
    if (error.status === 409 && this.state) await this.refresh().catch(() => {});
  }

  /** Show a job's progress until it ends.  Throws what it failed with. */
  async watchJob(job) {
    try {
      while (job.state === "running") {
        this.job = job;
        await new Promise((r) => setTimeout(r, POLL));
        job = await call("GET", `/api/jobs/${job.id}`);
      }
    } finally {
      this.job = null;
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

  /** Send files that belong together, with other fields, to a path of the character: one step. */
  async upload(path, files, extra = {}) {
    const data = new FormData();
    for (const file of files) data.append("file", file);
    data.set("step", String(this.position().step));
    for (const [k, v] of Object.entries(extra)) data.set(k, v);
    try {
      const told = await call("POST", `/api/c/${this.number}/${path}`, data);
      await this.refresh();
      toast(this.state.last.sentence);
      return told;
    } catch (error) {
      await this.failed(error);
      return null;
    }
  }
}
