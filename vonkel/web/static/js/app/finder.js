// The finder: any action by words.  And the list of keys.
import { byId, h } from "../widgets/html.js";
import { modal } from "../widgets/modal.js";
import { actionsOf, keysOf } from "./actions.js";

const MOST = 40; // hits that are listed

export class Finder {
  constructor(bench) {
    this.bench = bench;
    this.words = "";
    this.chosen = 0;
  }

  open() {
    this.actions = actionsOf(this.bench);
    this.words = "";
    this.chosen = 0;
    this.box = modal("finder", "", () => byId("finder-words").focus());
    this.box.show(this.view());
    if (!this.bench.steps.size)
      this.bench.loadSteps().then(() => {
        this.actions = actionsOf(this.bench);
        this.box.draw(this.view());
      });
  }

  get hits() {
    const words = this.words.toLowerCase().split(/\s+/).filter(Boolean);
    return this.actions
      .filter((a) => words.every((w) => `${a.words} ${a.where}`.toLowerCase().includes(w)))
      .slice(0, MOST);
  }

  view() {
    const { hits } = this;
    const type = (e) => {
      this.words = e.target.value;
      this.chosen = 0;
      this.box.draw(this.view());
    };
    const row = (a, i) =>
      h(
        "button",
        {
          key: i,
          type: "button",
          role: "option",
          class: `list-group-item list-group-item-action${i === this.chosen ? " active" : ""}`,
          "aria-selected": String(i === this.chosen),
          onclick: () => this.run(a),
        },
        h("span", {}, a.words),
        h("span", { class: "soft" }, a.where),
      );
    return [
      h("input", {
        id: "finder-words",
        type: "text",
        class: "form-control form-control-lg",
        placeholder: "What do you want to do?",
        "aria-label": "Find an action",
        autocomplete: "off",
        value: this.words,
        oninput: type,
        onkeydown: (e) => this.key(e),
      }),
      h("div", { role: "listbox", class: "list-group list-group-flush" }, hits.map(row)),
      hits.length ? null : h("p", { class: "empty" }, "Nothing goes by those words."),
    ];
  }

  key(e) {
    const { hits } = this,
      n = hits.length;
    if ((e.key === "ArrowDown" || e.key === "ArrowUp") && n) {
      e.preventDefault();
      this.chosen = (this.chosen + (e.key === "ArrowDown" ? 1 : n - 1)) % n;
      this.box.draw(this.view());
      byId("finder").querySelector("[aria-selected=true]")?.scrollIntoView({ block: "nearest" });
    } else if (e.key === "Enter" && hits[this.chosen]) {
      e.preventDefault();
      this.run(hits[this.chosen]);
    }
  }

  run(action) {
    this.box.hide();
    this.bench.plate.stage.focus({ preventScroll: true }); // keys go to the plate again
    action.run(this.bench);
  }

  /** The keys of the station one stands in. */
  showKeys() {
    const { station } = this.bench;
    const keys = [
      ...keysOf(station),
      ["Ctrl Z", "undo"],
      ["Ctrl Shift Z", "redo"],
      ["wheel", "closer or farther"],
      ["drag", "a control or joint; empty paper moves the sheet, the free view turns"],
      ["double click", "the whole figure again"],
    ];
    const row = ([key, words], i) => h("tr", { key: i }, h("td", {}, h("kbd", {}, key)), h("td", {}, words));
    modal("keys", `Keys at ${station}`).show(h("table", { class: "table table-sm" }, h("tbody", {}, keys.map(row))));
  }
}
