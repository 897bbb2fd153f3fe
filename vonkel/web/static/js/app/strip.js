// The trial strip: pose cards, worst first; a click takes the figure there.
import { call } from "../net/api.js";
import { button } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { inWords } from "../words.js";

/** Why no pose can be tried, or nothing. */
export const noPoses = (b) =>
  b.state.skin && !b.state.trial_names.length && !b.state.poses.length
    ? "No joint of this body that holds skin hangs from another, so there is nothing to bend. " +
      "Pose it at Limbs and save the pose: saved poses are tried, too."
    : "";

export class Strip {
  constructor(bench) {
    this.bench = bench;
    this.cards = [];
    this.fresh = true;
    this.wanted = false;
    this.shown = false; // it has been asked for once
  }

  async show(wanted) {
    this.shown = true;
    this.wanted = wanted && !!this.bench.state.skin;
    this.bench.look();
    if (!this.wanted) return;
    try {
      const { cards, fresh } = await call("GET", `/api/c/${this.bench.number}/trials`);
      Object.assign(this, { cards, fresh });
    } catch (error) {
      say(error);
    }
    this.bench.look();
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
    return h(
      "button",
      {
        key: c.name,
        type: "button",
        class: "btn btn-plain pose-card",
        "data-pose": c.name,
        "aria-pressed": String(this.bench.trial === c.name),
        title: inWords(`${c.about}: ${c.worst}`),
        onclick: () => this.go(c),
      },
      h("img", { src: `data:image/png;base64,${c.picture}`, alt: "" }),
      h("span", { class: `grade ${c.grade}` }, c.grade),
      h("span", {}, c.name),
    );
  }

  go(card) {
    const { bench } = this;
    bench.trial = bench.trial === card.name ? "" : card.name;
    bench.heat = !!bench.kind.heat;
    bench.showHeat();
    bench.pose();
  }

  async run() {
    try {
      const { job } = await call("POST", `/api/c/${this.bench.number}/trials`);
      await this.bench.watchJob(job);
      await this.bench.refresh({ keepPose: true });
      await this.show(true);
    } catch (error) {
      await this.bench.failed(error);
    }
  }

  chosen() {
    return this.cards.find((c) => c.name === this.bench.trial) ?? null;
  }
}
