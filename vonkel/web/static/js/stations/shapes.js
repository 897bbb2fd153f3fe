// The Shapes station: morph targets.
import { actionButton } from "../app/actions.js";
import { enterStation } from "../app/stations.js";
import { acts, button, form, own, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { channelSlider } from "./posing.js";

function left(b) {
  const row = (s) =>
    h(
      "li",
      { key: s.name },
      h(
        "button",
        {
          type: "button",
          "aria-selected": String(b.ui.shape === s.name),
          onclick: () => {
            b.ui.shape = s.name;
          },
        },
        h("span", { class: "grow" }, s.name),
      ),
    );
  return [
    h("h2", {}, "Shapes"),
    b.state.shapes.length
      ? h("ul", { class: "rows" }, b.state.shapes.map(row))
      : h(
          "p",
          { class: "empty" },
          "No shapes yet. Bring in the same mesh with some points moved, such as an open mouth.",
        ),
    h("h3", {}, "Bring one in"),
    bringIn(b),
  ];
}

function bringIn(b) {
  const send = async (_said, at) => {
    const { files } = at.elements.namedItem("file");
    if (!files.length) {
      toast("Choose a mesh first.");
      return false;
    }
    return b.upload("shape", files, { name: at.elements.namedItem("name").value });
  };
  return form(
    send,
    own.file("file", "Mesh of the shape", ".obj,.ply,.glb,.gltf,.zip,.bin", { multiple: true }),
    own.text("name", "Shape name", { placeholder: "name, as the file" }),
    acts(submit("Add the shape", "mend small")),
  );
}

function right(b) {
  const { shapes } = b.state,
    chosen = shapes.find((s) => s.name === b.ui.shape);
  const strength = (s) =>
    channelSlider(b, "shapes", { name: s.name, kind: "value", rest: 0, low: s.low, high: s.high });
  const farther = () => b.step("shapes.set", { shape: chosen.name, low: -0.5, high: 1.5 });
  return [
    h("h2", {}, "Strength"),
    shapes.length ? shapes.map(strength) : h("p", { class: "empty" }, "A slider for each shape stands here."),
    chosen
      ? [
          h("h3", {}, chosen.name),
          acts(
            button("Delete", () => b.step("shapes.remove", { shape: chosen.name }), "small"),
            button("Let it go past: −0.5 to 1.5", farther, "small"),
          ),
        ]
      : null,
    acts(actionButton(b, "rest")),
  ];
}

enterStation("shapes", { large: "free", shading: () => "colours", fields: { shape: "" }, left, right });
