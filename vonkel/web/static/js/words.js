// Figures and names as they are read on every page.

export const cm = (metres) => (100 * metres).toFixed(1);
export const length = (metres) =>
  Math.abs(metres) >= 2 ? `${metres.toFixed(2)} m` : `${(100 * metres).toFixed(1)} cm`;
export const megabytes = (n) => `${(n / 1048576).toFixed(1)} MB`;
export const spaced = (n) => n.toLocaleString("en").replaceAll(",", "\u2009");
/** The name without its side tag: the tag is drawn beside it. */
export const plainName = (name) => name.replace(/_([LR])$/, "").replaceAll("_", " ");
/** The name where no tag can be drawn: “R membrane forearm 2”. */
export const fullName = (name) => {
  const side = /_([LR])(?= |$)/.exec(name);
  return `${side ? `${side[1]} ` : ""}${name.replace(/_([LR])(?= |$)/, "").replaceAll("_", " ")}`;
};
/** A sentence in which joints and controls are called as everywhere on the page. */
export const inWords = (text) => text.replace(/[A-Za-z][A-Za-z0-9]*(?:_[A-Za-z0-9]+)+/g, (name) => fullName(name));
/** What a card is called: of a sweep with its joint in words, of shapes with their sides in front. */
export const called = (c) =>
  c.sweep?.joint
    ? c.name.replace(c.sweep.joint, fullName(c.sweep.joint))
    : c.name
        .split(/( and |, )/)
        .map(fullName)
        .join("");
/** How a channel's numbers are shown: what they are multiplied by, their unit and their decimals. */
export const measureOf = (k) =>
  k.kind === "move"
    ? { out: 100, unit: " cm", digits: 1 }
    : k.kind === "turn"
      ? { out: 180 / Math.PI, unit: "°", digits: 1 }
      : { out: 1, unit: "", digits: 2 };
export const shown = (k, value) => {
  const m = measureOf(k);
  return `${(value * m.out).toFixed(m.digits)}${m.unit}`;
};
