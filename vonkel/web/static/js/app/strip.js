// The trial strip: pose cards, worst first; a click takes the figure there.
import { call } from "../net/api.js";
import { button } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { called, inWords } from "../words.js";

/** Why no pose can be tried, or nothing. */
export const noPoses = (b) =>
  b.state.skin && !b.state.trial_names.length && !b.state.poses.length
    ? "No joint of this body that holds skin hangs from another, so there is nothing to bend. " +
      "Pose it at Limbs and save the pose: saved poses are tried, too."
    : "";

/** How a pose changed since the cards were made: its worst, as a share of what would pass, and all skin's strain. */
function since(was, now) {
  const percent = (v, digits) => (100 * v).toFixed(digits);
  const strained = was.strain === undefined ? "" : ` · ${percent(was.strain, 2)} → ${percent(now.strain, 2)}`;
  return `${percent(was.badness, 0)} → ${percent(now.badness, 0)} %${strained}`;
}

const SINCE = "Since the trials were run: the worst, of what would pass, and the strain over all of the skin";
const worse = (was, now) => now.badness > was.badness || (now.badness === was.badness && now.strain > was.strain);

export class Strip {
  constructor(bench) {
    this.bench = bench;
    this.cards = [];
    this.fresh = true;
    this.of = 0; // the step whose state they are of
    this.wanted = false;
    this.shown = false; // it has been asked for once
    /** @type {Map<string, any>} */ this.before = new Map(); // cards of the state that was tried before
    /** @type {Map<string, any>} */ this.now = new Map(); // cards of poses tried again since, by name
  }

  async show(wanted) {
    this.shown = true;
    this.wanted = wanted && (!!this.bench.state.skin || this.bench.state.shapes.length > 0);
    this.bench.look();
    if (!this.wanted) return;
    try {
      const { cards, fresh } = await call("GET", `/api/c/${this.bench.number}/trials`);
      Object.assign(this, { cards, fresh });
      if (fresh) {
        this.now.clear();
        this.of = this.bench.position().step;
      } else this.follow();
    } catch (error) {
      say(error);
    }
    this.bench.look();
  }

  /** Try the pose that is looked at again, on what the skin is by now. */
  async follow() {
    const { bench } = this,
      name = bench.trial;
    if (!name || this.fresh || !this.cards.some((c) => c.name === name)) return;
    const { step } = bench.position();
    try {
      const now = await call("GET", `/api/c/${bench.number}/trials/${encodeURIComponent(name)}`);
      if (step !== bench.position().step) return;
      this.now.set(name, now);
      bench.look();
    } catch (error) {
      say(error);
    }
  }

  view() {
    if (!this.wanted) return null;
    const { cards, fresh, bench } = this,
      why = noPoses(bench);
    const said = cards.length
      ? `${cards.length} poses, worst first${fresh ? "" : "; of an earlier state"}`
      : why
        ? "No pose can be tried."
        : "No poses tried yet.";
    const run = button(
      cards.length ? "Run again" : "Run trials",
      () => this.run(),
      cards.length && fresh ? "small" : "small mend",
      { id: "run-trials" },
    );
    return [
      h("div", { class: "head" }, h("h2", {}, "Trials"), h("p", {}, said), why ? null : run),
      why ? h("p", { class: "why" }, why) : null,
      cards.map((c) => this.card(c)),
    ];
  }

  card(c) {
    const now = this.now.get(c.name),
      was = now ? c : this.before.get(c.name);
    return h(
      "button",
      {
        key: c.name,
        type: "button",
        class: "btn btn-plain pose-card",
        "data-pose": c.name,
        "aria-pressed": String(this.bench.trial === c.name),
        title: inWords(`${called(c)}. ${c.about}: ${c.worst}`),
        onclick: () => this.go(c),
      },
      h("img", { src: `data:image/png;base64,${c.picture}`, alt: "" }),
      h("span", { class: `grade ${(now ?? c).grade}` }, (now ?? c).grade),
      h("span", { class: "called" }, called(c)),
      was
        ? h("span", { class: `since ${worse(was, now ?? c) ? "worse" : ""}`, title: SINCE }, since(was, now ?? c))
        : null,
    );
  }

  go(card) {
    const { bench } = this;
    bench.trial = bench.trial === card.name ? "" : card.name;
    bench.heat = !!bench.kind.heat;
    bench.showHeat();
    this.pose();
  }

  /** Show the pose that is looked at, all of it; the eye goes along with a motion that carries the figure away. */
  async pose() {
    const { bench } = this,
      moves = !!this.chosen()?.sweep?.frames;
    await bench.posed();
    bench.plate.keepInSight(bench.trial && !moves ? bench.plate.points : null);
    bench.followFigure(moves ? bench.plate.carriedBy() : [0, 0, 0]);
  }

  /** Try all poses; with `sweeps` every joint goes through its freedom, too. */
  async run(sweeps = this.cards.some((c) => c.sweep?.joint)) {
    try {
      const { job } = await call("POST", `/api/c/${this.bench.number}/trials?sweeps=${sweeps}`);
      const before = this.of === this.bench.position().step ? null : this.cards; // of another state
      await this.bench.watchJob(job);
      if (before) this.before = new Map(before.map((c) => [c.name, c]));
      await this.bench.refresh({ keepPose: true });
      this.now.clear();
      await this.show(true);
    } catch (error) {
      await this.bench.failed(error);
    }
  }

  chosen() {
    const { trial } = this.bench;
    return this.cards.find((c) => c.name === trial) ?? this.cards.find((c) => c.sweep?.names.includes(trial)) ?? null;
  }
}
