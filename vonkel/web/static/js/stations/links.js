// What leads, what follows: one sentence a link, its curves, and a record mode that reads the pose one has made.
import { curveDrawing } from "../curve.js";
import { h, plainName, toast } from "../dom.js";
import { button, choices } from "./common.js";
import { channelSlider } from "./posing.js";

const axisOf = (channel) => (channel.startsWith("move ") ? { unit: " cm", out: 100 } : /turn|roll|twist|lift|bank/.test(channel) ? { unit: "°", out: 180 / Math.PI } : { unit: "", out: 1 });
const leadAxis = (lead) => (lead.kind === "channel" ? axisOf(lead.channel) : lead.kind === "distance" ? { unit: " cm", out: 100 } : { unit: "°", out: 180 / Math.PI });
const named = (thing) => plainName(thing.split(":").slice(1).join(":") || thing);

/** “curl of fingers L leads 27 channels of 9 controls”. */
export function linkSentence(link) {
  const l = link.lead, things = new Set(link.followers.map((f) => f.thing));
  const lead = l.kind === "channel" ? `${l.channel} of ${named(l.thing)}` : l.kind === "distance" ? `the way from ${named(l.thing)} to ${named(l.other)}` : `the ${l.kind} of ${named(l.thing)}`;
  const one = link.followers[0];
  const what = things.size === 0 ? "nothing yet" : link.followers.length === 1 ? `${one.channel || "the shape"} of ${named(one.thing)}` : things.size === 1 ? `${link.followers.length} channels of ${named(one.thing)}` : `${link.followers.length} channels of ${things.size} others`;
  return `${lead} leads ${what}`;
}

function curveOf(b, link) {
  const key = `${link.name}`;
  b.linkFollower ??= new Map();
  const chosen = Math.min(b.linkFollower.get(key) ?? 0, link.followers.length - 1), f = link.followers[chosen];
  if (!f) return h("p", { class: "empty" }, "It leads nothing yet: pose what should follow, and record.");
  const lead = link.lead, control = b.state.controls.find((c) => `control:${c.name}` === lead.thing), channel = control?.channels.find((k) => k.name === lead.channel);
  const low = channel?.low ?? -1, high = channel?.high ?? 1, now = lead.kind === "channel" ? b.values[control?.name]?.[lead.channel] ?? channel?.rest ?? 0 : 0;
  const step = (more) => b.step("rules.key", { link: link.name, follower: chosen, ...more }, { quiet: true });
  const kin = link.followers.map((x, i) => i).filter((i) => axisOf(link.followers[i].channel).out === axisOf(f.channel).out);
  const drawing = curveDrawing({
    curves: kin.map((i) => link.followers[i].curve), chosen: kin.indexOf(chosen), x: leadAxis(lead), y: axisOf(f.channel), low, high, now,
    onKey: (was, at, value) => step({ was, at, value }), onDrop: (at) => step({ was: at, at, value: 0, drop: true }),
  });
  const edit = (change) => b.step("rules.edit", { name: link.name, rule: { ...link, ...change } }, { quiet: true });
  const own = (change) => edit({ followers: link.followers.map((x, i) => (i === chosen ? { ...x, curve: { ...x.curve, ...change } } : x)) });
  return h("div", {},
    h("select", { "aria-label": "Follower", onchange: (e) => { b.linkFollower.set(key, Number(e.target.value)); b.sheets(); } }, link.followers.map((x, i) => h("option", { value: i, selected: i === chosen }, `${named(x.thing)}: ${x.channel || "strength"}`))),
    drawing,
    choices({ linear: "straight", smooth: "smooth", stepped: "stepped" }, f.curve.manner, (manner) => own({ manner })),
    choices({ hold: "held past the ends", continue: "goes on" }, f.curve.past, (past) => own({ past })),
    h("label", { class: "soft" }, "rounded to ", h("select", { "aria-label": "Rounding", onchange: (e) => edit({ rounding: e.target.value }) }, ["none", "whole", "half", "third", "quarter"].map((r) => h("option", { value: r, selected: r === link.rounding }, r === "none" ? "nothing" : `${r} steps`)))));
}

/** Record: the lead is set, the pose is made by hand, and becomes a key of everything that was posed. */
async function record(b, control, channel) {
  const at = b.values[control]?.[channel.name] ?? channel.rest;
  const posed = Object.fromEntries(Object.entries(b.values).filter(([name]) => name !== control && name !== "whole"));
  if (!Object.keys(posed).length) { toast("Pose what is to follow first, then record."); return; }
  const lead = { kind: "channel", thing: `control:${control}`, channel: channel.name };
  const values = structuredClone(b.values);
  if (await b.step("rules.record", { lead, at, values: posed, both_sides: b.symmetry })) {
    // What was posed by hand is the link's now.
    b.values = Object.fromEntries(Object.entries(values).filter(([name]) => !(name in posed)));
    b.pose();
    await b.keepPose(`Recorded at ${at.toFixed(2)} of ${channel.name}`);
  }
}

export function linkSheet(b) {
  const c = b.state.controls.find((x) => x.name === (b.linkLead ?? b.plate.selected.control)) ?? b.state.controls.find((x) => x.name === b.plate.selected.control);
  const links = b.state.rules.filter((r) => r.kind === "link");
  const mine = c ? links.filter((r) => r.lead.thing === `control:${c.name}` || r.followers.some((f) => f.thing === `control:${c.name}`)) : [];
  const head = [h("h2", {}, "What leads, what follows")];
  if (!c) return [...head, h("p", { class: "empty" }, "Choose a control: its links stand here."), ...links.slice(0, 40).map((r) => h("p", { class: "soft" }, linkSentence(r)))];
  const leads = c.channels.filter((k) => !k.locked && !/^(move|turn) /.test(k.name) && !k.name.startsWith("in "));
  const lead = b.linkLead === c.name ? c.channels.find((k) => k.name === b.linkChannel) : null;
  const recording = lead ? [h("section", { class: "tool" }, h("h3", {}, `Recording ${lead.name} of ${plainName(c.name)}`),
    h("p", { class: "soft" }, "Set its value, pose whatever is to follow, then record."), channelSlider(b, c.name, lead),
    h("div", { class: "acts" }, button(`Record at ${((b.values[c.name]?.[lead.name] ?? lead.rest)).toFixed(2)}`, () => record(b, c.name, lead), "mend small"), button("Done", () => { b.linkLead = null; b.sheets(); }, "small")))] : [];
  return [...head, ...recording,
    ...mine.map((r) => h("details", { class: "fold", open: b.openLink === r.name, ontoggle: (e) => { if (e.target.open && b.openLink !== r.name) { b.openLink = r.name; b.sheets(); } } },
      h("summary", { class: r.on ? "" : "soft" }, linkSentence(r)),
      b.openLink === r.name ? curveOf(b, r) : null,
      h("div", { class: "acts" }, button(r.on ? "Switch off" : "Switch on", () => b.step("rules.switch", { name: r.name, on: !r.on }), "small"), button("Take away", () => b.step("rules.remove", { name: r.name }), "small quiet")))),
    mine.length ? null : h("p", { class: "empty" }, "Nothing leads or follows here yet."),
    leads.length && !lead ? h("div", {}, h("h3", {}, "Record poses for a channel"), h("div", { class: "acts" }, leads.map((k) => button(k.name, () => { b.linkLead = c.name; b.linkChannel = k.name; b.sheets(); }, "small")))) : null,
    leads.length ? null : h("p", { class: "soft" }, "It has no channel of its own to lead with. Add one under Control, “Limits and locks”.")].filter(Boolean);
}
