// Poses of one's own: mirrored, blended, taken to other characters and brought from them.
import { acts, button, form, own, select, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say } from "../widgets/toasts.js";
import { folded } from "./common.js";

async function bring(b, file) {
  try {
    const { poses } = JSON.parse(await file.text());
    if (!poses || typeof poses !== "object") throw new Error();
    await b.step("poses.bring", { poses });
  } catch {
    say({ what: `${file.name} holds no poses.`, where: file.name, todo: "Choose a file that was written here." });
  }
}

const names = (b) => b.state.poses.map((p) => [p, p]);

function row(b, name) {
  return h(
    "li",
    { key: name },
    h("span", { class: "grow" }, name),
    button("Mirror", () => b.step("poses.mirror", { name, to: `${name} mirrored`.slice(0, 60) }), "small quiet"),
    button("Delete", () => b.step("poses.delete", { name }), "small quiet"),
  );
}

export function ownPoses(b) {
  const { poses } = b.state;
  const blend = ({ a, c, share }) =>
    b.step("poses.blend", { a, b: c, share, to: `${a} and ${c}`.slice(0, 60) }, { keepPose: true });
  const chosen = (e) => {
    const [file] = e.target.files;
    e.target.value = "";
    if (file) bring(b, file);
  };
  return folded(
    b,
    "Poses of your own",
    poses.length
      ? h(
          "ul",
          { class: "own-poses" },
          poses.map((p) => row(b, p)),
        )
      : h("p", { class: "soft" }, "Save one at the Limbs station: it is tried with the others."),
    poses.length > 1
      ? form(
          blend,
          acts(
            select("The one pose", names(b), poses[0], null, { name: "a" }),
            select("The other pose", names(b), poses[1], null, { name: "c" }),
            own.number("share", "Share of the way", 0.5, { step: 0.1, style: "width:64px" }),
            submit("Blend", "small"),
          ),
        )
      : null,
    acts(
      poses.length
        ? h("a", { class: "btn btn-sm btn-plain", download: "", href: `/api/c/${b.number}/poses.json` }, "As a file")
        : null,
      h(
        "label",
        { class: "btn btn-sm btn-plain" },
        "From a file",
        h("input", {
          type: "file",
          accept: ".json",
          class: "visually-hidden",
          "aria-label": "Poses file",
          onchange: chosen,
        }),
      ),
    ),
  );
}
