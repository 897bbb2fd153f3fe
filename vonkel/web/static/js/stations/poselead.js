// Recording with an angle or a distance as the lead: its value is read from the pose one has made.
import { call } from "../net/api.js";
import { acts, button, form, own, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { say, toast } from "../widgets/toasts.js";
import { fullName } from "../words.js";
import { leadAxis, leadWords, named } from "./leading.js";

const LISTED = 6; // controls named as what is to follow

/** Controls that move what leads: they are not to follow it. */
function leading(b, lead) {
  const both = [lead.thing, lead.other].filter(Boolean);
  const cut = (kind) => both.filter((t) => t.startsWith(`${kind}:`)).map((t) => t.slice(kind.length + 1));
  const joints = cut("joint");
  const moving = (k) =>
    Object.values(k.joints)
      .flat()
      .some((n) => joints.includes(n));
  const kits = new Set(b.state.kits.filter(moving).map((k) => k.name));
  return new Set([...b.state.controls.filter((c) => kits.has(c.kit)).map((c) => c.name), ...cut("control"), "whole"]);
}

/** What the lead is at the pose at hand: asked for again when the pose has changed. */
async function read(b, lead) {
  const of = JSON.stringify([lead, b.values]);
  if (b.ui.leadValue.of === of) return;
  b.ui.leadValue = { of, value: null };
  try {
    const { value } = await call("POST", `/api/c/${b.number}/lead`, { lead, values: b.values });
    if (b.ui.leadValue.of === of) b.ui.leadValue = { of, value };
  } catch (error) {
    say(error);
  }
}

export function poseLead(b) {
  const lead = b.ui.poseLead,
    away = leading(b, lead),
    axis = leadAxis(b, lead);
  read(b, lead);
  const posed = () => Object.fromEntries(Object.entries(b.values).filter(([name]) => !away.has(name)));
  const { value } = b.ui.leadValue;
  const said = value === null ? "…" : `${(value * axis.out).toFixed(1)}${axis.unit}`;
  const names = Object.keys(posed()).map(fullName).slice(0, LISTED);
  const take = async () => {
    const values = posed();
    if (!Object.keys(values).length) {
      toast("Pose what is to follow, too: what moves the lead itself doesn't count.");
      return;
    }
    const kept = structuredClone(b.values);
    const now = await call("POST", `/api/c/${b.number}/lead`, { lead, values: kept });
    if (await b.step("rules.record", { lead, at: now.value, values, both_sides: b.symmetry })) {
      b.values = Object.fromEntries(Object.entries(kept).filter(([name]) => !(name in values)));
      b.pose();
      await b.keepPose(`Recorded by the ${lead.kind} of ${named(lead.thing)}`);
    }
  };
  const done = () => {
    b.ui.poseLead = null;
  };
  return h(
    "section",
    { class: "tool" },
    h("h3", {}, `Led by ${leadWords(lead)}`),
    h(
      "p",
      { class: "soft" },
      "Pose the lead, pose what is to follow, record. Now it reads ",
      h("output", { class: "fig" }, said),
      ".",
    ),
    h("p", { class: "soft" }, names.length ? `To follow: ${names.join(", ")}` : "Nothing is posed to follow yet."),
    acts(
      button("Record here", () => take().catch(say), "mend small"),
      button("Done", done, "small"),
    ),
  );
}

/** Starting a link that an angle of the chosen joint, or a distance from the chosen thing, leads. */
export function otherLeads(b) {
  const s = b.plate.selected,
    thing = s.joint ? `joint:${s.joint}` : s.control ? `control:${s.control}` : "";
  if (!thing) return null;
  const start = (lead) => {
    b.ui.poseLead = lead;
  };
  const ends = [["ground", "the ground"], ...b.state.joints.map((j) => [`joint:${j.name}`, fullName(j.name)])];
  const measure = ({ other }) => start({ kind: "distance", thing, other });
  return [
    h("h3", {}, `Lead by ${named(thing)}`),
    s.joint
      ? acts(["bend", "twist", "swing"].map((kind) => button(`its ${kind}`, () => start({ kind, thing }), "small")))
      : null,
    form(measure, acts(own.select("other", "Distance to", ends, { style: "max-width:150px" }), submit("its distance"))),
  ];
}
