// The ledger drawer: every step as a sentence; stand on any, edit one, set milestones, save a recipe.
import { byId, call, h, inWords, megabytes, say, toast } from "./dom.js";

export class Ledger {
  constructor(bench) {
    this.bench = bench;
    this.box = byId("ledger");
    this.editing = 0;
  }

  toggle() {
    this.box.hidden = !this.box.hidden;
    if (!this.box.hidden) this.refresh(true);
  }
  hide() {
    this.box.hidden = true;
  }

  async refresh(focus = false) {
    if (this.box.hidden) return;
    try {
      this.data = await call("GET", `/api/c/${this.bench.number}/ledger`);
    } catch (error) {
      say(error);
      return;
    }
    this.draw();
    if (focus) this.box.querySelector("button")?.focus();
  }

  draw() {
    const { rows, milestones, store_bytes: bytes } = this.data,
      at = this.bench.position().step;
    const name = h("input", {
      type: "text",
      placeholder: "name this point",
      maxlength: 80,
      "aria-label": "Milestone name",
    });
    const file = h("input", {
      type: "file",
      accept: ".json",
      hidden: true,
      onchange: () => this.runRecipe(file.files[0]),
    });
    this.box.replaceChildren(
      h(
        "div",
        { class: "acts" },
        h("h2", {}, "Ledger"),
        h("button", { class: "small", onclick: () => this.hide() }, "Close"),
      ),
      h("p", { class: "soft" }, "Every change, in order. Stand on any of them; what comes after can be done again."),
      h(
        "div",
        { class: "acts" },
        name,
        h("button", { class: "small", onclick: () => this.milestone(name.value) }, "Set milestone"),
      ),
      ...(milestones.length
        ? [
            h(
              "div",
              { class: "acts" },
              milestones.flatMap((m) => [
                h(
                  "button",
                  { class: "small quiet", title: "Stand there", onclick: () => this.stand(m.step) },
                  `◆ ${m.name}`,
                ),
                m.step === at
                  ? null
                  : h(
                      "button",
                      {
                        class: "small quiet",
                        title: `Compare ${m.name} with where you stand`,
                        onclick: () => this.compare(m.step, at),
                      },
                      "compare",
                    ),
              ]),
            ),
          ]
        : []),
      h(
        "ol",
        {},
        rows.map((r) => this.row(r, at)),
      ),
      h(
        "div",
        { class: "acts" },
        h("a", { href: `/api/c/${this.bench.number}/recipe.json`, download: "" }, "Save as recipe"),
        h("button", { class: "small", onclick: () => file.click() }, "Run a recipe here"),
        file,
        h("button", { class: "small", onclick: () => this.compact() }, `Compact the store (${megabytes(bytes)})`),
      ),
    );
  }

  row(r, at) {
    const here = r.id === at;
    const item = h(
      "li",
      { class: [r.undone && "undone", here && "here"].filter(Boolean).join(" ") },
      h("span", { class: "fig" }, String(r.number)),
      h("span", {}, inWords(r.sentence)),
      h(
        "span",
        {},
        here
          ? h("span", { class: "soft" }, "here")
          : h("button", { title: "Stand on this step", onclick: () => this.stand(r.id) }, "go"),
        here
          ? null
          : h(
              "button",
              {
                title: "Compare with where you stand",
                "aria-label": `Compare step ${r.number} with here`,
                onclick: () => this.compare(r.id, at),
              },
              "⇄",
            ),
        r.number > 1 && !r.undone
          ? h(
              "button",
              {
                title: "Change this step and do again what followed",
                onclick: () => {
                  this.editing = this.editing === r.id ? 0 : r.id;
                  this.draw();
                },
              },
              "edit",
            )
          : null,
      ),
    );
    if (this.editing === r.id) {
      const text = h("textarea", { "aria-label": "Parameters" });
      text.value = JSON.stringify(r.params, null, 1);
      item.append(
        text,
        h(
          "div",
          { class: "acts" },
          h(
            "button",
            { class: "mend small", onclick: () => this.edit(r.id, text.value) },
            "Do it so, and all after it again",
          ),
        ),
      );
    }
    return item;
  }

  /** Two states side by side: pictures, counts, and what differs in words. */
  async compare(a, b) {
    const box = byId("compare"),
      { bench } = this;
    let found;
    try {
      found = await call("GET", `/api/c/${bench.number}/compare?a=${a}&b=${b}`);
    } catch (error) {
      say(error);
      return;
    }
    let turn = 0.5;
    const picture = (step) => `/api/c/${bench.number}/states/${step}.png?turn=${turn}`;
    const sides = [a, b].map((step, i) => ({
      step,
      counts: [found.a, found.b][i],
      title: found.titles[i],
      image: h("img", { src: picture(step), alt: found.titles[i], width: 420, height: 420 }),
    }));
    const about = {
      points: "points",
      faces: "faces",
      parts: "parts",
      joints: "joints",
      kits: "kits",
      controls: "controls",
      shapes: "shapes",
    };
    box.replaceChildren(
      h(
        "div",
        { class: "acts" },
        h("h2", {}, "Side by side"),
        h("button", { class: "small", onclick: () => box.close() }, "Close"),
      ),
      h("input", {
        type: "range",
        min: -3.14,
        max: 3.14,
        step: 0.1,
        value: "0.5",
        "aria-label": "turn both figures",
        onchange: (e) => {
          turn = Number(e.target.value);
          for (const s of sides) s.image.src = picture(s.step);
        },
      }),
      h(
        "div",
        { class: "sides" },
        sides.map((s) =>
          h(
            "section",
            {},
            h("h3", {}, s.title),
            s.image,
            h(
              "p",
              { class: "fig" },
              Object.entries(about)
                .map(([k, t]) => `${s.counts[k]} ${t}`)
                .join(" · "),
            ),
            h(
              "button",
              {
                class: "small",
                onclick: () => {
                  box.close();
                  this.stand(s.step);
                },
              },
              "Stand there",
            ),
          ),
        ),
      ),
      h(
        "ul",
        {},
        found.said.map((line) => h("li", {}, inWords(line))),
      ),
    );
    box.showModal();
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
      const { job } = await call("POST", `/api/c/${this.bench.number}/steps/${step}/edit`, {
        params,
        position: this.bench.position(),
      });
      await this.bench.watch(job);
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
      return;
    }
    try {
      await call("POST", `/api/c/${this.bench.number}/milestones`, { name: name.trim() });
      await this.refresh();
      toast(`Milestone “${name.trim()}” set.`);
    } catch (error) {
      say(error);
    }
  }

  async runRecipe(file) {
    if (!file) return;
    const data = new FormData();
    data.set("file", file);
    try {
      const { job } = await call("POST", `/api/c/${this.bench.number}/recipe`, data);
      await this.bench.watch(job);
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
