// How links are read: what a lead's and a follower's numbers mean, and a link as one sentence.
import { fullName, measureOf } from "../words.js";

/** What a reference names, as it is read. */
export const named = (thing) =>
  thing === "ground" ? "the ground" : fullName(thing.split(":").slice(1).join(":") || thing);

/**
 * What the numbers of a channel mean: a control's channel says it itself, a joint's is told by its name, a shape has
 * none.
 */
export function axisOf(b, thing, channel) {
  const control = thing.startsWith("control:") ? b.state.controls.find((c) => c.name === thing.slice(8)) : null;
  const known = control?.channels.find((k) => k.name === channel);
  return measureOf(known ?? { kind: thing.startsWith("joint:") ? channel.split(" ")[0] : "value" });
}

export const leadAxis = (b, lead) =>
  lead.kind === "channel"
    ? axisOf(b, lead.thing, lead.channel)
    : measureOf({ kind: lead.kind === "distance" ? "move" : "turn" });

/** “the bend of L forearm”. */
export const leadWords = (l) =>
  l.kind === "channel"
    ? `${l.channel} of ${named(l.thing)}`
    : l.kind === "distance"
      ? `the way from ${named(l.thing)} to ${named(l.other)}`
      : `the ${l.kind} of ${named(l.thing)}`;

/** “curl of fingers L leads 27 channels of 9 controls”. */
export function linkSentence(link) {
  const things = new Set(link.followers.map((f) => f.thing)),
    [one] = link.followers,
    many = link.followers.length;
  const what =
    things.size === 0
      ? "nothing yet"
      : many === 1
        ? `${one.channel || "the shape"} of ${named(one.thing)}`
        : things.size === 1
          ? `${many} channels of ${named(one.thing)}`
          : `${many} channels of ${things.size} others`;
  return `${leadWords(link.lead)} leads ${what}`;
}
