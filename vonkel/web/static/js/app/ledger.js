// The ledger drawer: every step as a sentence; stand on any, edit one, set milestones, save a recipe.
import { call } from "../net/api.js";
import { acts, button, fileButton, form, own, submit } from "../widgets/fields.js";
import { byId, h, render } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";
import { inWords, megabytes } from "../words.js";
import { compare } from "./compare.js";

const CHANGED = " Made again, and not exactly what it was: perhaps by another version of Vonkel.";

export class Ledger {
  constructor(bench) {
    this.bench = bench;
    this.box = byId("ledger");
    this.drawer = window.bootstrap.Offcanvas.getOrCreateInstance(this.box);
    this.open = false;
    this.editing = 0;
    this.data = null;
    this.box.addEventListener("hide.bs.offcanvas", () => {
      this.open = false;
    });
  }

  async toggle() {
    if (this.open) return this.hide();
    this.open = true;
    this.drawer.show();
    await this.refresh();
    return this.box.querySelector("button")?.focus();
  }
  hide() {
    this.drawer.hide();
  }

  async refresh() {
    if (!this.open) return;
    try {
      this.data = await call("GET", `/api/c/${this.bench.number}/ledger`);
    } catch (error) {
      say(error);
      return;
    }
    this.draw();
  }

  draw() {
    if (!this.data || !this.open) return;
    const { rows, store_bytes: bytes } = this.data,
      at = this.bench.position().step;
    const name = own.text("name", "Milestone name", { placeholder: "name this point", maxlength: 80 });
    render(
      [
        h(
          "div",
          { class: "offcanvas-header" },
          h("h2", { class: "offcanvas-title" }, "Ledger"),
          h("button", { type: "button", class: "btn-close", "aria-label": "Close", onclick: () => this.hide() }),
        ),
        h(
          "div",
          { class: "offcanvas-body" },
          h(
            "p",
            { class: "soft" },
            "Every change, in order. Stand on any of them; what comes after can be done again.",
          ),
          form((said) => this.milestone(said.name), acts(name, submit("Set milestone"))),
          this.milestones(at),
          h(
            "ol",
            {},
            rows.map((r) => this.row(r, at)),
          ),
          acts(
            h(
              "a",
              { class: "btn btn-sm btn-plain", href: `/api/c/${this.bench.number}/recipe.json`, download: "" },
              "Save as recipe",
            ),
            fileButton("Run a recipe here", ".json", (file) => this.runRecipe(file)),
            button(`Compact the store (${megabytes(bytes)})`, () => this.compact(), "small"),
          ),
        ),
      ],
      this.box,
    );
  }

  milestones(at) {
    const { milestones } = this.data;
    if (!milestones.length) return null;
    return acts(
      milestones.flatMap((m) => [
        button(`◆ ${m.name}`, () => this.stand(m.step), "small quiet", { title: "Stand there" }),
        m.step === at
          ? null
          : button("compare", () => compare(this, m.step, at), "small quiet", {
              title: `Compare ${m.name} with where you stand`,
            }),
      ]),
    );
  }

  row(r, at) {
    const here = r.id === at;
    const turn = () => {
      this.editing = this.editing === r.id ? 0 : r.id;
      this.draw();
    };
    const ways = here
      ? h("span", { class: "soft" }, "here")
      : [
          button("go", () => this.stand(r.id), "small quiet", { title: "Stand on this step" }),
          button("⇄", () => compare(this, r.id, at), "small quiet", {
            title: "Compare with where you stand",
            "aria-label": `Compare step ${r.number} with here`,
          }),
        ];
    const edit = { title: "Change this step and do again what followed" };
    return h(
      "li",
      { key: r.id, class: [r.undone && "undone", here && "here"].filter(Boolean).join(" ") },
      h("span", { class: "fig" }, String(r.number)),
      h("span", {}, inWords(r.sentence), r.changed ? h("em", { class: "soft" }, CHANGED) : null),
      h("span", {}, ways, r.number > 1 && !r.undone ? button("edit", turn, "small quiet", edit) : null),
      this.editing === r.id ? this.editor(r) : null,
    );
  }

  editor(r) {
    return h(
      "div",
      { class: "editor" },
      form(
        ({ params }) => this.edit(r.id, params),
        h("textarea", {
          name: "params",
          class: "form-control",
          "aria-label": "Parameters",
          defaultValue: JSON.stringify(r.params, null, 1),
        }),
        acts(submit("Do it so, and all after it again", "mend small")),
      ),
    );
  }

  async edit(step, text) {
    let params;
    try {
      params = JSON.parse(text);
    } catch (error) {
      toast("That is not JSON.", { bad: true, more: String(error.message) });
      return;
    }
    try {
      const body = { params, position: this.bench.position() };
      const { job } = await call("POST", `/api/c/${this.bench.number}/steps/${step}/edit`, body);
      await this.bench.watchJob(job);
      this.editing = 0;
      await this.bench.refresh();
      toast("Done again from there.");
    } catch (error) {
      await this.bench.failed(error);
    }
  }

  async stand(step) {
    try {
      await call("POST", `/api/c/${this.bench.number}/go`, { step, position: this.bench.position() });
      await this.bench.refresh();
    } catch (error) {
      await this.bench.failed(error);
    }
  }

  async milestone(name) {
    if (!name.trim()) {
      toast("Name the milestone first.");
      return false;
    }
    try {
      await call("POST", `/api/c/${this.bench.number}/milestones`, { name: name.trim() });
      await this.refresh();
      toast(`Milestone “${name.trim()}” set.`);
    } catch (error) {
      say(error);
      return false;
    }
    return true;
  }

  async runRecipe(file) {
    const data = new FormData();
    data.set("file", file);
    try {
      const { job } = await call("POST", `/api/c/${this.bench.number}/recipe`, data);
      await this.bench.watchJob(job);
      await this.bench.refresh();
      toast("The recipe has run.");
    } catch (error) {
      await this.bench.failed(error);
    }
  }

  async compact() {
    try {
      const { before, after } = await call("POST", "/api/compact");
      toast(`${megabytes(before)} became ${megabytes(after)}. Milestones are all there.`);
      await this.bench.refresh({ keepPose: true });
    } catch (error) {
      say(error);
    }
  }
}
