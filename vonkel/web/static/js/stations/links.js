// What leads, what follows: one sentence a link, its curves, and a record mode that reads the pose one has made.
import { curveDrawing } from "../curve.js";
import { call, fullName, h, measureOf, say, toast } from "../dom.js";
import { button, choices } from "./common.js";
import { channelSlider } from "./posing.js";

/**
 * What the numbers of a channel mean: a control's channel says it itself, a joint's is told by its name, a shape has
 * none.
 */
function axisOf(b, thing, channel) {
  const control = thing.startsWith("control:") ? b.state.controls.find((c) => c.name === thing.slice(8)) : null;
  const known = control?.channels.find((k) => k.name === channel);
  return measureOf(known ?? { kind: thing.startsWith("joint:") ? channel.split(" ")[0] : "value" });
}
const leadAxis = (b, lead) =>
  lead.kind === "channel"
    ? axisOf(b, lead.thing, lead.channel)
    : measureOf({ kind: lead.kind === "distance" ? "move" : "turn" });
const named = (thing) => fullName(thing.split(":").slice(1).join(":") || thing);

/** “curl of fingers L leads 27 channels of 9 controls”. */
export function linkSentence(link) {
  const l = link.lead,
    things = new Set(link.followers.map((f) => f.thing));
  const lead =
    l.kind === "channel"
      ? `${l.channel} of ${named(l.thing)}`
      : l.kind === "distance"
        ? `the way from ${named(l.thing)} to ${named(l.other)}`
        : `the ${l.kind} of ${named(l.thing)}`;
  const one = link.followers[0];
  const what =
    things.size === 0
      ? "nothing yet"
      : link.followers.length === 1
        ? `${one.channel || "the shape"} of ${named(one.thing)}`
        : things.size === 1
          ? `${link.followers.length} channels of ${named(one.thing)}`
          : `${link.followers.length} channels of ${things.size} others`;
  return `${lead} leads ${what}`;
}

function curveOf(b, link) {
  const key = `${link.name}`;
  b.linkFollower ??= new Map();
  const chosen = Math.min(b.linkFollower.get(key) ?? 0, link.followers.length - 1),
    f = link.followers[chosen];
  if (!f) return h("p", { class: "empty" }, "It leads nothing yet: pose what should follow, and record.");
  const lead = link.lead,
    control = b.state.controls.find((c) => `control:${c.name}` === lead.thing),
    channel = control?.channels.find((k) => k.name === lead.channel);
  const low = channel?.low ?? -1,
    high = channel?.high ?? 1,
    now = lead.kind === "channel" ? (b.values[control?.name]?.[lead.channel] ?? channel?.rest ?? 0) : 0;
  const step = (more) => b.step("rules.key", { link: link.name, follower: chosen, ...more }, { quiet: true });
  const kin = link.followers
    .map((x, i) => i)
    .filter(
      (i) => axisOf(b, link.followers[i].thing, link.followers[i].channel).out === axisOf(b, f.thing, f.channel).out,
    );
  const drawing = curveDrawing({
    curves: kin.map((i) => link.followers[i].curve),
    chosen: kin.indexOf(chosen),
    x: leadAxis(b, lead),
    y: axisOf(b, f.thing, f.channel),
    low,
    high,
    now,
    onKey: (was, at, value) => step({ was, at, value }),
    onDrop: (at) => step({ was: at, at, value: 0, drop: true }),
  });
  const edit = (change) => b.step("rules.edit", { name: link.name, rule: { ...link, ...change } }, { quiet: true });
  const own = (change) =>
    edit({ followers: link.followers.map((x, i) => (i === chosen ? { ...x, curve: { ...x.curve, ...change } } : x)) });
  return h(
    "div",
    {},
    h(
      "select",
      {
        "aria-label": "Follower",
        onchange: (e) => {
          b.linkFollower.set(key, Number(e.target.value));
          b.sheets();
        },
      },
      link.followers.map((x, i) =>
        h("option", { value: i, selected: i === chosen }, `${named(x.thing)}: ${x.channel || "strength"}`),
      ),
    ),
    drawing,
    choices({ linear: "straight", smooth: "smooth", stepped: "stepped" }, f.curve.manner, (manner) => own({ manner })),
    choices({ hold: "held past the ends", continue: "goes on" }, f.curve.past, (past) => own({ past })),
    h(
      "label",
      { class: "soft" },
      "rounded to ",
      h(
        "select",
        { "aria-label": "Rounding", onchange: (e) => edit({ rounding: e.target.value }) },
        ["none", "whole", "half", "third", "quarter"].map((r) =>
          h("option", { value: r, selected: r === link.rounding }, r === "none" ? "nothing" : `${r} steps`),
        ),
      ),
    ),
  );
}

/** Record: the lead is set, the pose is made by hand, and becomes a key of everything that was posed. */
async function record(b, control, channel) {
  const at = b.values[control]?.[channel.name] ?? channel.rest;
  const posed = Object.fromEntries(Object.entries(b.values).filter(([name]) => name !== control && name !== "whole"));
  if (!Object.keys(posed).length) {
    toast("Pose what is to follow first, then record.");
    return;
  }
  const lead = { kind: "channel", thing: `control:${control}`, channel: channel.name };
  const values = structuredClone(b.values);
  if (await b.step("rules.record", { lead, at, values: posed, both_sides: b.symmetry })) {
    // What was posed by hand is the link's now.
    b.values = Object.fromEntries(Object.entries(values).filter(([name]) => !(name in posed)));
    b.pose();
    await b.keepPose(`Recorded at ${at.toFixed(2)} of ${channel.name}`);
  }
}

/** Controls that move what leads: they are not to follow it. */
function leading(b, lead) {
  const names = [lead.thing, lead.other].filter((t) => t?.startsWith("joint:")).map((t) => t.slice(6));
  const kits = new Set(
    b.state.kits
      .filter((k) =>
        Object.values(k.joints)
          .flat()
          .some((n) => names.includes(n)),
      )
      .map((k) => k.name),
  );
  return new Set([
    ...b.state.controls.filter((c) => kits.has(c.kit)).map((c) => c.name),
    ...[lead.thing, lead.other].filter((t) => t?.startsWith("control:")).map((t) => t.slice(8)),
    "whole",
  ]);
}

/** Record with an angle or a distance as the lead: its value is read from the pose one has made. */
function poseLead(b) {
  const lead = b.poseLead,
    away = leading(b, lead),
    axis = leadAxis(b, lead);
  const posed = () => Object.fromEntries(Object.entries(b.values).filter(([name]) => !away.has(name)));
  const said = h("output", { class: "fig" }, "…");
  const read = () =>
    call("POST", `/api/c/${b.number}/lead`, { lead, values: b.values }).then(({ value }) => {
      said.textContent = `${(value * axis.out).toFixed(1)}${axis.unit}`;
      return value;
    });
  read().catch(say);
  const take = async () => {
    const values = posed();
    if (!Object.keys(values).length) {
      toast("Pose what is to follow, too: what moves the lead itself doesn't count.");
      return;
    }
    const kept = structuredClone(b.values);
    if (await b.step("rules.record", { lead, at: await read(), values, both_sides: b.symmetry })) {
      b.values = Object.fromEntries(Object.entries(kept).filter(([name]) => !(name in values)));
      b.pose();
      await b.keepPose(`Recorded by the ${lead.kind} of ${named(lead.thing)}`);
    }
  };
  return h(
    "section",
    { class: "tool" },
    h(
      "h3",
      {},
      lead.kind === "distance"
        ? `Led by the way from ${named(lead.thing)} to ${named(lead.other)}`
        : `Led by the ${lead.kind} of ${named(lead.thing)}`,
    ),
    h("p", { class: "soft" }, "Pose the lead, pose what is to follow, record. Now it reads ", said, "."),
    h(
      "p",
      { class: "soft" },
      Object.keys(posed()).length
        ? `To follow: ${Object.keys(posed()).map(fullName).slice(0, 6).join(", ")}`
        : "Nothing is posed to follow yet.",
    ),
    h(
      "div",
      { class: "acts" },
      button("Record here", take, "mend small"),
      button(
        "Done",
        () => {
          b.poseLead = null;
          b.sheets();
        },
        "small",
      ),
    ),
  );
}

/** Starting a link that an angle of the chosen joint, or a distance from the chosen thing, leads. */
function otherLeads(b) {
  const s = b.plate.selected,
    thing = s.joint ? `joint:${s.joint}` : s.control ? `control:${s.control}` : "";
  if (!thing) return null;
  const start = (lead) => {
    b.poseLead = lead;
    b.sheets();
  };
  const to = h(
    "select",
    { "aria-label": "Distance to", style: "max-width:150px" },
    [["ground", "the ground"], ...b.state.joints.map((j) => [`joint:${j.name}`, fullName(j.name)])].map(([k, t]) =>
      h("option", { value: k }, t),
    ),
  );
  return h(
    "div",
    {},
    h("h3", {}, `Lead by ${named(thing)}`),
    s.joint
      ? h(
          "div",
          { class: "acts" },
          ["bend", "twist", "swing"].map((kind) => button(`its ${kind}`, () => start({ kind, thing }), "small")),
        )
      : null,
    h(
      "div",
      { class: "acts" },
      to,
      button("its distance", () => start({ kind: "distance", thing, other: to.value }), "small"),
    ),
  );
}

export function linkSheet(b) {
  const c =
    b.state.controls.find((x) => x.name === (b.linkLead ?? b.plate.selected.control)) ??
    b.state.controls.find((x) => x.name === b.plate.selected.control);
  const links = b.state.rules.filter((r) => r.kind === "link");
  const own = c ? `control:${c.name}` : b.plate.selected.joint ? `joint:${b.plate.selected.joint}` : "";
  const mine = own
    ? links.filter((r) => r.lead.thing === own || r.lead.other === own || r.followers.some((f) => f.thing === own))
    : links.slice(0, 40);
  const head = [h("h2", {}, "What leads, what follows"), b.poseLead ? poseLead(b) : null];
  const rows = mine.map((r) => linkRow(b, r));
  if (!c)
    return [
      ...head,
      ...rows,
      mine.length ? null : h("p", { class: "empty" }, "Choose a control or a joint: its links stand here."),
      otherLeads(b),
    ].filter(Boolean);
  const leads = c.channels.filter((k) => !k.locked && !/^(move|turn) /.test(k.name) && !k.name.startsWith("in "));
  const lead = b.linkLead === c.name ? c.channels.find((k) => k.name === b.linkChannel) : null;
  const recording = lead
    ? [
        h(
          "section",
          { class: "tool" },
          h("h3", {}, `Recording ${lead.name} of ${fullName(c.name)}`),
          h("p", { class: "soft" }, "Set its value, pose whatever is to follow, then record."),
          channelSlider(b, c.name, lead),
          h(
            "div",
            { class: "acts" },
            button(
              `Record at ${(b.values[c.name]?.[lead.name] ?? lead.rest).toFixed(2)}`,
              () => record(b, c.name, lead),
              "mend small",
            ),
            button(
              "Done",
              () => {
                b.linkLead = null;
                b.sheets();
              },
              "small",
            ),
          ),
        ),
      ]
    : [];
  return [
    ...head,
    ...recording,
    ...rows,
    mine.length ? null : h("p", { class: "empty" }, "Nothing leads or follows here yet."),
    leads.length && !lead
      ? h(
          "div",
          {},
          h("h3", {}, "Record poses for a channel"),
          h(
            "div",
            { class: "acts" },
            leads.map((k) =>
              button(
                k.name,
                () => {
                  b.linkLead = c.name;
                  b.linkChannel = k.name;
                  b.sheets();
                },
                "small",
              ),
            ),
          ),
        )
      : null,
    leads.length
      ? null
      : h(
          "p",
          { class: "soft" },
          "It has no channel of its own to lead with. Add one under Control, “Limits and locks”.",
        ),
    otherLeads(b),
  ].filter(Boolean);
}

function linkRow(b, r) {
  return h(
    "details",
    {
      class: "fold",
      open: b.openLink === r.name,
      ontoggle: (e) => {
        if (e.target.open && b.openLink !== r.name) {
          b.openLink = r.name;
          b.sheets();
        }
      },
    },
    h("summary", { class: r.on ? "" : "soft" }, linkSentence(r)),
    b.openLink === r.name ? curveOf(b, r) : null,
    h(
      "div",
      { class: "acts" },
      button(r.on ? "Switch off" : "Switch on", () => b.step("rules.switch", { name: r.name, on: !r.on }), "small"),
      button("Take away", () => b.step("rules.remove", { name: r.name }), "small quiet"),
    ),
  );
}
