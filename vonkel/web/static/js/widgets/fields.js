// Buttons and fields: one look, one way to be labelled.  What is typed stays until it is used.
import { Component, h } from "./html.js";

const KINDS = { mend: "btn-primary", quiet: "btn-quiet", small: "btn-sm", switch: "switch" };

/** The classes of a button by words: “mend small”. */
export const buttonClass = (kind = "") => {
  const words = kind.split(" ").filter(Boolean);
  const look = words.some((w) => w === "mend" || w === "quiet") ? "" : "btn-plain";
  return ["btn", look, ...words.map((w) => KINDS[w])].filter(Boolean).join(" ");
};

export const button = (label, act, kind = "", more = {}) =>
  h("button", { type: "button", class: buttonClass(kind), onclick: act, ...more }, label);

/** One of several that is on, or not. */
export const chosenButton = (label, on, act, more = {}) =>
  h(
    "button",
    {
      type: "button",
      class: `btn btn-sm btn-plain${on ? " active" : ""}`,
      "aria-pressed": String(on),
      onclick: act,
      ...more,
    },
    label,
  );

/** What is on or off, told apart from a choice by its lamp. */
export const switchButton = (label, on, act, title = "", kind = "small switch") =>
  h(
    "button",
    { type: "button", class: buttonClass(kind), "aria-pressed": String(on), title: title || undefined, onclick: act },
    h("i", {}),
    label,
  );

/** A row of choices of which one is on. */
export const choices = (options, now, act) =>
  h(
    "div",
    { class: "choices" },
    Object.entries(options).map(([key, words]) => chosenButton(words, key === now, () => act(key))),
  );

/** Pages of a sheet of which one is shown. */
export const tabs = (options, now, act) =>
  h(
    "ul",
    { class: "nav nav-underline", role: "tablist" },
    Object.entries(options).map(([key, words]) =>
      h(
        "li",
        { class: "nav-item", role: "presentation" },
        h(
          "button",
          {
            type: "button",
            role: "tab",
            class: `nav-link${key === now ? " active" : ""}`,
            "aria-selected": String(key === now),
            onclick: () => act(key),
          },
          words,
        ),
      ),
    ),
  );

export const acts = (...inside) => h("div", { class: "acts" }, ...inside);

/** A field that shows a value; what is being typed isn't overwritten by a drawing that says the same as before. */
class Field extends Component {
  /** @type {HTMLInputElement | null} */ node = null;
  keep = (node) => {
    this.node = node;
  };
  render() {
    const { value, ...rest } = /** @type {any} */ (this.props);
    const { node } = this;
    const typing = node && node === document.activeElement && value === this.last;
    this.last = value;
    return h("input", { ...rest, ref: this.keep, value: typing ? node.value : value });
  }
}

/** A number that is used when it was changed. */
export const numberField = (label, value, act, more = {}) =>
  h(Field, {
    type: "number",
    class: "form-control form-control-sm",
    step: 0.1,
    "aria-label": label,
    "data-keep": `n-${label}`,
    value: String(value),
    onchange: (e) => {
      if (e.target.value !== "" || more.empty) act(e.target.value === "" ? null : Number(e.target.value));
    },
    ...more,
  });

/** Words that are used when they were changed. */
export const textField = (label, value, act, more = {}) =>
  h(Field, {
    type: "text",
    class: "form-control form-control-sm",
    "aria-label": label,
    maxlength: 60,
    value,
    onchange: (e) => act(e.target.value),
    ...more,
  });

export const select = (label, options, now, act, more = {}) =>
  h(
    "select",
    { class: "form-select form-select-sm", "aria-label": label, onchange: (e) => act?.(e.target.value), ...more },
    (Array.isArray(options) ? options : Object.entries(options)).map(([key, words]) =>
      h("option", { key, value: key, selected: String(key) === String(now) }, words),
    ),
  );

export const tick = (label, on, act, more = {}) =>
  h("input", {
    type: "checkbox",
    class: "form-check-input",
    "aria-label": label,
    checked: on,
    onchange: (e) => act?.(e.target.checked),
    ...more,
  });

/** @param {string} label @param {number} value @param {Record<string, any>} how */
export const slider = (label, value, { low, high, step = "any", ...more }) =>
  h(Field, {
    type: "range",
    class: "form-range",
    min: low,
    max: high,
    step,
    "aria-label": label,
    value: String(value),
    ...more,
  });

/** Fields of a form, read together when it is sent: they begin with a value and are nobody's until then. */
export const own = {
  number: (name, label, value, more = {}) =>
    h("input", {
      type: "number",
      class: "form-control form-control-sm",
      name,
      "aria-label": label,
      "data-keep": `p-${label}`,
      defaultValue: String(value),
      ...more,
    }),
  text: (name, label, more = {}) =>
    h("input", {
      type: "text",
      class: "form-control form-control-sm",
      name,
      maxlength: 60,
      "aria-label": label,
      ...more,
    }),
  select: (name, label, options, more = {}) => select(label, options, more.now, null, { name, ...more }),
  file: (name, label, accept, more = {}) =>
    h("input", { type: "file", class: "form-control form-control-sm", name, accept, "aria-label": label, ...more }),
};

/**
 * Fields that are used together: `act` gets what stands in them by name, as text; afterwards words stand as they began,
 * unless it gave false.
 * @param {(said: Record<string, any>, form: HTMLFormElement) => any} act
 */
export const form = (act, ...inside) =>
  h(
    "form",
    {
      onsubmit: async (e) => {
        e.preventDefault();
        const at = e.currentTarget;
        if ((await act(Object.fromEntries(new FormData(at)), at)) !== false)
          for (const field of at.querySelectorAll("input[type=text]")) field.value = field.defaultValue;
      },
    },
    ...inside,
  );

export const submit = (label, kind = "small") => h("button", { class: buttonClass(kind) }, label);

/** A hidden file field and the button that opens it. */
export function fileButton(label, accept, act, kind = "small") {
  const chosen = (e) => {
    const { files } = e.target;
    if (files.length) act(...files);
  };
  return h(
    "label",
    { class: buttonClass(kind), tabindex: 0, onkeydown: (e) => e.key === "Enter" && e.currentTarget.click() },
    label,
    h("input", {
      type: "file",
      accept,
      multiple: true,
      class: "visually-hidden",
      tabindex: -1,
      "aria-label": label,
      onchange: chosen,
    }),
  );
}

/** Figures and fields by their names. */
export const pairs = (...rows) =>
  h(
    "dl",
    { class: "pairs" },
    rows.filter(Boolean).flatMap(([k, v]) => [h("dt", {}, k), h("dd", {}, v)]),
  );

/** Names, which may be long, with a short figure behind each. */
export const figures = (...rows) =>
  h(
    "dl",
    { class: "pairs figures" },
    rows.flatMap(([k, v]) => [h("dt", {}, k), h("dd", {}, v)]),
  );

/** A part that folds away: open or not is what `open`, a set in the store, says of its key. */
export function fold({ key, title, open, act, kind = "", more = {}, beside = null }, ...inside) {
  const turn = (e) => {
    const item = e.currentTarget.closest(".accordion-item");
    act(!open);
    if (!open) setTimeout(() => item.scrollIntoView({ block: "nearest" })); // once it has been drawn
  };
  return h(
    "div",
    { class: `accordion-item ${kind}`, ...more },
    h(
      "div",
      { class: "accordion-header" },
      h(
        "button",
        {
          type: "button",
          class: `accordion-button${open ? "" : " collapsed"}`,
          "aria-expanded": String(open),
          "data-open": key,
          onclick: turn,
        },
        h("span", { class: "grow" }, title),
        beside,
      ),
    ),
    h("div", { class: `accordion-collapse collapse${open ? " show" : ""}` }, open ? inside : null),
  );
}
