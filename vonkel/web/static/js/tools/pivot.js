// Trying a pivot: candidate places of a shoulder or hip, side by side, each with its worst swing and figures.
import { call } from "../net/api.js";
import { button, pairs } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { modal } from "../widgets/modal.js";
import { say } from "../widgets/toasts.js";
import { length, plainName } from "../words.js";

/** Swing the limb of the chosen joint about several places, and show what each does. */
export async function tryPivot(b) {
  const { joint } = b.plate.selected;
  if (!joint) {
    say({ what: "Choose a shoulder or a hip first.", where: "", todo: "" });
    return;
  }
  try {
    const { job } = await call("POST", `/api/c/${b.number}/pivot`, { joint });
    show(b, joint, (await b.watchJob(job)).result);
  } catch (error) {
    say(error);
  }
}

const ABOUT =
  "The limb is swung about each place with a quick skin; the picture shows the worst swing, calmest place first.";

function show(b, joint, tried) {
  const box = modal("pivots", `Where should ${plainName(joint)} turn?`);
  const take = async (t) => {
    box.hide();
    await b.step("joints.move", { joint, place: t.place, both_sides: b.symmetry });
  };
  box.show([
    h("p", { class: "soft" }, ABOUT),
    h(
      "div",
      { class: "tries" },
      tried.map((t, i) => card(t, i, take)),
    ),
  ]);
}

function card(t, i, take) {
  const fig = (v) => h("span", { class: "fig" }, v);
  return h(
    "article",
    { class: i ? "try" : "try best", key: t.name },
    h("img", { src: `data:image/png;base64,${t.picture}`, alt: `${t.name}, swung ${t.worst}` }),
    h("h3", {}, t.name),
    pairs(
      ["worst swing", fig(t.worst)],
      ["shortest edge", fig(`× ${t.squeeze.toFixed(2)}`)],
      ["longest edge", fig(`× ${t.stretch.toFixed(2)}`)],
      ["folded edges", fig(String(t.folded))],
      ["flesh", fig(`${t.volume >= 0 ? "+" : "−"}${Math.abs(100 * t.volume).toFixed(0)} %`)],
      ["gap", fig(t.gap_m < 0 ? `sinks in ${length(-t.gap_m)}` : length(t.gap_m))],
    ),
    t.name === "as it is"
      ? h("p", { class: "soft" }, "where it is now")
      : button("Take this place", () => take(t), i ? "small" : "mend small"),
  );
}
