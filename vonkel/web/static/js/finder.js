// The finder: any action by words.  And the list of keys.
import { byId, h } from "./dom.js";
import { actionsOf, keysOf } from "./app/actions.js";
import { STATIONS } from "./stations.js";

export class Finder {
  constructor(bench) {
    this.bench = bench;
    this.box = byId("finder");
  }

  open() {
    this.actions = actionsOf(this.bench);
    this.input = h("input", {
      type: "text",
      placeholder: "What do you want to do?",
      "aria-label": "Find an action",
      autocomplete: "off",
    });
    this.list = h("ul", { role: "listbox" });
    this.box.replaceChildren(this.input, this.list);
    this.input.addEventListener("input", () => this.draw());
    this.input.addEventListener("keydown", (e) => this.key(e));
    this.draw();
    this.box.showModal();
    this.input.focus();
  }

  draw() {
    const words = this.input.value.toLowerCase().split(/\s+/).filter(Boolean);
    this.hits = this.actions
      .filter((a) => words.every((w) => `${a.words} ${a.where}`.toLowerCase().includes(w)))
      .slice(0, 40);
    this.chosen = 0;
    this.list.replaceChildren(
      ...this.hits.map((a, i) =>
        h(
          "li",
          {},
          h(
            "button",
            { role: "option", "aria-selected": String(i === 0), onclick: () => this.run(a) },
            h("span", {}, a.words),
            h("span", { class: "soft" }, a.where),
          ),
        ),
      ),
    );
    if (!this.hits.length) this.list.replaceChildren(h("li", { class: "empty" }, "Nothing goes by those words."));
  }

  key(e) {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      const n = this.hits.length;
      if (!n) return;
      this.chosen = (this.chosen + (e.key === "ArrowDown" ? 1 : n - 1)) % n;
      [...this.list.querySelectorAll("button")].forEach((b, i) => {
        b.setAttribute("aria-selected", String(i === this.chosen));
        if (i === this.chosen) b.scrollIntoView({ block: "nearest" });
      });
    } else if (e.key === "Enter" && this.hits[this.chosen]) {
      e.preventDefault();
      this.run(this.hits[this.chosen]);
    }
  }

  showKeys() {
    showKeys(this.bench);
  }

  run(action) {
    this.box.close();
    action.run(this.bench);
  }
}

/** The keys of the station one stands in. */
function showKeys(bench) {
  const keys = [
    ...keysOf(bench.station),
    ["Ctrl Z", "undo"],
    ["Ctrl Shift Z", "redo"],
    ["wheel", "closer or farther"],
    ["drag", "a control or joint; empty paper moves the sheet, the free view turns"],
    ["double click", "the whole figure again"],
    ...(STATIONS[bench.station].keys ?? []),
  ];
  const box = byId("keys");
  box.replaceChildren(
    h("h2", {}, `Keys at ${bench.station}`),
    h(
      "table",
      {},
      h(
        "tbody",
        {},
        keys.map(([k, t]) => h("tr", {}, h("td", {}, h("kbd", {}, k)), h("td", {}, t))),
      ),
    ),
    h("div", { class: "acts" }, h("button", { onclick: () => box.close() }, "Close")),
  );
  box.showModal();
}
