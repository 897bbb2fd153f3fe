// The trial strip: pose cards, worst first; a click takes the figure there.
import { byId, call, h, inWords } from "./dom.js";
import { noPoses } from "./stations/trials.js";

export class Strip {
  constructor(bench) {
    this.bench = bench;
    this.cards = [];
    this.box = byId("strip");
  }

  async show(wanted) {
    this.shown = true;
    this.box.hidden = !wanted || !this.bench.state.skin;
    if (this.box.hidden) return;
    const { cards, fresh } = await call("GET", `/api/c/${this.bench.number}/trials`);
    this.cards = cards;
    this.fresh = fresh;
    this.draw();
    this.bench.sheets();
  }

  draw() {
    const { cards, fresh } = this,
      why = noPoses(this.bench);
    const head = h(
      "div",
      { class: "head" },
      h("h2", {}, "Trials"),
      h(
        "p",
        {},
        cards.length
          ? `${cards.length} poses, worst first${fresh ? "" : "; of an earlier state"}`
          : why
            ? "No pose can be tried."
            : "No poses tried yet.",
      ),
      why
        ? null
        : h(
            "button",
            { class: cards.length && fresh ? "small" : "small mend", id: "run-trials", onclick: () => this.run() },
            cards.length ? "Run again" : "Run trials",
          ),
    );
    this.box.replaceChildren(
      head,
      why ? h("p", { class: "why" }, why) : "",
      ...cards.map((c) =>
        h(
          "button",
          {
            class: "pose-card",
            "data-pose": c.name,
            "aria-pressed": String(this.bench.trial === c.name),
            title: inWords(`${c.about}: ${c.worst}`),
            onclick: () => this.go(c),
          },
          h("img", { src: `data:image/png;base64,${c.picture}`, alt: "" }),
          h("span", { class: `grade ${c.grade}` }, c.grade),
          h("span", {}, c.name),
        ),
      ),
    );
  }

  mark() {
    for (const card of this.box.querySelectorAll(".pose-card"))
      card.setAttribute("aria-pressed", String(card.dataset.pose === this.bench.trial));
  }

  go(card) {
    this.bench.trial = this.bench.trial === card.name ? "" : card.name;
    this.mark();
    this.bench.heat = this.bench.station === "trials";
    this.bench.pose();
    this.bench.sheets();
    this.bench.foot();
  }

  async run() {
    try {
      const { job } = await call("POST", `/api/c/${this.bench.number}/trials`);
      await this.bench.watch(job);
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
