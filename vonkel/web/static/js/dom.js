// Small helpers for building pages safely: text only ever becomes text.

/**
 * An element: h("p", {class: "x", onclick: f}, "text", child).
 * @param {string} tag @param {Record<string, any> | null} [props] @param {...any} children
 * @returns {any}
 */
export function h(tag, props = {}, ...children) {
  const node = document.createElement(tag);
  for (const [key, value] of Object.entries(props ?? {})) {
    if (value === undefined || value === null || value === false) continue;
    if (key.startsWith("on")) node.addEventListener(key.slice(2), value);
    else if (key in node && key !== "list" && typeof value !== "string") node[key] = value;
    else node.setAttribute(key, value === true ? "" : value);
  }
  node.append(...children.flat(Infinity).filter((c) => c !== null && c !== undefined && c !== false));
  return node;
}

/** The first element that a selector finds.  @type {(selector: string, within?: ParentNode) => any} */
export const one = (selector, within = document) => within.querySelector(selector);

/** All that a selector finds.  @type {(selector: string, within?: ParentNode) => any[]} */
export const all = (selector, within = document) => [...within.querySelectorAll(selector)];

/** The element of that id.  @type {(id: string) => any} */
export const byId = (id) => document.getElementById(id);

/** A short message at the foot of the page; errors stay longer. */
export function toast(what, { bad = false, more = "" } = {}) {
  const note = h(
    "div",
    { class: bad ? "toast-note bad" : "toast-note" },
    inWords(what),
    more ? h("small", {}, inWords(more)) : null,
  );
  byId("toasts").append(note);
  setTimeout(() => note.remove(), bad ? 9000 : 3500);
}

export function say(error) {
  toast(error.what ?? String(error), {
    bad: true,
    more: [error.where && `(${error.where})`, error.todo].filter(Boolean).join(" "),
  });
}

/** Call the JSON interface.  Throws {what, where, todo, status}. */
export async function call(method, path, body) {
  const options = { method, headers: { accept: "application/json" } };
  if (body instanceof FormData) options.body = body;
  else if (body !== undefined) {
    options.body = JSON.stringify(body);
    options.headers["content-type"] = "application/json";
  }
  let response;
  try {
    response = await fetch(path, options);
  } catch {
    throw { what: "Vonkel doesn't answer.", where: "", todo: "Is it still running? Nothing that was saved is lost." };
  }
  const text = await response.text();
  let data = null;
  try {
    data = JSON.parse(text);
  } catch {
    /* not JSON: a failure inside */
  }
  if (!response.ok)
    throw {
      ...(data?.error ?? { what: "Something went wrong inside Vonkel.", where: path, todo: "" }),
      status: response.status,
    };
  return data;
}

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
export const tag = (side) =>
  h("span", { class: `tag ${side}`, title: { L: "left", R: "right", C: "middle" }[side] }, side);
