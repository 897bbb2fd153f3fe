// Shapes: morph targets.
import { h, toast } from "../dom.js";
import { button, upload } from "./common.js";
import { channelSlider } from "./posing.js";

// -- shapes and face -----------------------------------------------------------------------------------------------
export const shapes = {
  large: "free",
  shading: "colours",
  left: (b) => [
    h("h2", {}, "Shapes"),
    ...(b.state.shapes.length
      ? [
          h(
            "ul",
            { class: "rows" },
            b.state.shapes.map((s) =>
              h(
                "li",
                {},
                h(
                  "button",
                  {
                    "aria-selected": String(b.shape === s.name),
                    onclick: () => {
                      b.shape = s.name;
                      b.sheets();
                    },
                  },
                  h("span", { class: "grow" }, s.name),
                ),
              ),
            ),
          ),
        ]
      : [
          h(
            "p",
            { class: "empty" },
            "No shapes yet. Bring in the same mesh with some points moved, such as an open mouth.",
          ),
        ]),
    h("h3", {}, "Bring one in"),
    shapeForm(b),
  ],
  right: (b) => [
    h("h2", {}, "Strength"),
    ...(b.state.shapes.length
      ? b.state.shapes.map((s) =>
          channelSlider(b, "shapes", { name: s.name, kind: "value", rest: 0, low: s.low, high: s.high }),
        )
      : [h("p", { class: "empty" }, "A slider for each shape stands here.")]),
    ...(b.shape && b.state.shapes.some((s) => s.name === b.shape)
      ? [
          h("h3", {}, b.shape),
          h(
            "div",
            { class: "acts" },
            button("Delete", () => b.step("shapes.remove", { shape: b.shape }), "small"),
            button(
              "Let it go past: −0.5 to 1.5",
              () => b.step("shapes.set", { shape: b.shape, low: -0.5, high: 1.5 }),
              "small",
            ),
          ),
        ]
      : []),
    h(
      "div",
      { class: "acts" },
      button("Back to rest (b)", () => b.toRest(), "small"),
    ),
  ],
};

function shapeForm(b) {
  const file = h("input", {
    type: "file",
    accept: ".obj,.ply,.glb,.gltf,.zip,.bin",
    multiple: true,
    style: "width:100%",
    "aria-label": "Mesh of the shape",
  });
  const name = h("input", {
    type: "text",
    placeholder: "name, as the file",
    maxlength: 60,
    style: "width:100%",
    "aria-label": "Shape name",
  });
  return h(
    "form",
    {
      onsubmit: async (e) => {
        e.preventDefault();
        if (!file.files.length) {
          toast("Choose a mesh first.");
          return;
        }
        await upload(b, "shape", file.files, { name: name.value });
      },
    },
    file,
    name,
    h("div", { class: "acts" }, h("button", { class: "mend small" }, "Add the shape")),
  );
}
