// Trying a pivot: candidate places of a shoulder or hip, side by side, each with its worst swing and figures.
import { byId, call, h, length, plainName, say } from "../dom.js";
import { button } from "../stations/common.js";

/** Swing the limb of the chosen joint about several places, and show what each does. */
export async function tryPivot(b) {
  const joint = b.plate.selected.joint;
  if (!joint) {
    say({ what: "Choose a shoulder or a hip first.", where: "", todo: "" });
    return;
  }
  try {
    const { job } = await call("POST", `/api/c/${b.number}/pivot`, { joint });
    show(b, joint, (await b.watch(job)).result);
  } catch (error) {
    say(error);
  }
}

function show(b, joint, tried) {
  const box = byId("pivots");
  const take = async (t) => {
    box.close();
    await b.step("joints.move", { joint, place: t.place, both_sides: b.symmetry });
  };
  const figure = (label, value) => [h("dt", {}, label), h("dd", { class: "fig" }, value)];
  box.replaceChildren(
    h(
      "div",
      { class: "acts" },
      h("h2", {}, `Where should ${plainName(joint)} turn?`),
      button("Close", () => box.close(), "small"),
    ),
    h(
      "p",
      { class: "soft" },
      "The limb is swung about each place with a quick skin; the picture shows the worst swing, calmest place first.",
    ),
    h(
      "div",
      { class: "tries" },
      tried.map((t, i) =>
        h(
          "article",
          { class: i ? "try" : "try best" },
          h("img", { src: `data:image/png;base64,${t.picture}`, alt: `${t.name}, swung ${t.worst}` }),
          h("h3", {}, t.name),
          h(
            "dl",
            { class: "pairs" },
            figure("worst swing", t.worst),
            figure("shortest edge", `× ${t.squeeze.toFixed(2)}`),
            figure("longest edge", `× ${t.stretch.toFixed(2)}`),
            figure("folded edges", String(t.folded)),
            figure("flesh", `${t.volume >= 0 ? "+" : "−"}${Math.abs(100 * t.volume).toFixed(0)} %`),
            figure("gap", t.gap_m < 0 ? `sinks in ${length(-t.gap_m)}` : length(t.gap_m)),
          ),
          t.name === "as it is"
            ? h("p", { class: "soft" }, "where it is now")
            : button("Take this place", () => take(t), i ? "small" : "mend small"),
        ),
      ),
    ),
  );
  box.showModal();
}
