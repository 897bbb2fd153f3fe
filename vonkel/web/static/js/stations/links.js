// What leads, what follows: one sentence a link, its curves, and a record mode that reads the pose one has made.
import { acts, button, chosenButton, choices, fold, select } from "../widgets/fields.js";
import { curveDrawing } from "../widgets/curve.js";
import { h, made } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { fullName } from "../words.js";
import { axisOf, leadAxis, linkSentence, named } from "./leading.js";
import { otherLeads, poseLead } from "./poselead.js";
import { channelSlider } from "./posing.js";

/** What this page keeps in the store. */
export const linkFields = {
  linkLead: "", // the control whose channel is being recorded, and the channel
  linkChannel: "",
  openLink: "",
  linkFollower: new Map(),
  poseLead: null,
  leadValue: { of: "", value: 0 },
};
const ROUNDINGS = {
  none: "nothing",
  whole: "whole steps",
  half: "half steps",
  third: "third steps",
  quarter: "quarter steps",
};
const MOST = 40; // links listed while nothing is chosen

/** What the curve's drawing is told of the chosen follower. */
function drawn(b, link, chosen) {
  const f = link.followers[chosen],
    { lead } = link,
    control = b.state.controls.find((c) => `control:${c.name}` === lead.thing),
    channel = control?.channels.find((k) => k.name === lead.channel),
    axis = axisOf(b, f.thing, f.channel);
  const step = (more) => b.step("rules.key", { link: link.name, follower: chosen, ...more }, { quiet: true });
  const kin = [...link.followers.keys()].filter(
    (i) => axisOf(b, link.followers[i].thing, link.followers[i].channel).out === axis.out,
  );
  return {
    curves: kin.map((i) => link.followers[i].curve),
    chosen: kin.indexOf(chosen),
    x: leadAxis(b, lead),
    y: axis,
    low: channel?.low ?? -1,
    high: channel?.high ?? 1,
    now: lead.kind === "channel" ? (b.values[control?.name]?.[lead.channel] ?? channel?.rest ?? 0) : 0,
    onKey: (was, at, value) => step({ was, at, value }),
    onDrop: (at) => step({ was: at, at, value: 0, drop: true }),
  };
}

function curveOf(b, link) {
  const last = link.followers.length - 1,
    chosen = Math.min(b.ui.linkFollower.get(link.name) ?? 0, last),
    f = link.followers[chosen];
  if (!f) return h("p", { class: "empty" }, "It leads nothing yet: pose what should follow, and record.");
  const edit = (change) => b.step("rules.edit", { name: link.name, rule: { ...link, ...change } }, { quiet: true });
  const own = (change) =>
    edit({ followers: link.followers.map((x, i) => (i === chosen ? { ...x, curve: { ...x.curve, ...change } } : x)) });
  const choose = (i) => {
    b.ui.linkFollower.set(link.name, Number(i));
    b.ui.touch("linkFollower");
  };
  const drawing = drawn(b, link, chosen);
  const followers = link.followers.map((x, i) => [i, `${named(x.thing)}: ${x.channel || "strength"}`]);
  return h(
    "div",
    {},
    select("Follower", followers, chosen, choose),
    made(drawing, () => curveDrawing(drawing)),
    choices({ linear: "straight", smooth: "smooth", stepped: "stepped" }, f.curve.manner, (manner) => own({ manner })),
    choices({ hold: "held past the ends", continue: "goes on" }, f.curve.past, (past) => own({ past })),
    h(
      "label",
      { class: "soft" },
      "rounded to ",
      select("Rounding", ROUNDINGS, link.rounding, (rounding) => edit({ rounding })),
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

function recording(b, c, lead) {
  const at = (b.values[c.name]?.[lead.name] ?? lead.rest).toFixed(2);
  const done = () => {
    b.ui.linkLead = "";
  };
  return h(
    "section",
    { class: "tool" },
    h("h3", {}, `Recording ${lead.name} of ${fullName(c.name)}`),
    h("p", { class: "soft" }, "Set its value, pose whatever is to follow, then record."),
    channelSlider(b, c.name, lead),
    acts(
      button(`Record at ${at}`, () => record(b, c.name, lead), "mend small"),
      button("Done", done, "small"),
    ),
  );
}

/** The channels that may lead, each a button that begins a recording. */
function recordables(b, c) {
  const leads = c.channels.filter((k) => !k.locked && !/^(move|turn) /.test(k.name) && !k.name.startsWith("in "));
  if (!leads.length)
    return h(
      "p",
      { class: "soft" },
      "It has no channel of its own to lead with. Add one under Control, “Limits and locks”.",
    );
  const begin = (k) => {
    b.ui.linkLead = c.name;
    b.ui.linkChannel = k.name;
  };
  return [
    h("h3", {}, "Record poses for a channel"),
    acts(leads.map((k) => chosenButton(k.name, false, () => begin(k), { "aria-pressed": undefined }))),
  ];
}

/** The links that speak of what is chosen; while nothing is, the first of all. */
function linksOf(b, c) {
  const links = b.state.rules.filter((r) => r.kind === "link"),
    { joint } = b.plate.selected;
  const own = c ? `control:${c.name}` : joint ? `joint:${joint}` : "";
  const speaks = (r) => r.lead.thing === own || r.lead.other === own || r.followers.some((f) => f.thing === own);
  return own ? links.filter(speaks) : links.slice(0, MOST);
}

export function linkSheet(b) {
  const { controls } = b.state,
    named_ = (name) => controls.find((x) => x.name === name);
  const c = named_(b.ui.linkLead) ?? named_(b.plate.selected.control);
  const mine = linksOf(b, c);
  const lead = c && b.ui.linkLead === c.name ? c.channels.find((k) => k.name === b.ui.linkChannel) : null;
  const none = c ? "Nothing leads or follows here yet." : "Choose a control or a joint: its links stand here.";
  return [
    h("h2", {}, "What leads, what follows"),
    b.ui.poseLead ? poseLead(b) : null,
    lead ? recording(b, c, lead) : null,
    mine.map((r) => linkRow(b, r)),
    mine.length ? null : h("p", { class: "empty" }, none),
    c && !lead ? recordables(b, c) : null,
    otherLeads(b),
  ];
}

function linkRow(b, r) {
  const open = b.ui.openLink === r.name;
  const turn = (on) => {
    b.ui.openLink = on ? r.name : "";
  };
  const title = h("span", { class: r.on ? "" : "soft" }, linkSentence(r));
  return fold(
    { key: r.name, title, open, act: turn, more: { key: r.name, "data-rule": r.name } },
    open ? curveOf(b, r) : null,
    acts(
      button(r.on ? "Switch off" : "Switch on", () => b.step("rules.switch", { name: r.name, on: !r.on }), "small"),
      button("Take away", () => b.step("rules.remove", { name: r.name }), "small quiet"),
    ),
  );
}
