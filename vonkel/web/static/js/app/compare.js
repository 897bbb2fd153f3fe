// Two states side by side: pictures, counts, and what differs in words.
import { call } from "../net/api.js";
import { button, slider } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { modal } from "../widgets/modal.js";
import { say } from "../widgets/toasts.js";
import { inWords } from "../words.js";

const COUNTED = ["points", "faces", "parts", "joints", "kits", "controls", "shapes"];

export async function compare(ledger, a, b) {
  const { number } = ledger.bench;
  let found;
  try {
    found = await call("GET", `/api/c/${number}/compare?a=${a}&b=${b}`);
  } catch (error) {
    say(error);
    return;
  }
  const box = modal("compare", "Side by side");
  const stand = (step) => {
    box.hide();
    ledger.stand(step);
  };
  const side = (step, counts, title, turn) =>
    h(
      "section",
      { key: step },
      h("h3", {}, title),
      h("img", { src: `/api/c/${number}/states/${step}.png?turn=${turn}`, alt: title, width: 420, height: 420 }),
      h("p", { class: "fig" }, COUNTED.map((k) => `${counts[k]} ${k}`).join(" · ")),
      button("Stand there", () => stand(step), "small"),
    );
  const view = (turn) => [
    slider("turn both figures", turn, {
      low: -3.14,
      high: 3.14,
      step: 0.1,
      onchange: (e) => box.draw(view(Number(e.target.value))),
    }),
    h("div", { class: "sides" }, side(a, found.a, found.titles[0], turn), side(b, found.b, found.titles[1], turn)),
    h(
      "ul",
      {},
      found.said.map((line, i) => h("li", { key: i }, inWords(line))),
    ),
  ];
  box.show(view(0.5));
}
