// A head that was rigged alone, hung on this body.
import { call } from "../net/api.js";
import { acts, button, pairs, select } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";

async function look(b) {
  try {
    const { characters } = await call("GET", "/api/characters");
    b.ui.others = characters.filter((c) => c.number !== b.number);
  } catch (error) {
    say(error);
  }
}

/** Where a head would hang: the last joint of the neck, or what bears a head. */
function suggested(b) {
  const { joints } = b.state;
  const neck = joints.filter((j) => j.role.startsWith("neck")).at(-1),
    chest = joints.find((j) => j.role === "chest");
  return (neck ?? chest ?? joints[0])?.name ?? "";
}

async function join(b, other, onto) {
  try {
    await call("POST", `/api/c/${b.number}/face/join`, { other, onto, step: b.position().step });
    await b.refresh();
    toast(b.state.last.sentence);
  } catch (error) {
    await b.failed(error);
  }
}

/** Folded away: which of the other characters is the head, and where it hangs. */
export function joinHead(b) {
  if (!b.state.joints.length || !b.state.skin) return null;
  const others = b.ui.others,
    onto = b.ui.headOnto || suggested(b),
    other = b.ui.headOf || String(others?.[0]?.number ?? "");
  return h(
    "details",
    { class: "marks-rest", ontoggle: (e) => e.currentTarget.open && !others && look(b) },
    h("summary", {}, "Hang on a head that was rigged alone"),
    others && !others.length ? h("p", { class: "soft" }, "There is no other character.") : null,
    others?.length
      ? [
          pairs(
            [
              "head",
              select(
                "The head",
                others.map((c) => [c.number, c.name]),
                other,
                (v) => (b.ui.headOf = v),
              ),
            ],
            ["on", select("The joint that it hangs on", b.state.joints.map((j) => [j.name, j.name]), onto,
              (v) => (b.ui.headOnto = v))], // prettier-ignore
          ),
          acts(button("Hang it on", () => join(b, Number(other), onto), "small mend")),
          h(
            "p",
            { class: "soft" },
            "It comes where it was modelled, with joints, rig, skin, shapes and poses; names stay.",
          ),
        ]
      : null,
  );
}
