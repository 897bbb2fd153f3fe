// Forms made from the steps' own schemas: what a step takes is said once, where the step is.
import { acts, form, own, pairs, submit } from "./fields.js";
import { h } from "./html.js";

/** What a field's schema says, when it may also be nothing. */
const plain = (schema) => schema.anyOf?.find((s) => s.type !== "null") ?? schema;

/** Whether a field can be typed or chosen: numbers, words, yes and no, one of several. */
export const typed = (schema) => {
  const s = plain(schema);
  return !!s.enum || ["number", "integer", "string", "boolean"].includes(s.type);
};

const words = (name) => name.replaceAll("_", " ");

/** Names that may stand in a field, by the field's own name. */
const NAMES = {
  joint: (b) => b.state.joints,
  parent: (b) => b.state.joints,
  end: (b) => b.state.joints,
  control: (b) => b.state.controls,
  kit: (b) => b.state.kits,
  part: (b) => b.state.parts,
  shape: (b) => b.state.shapes,
  picture: (b) => b.state.pictures,
  clip: (b) => b.state.clips,
};

/**
 * The field of one parameter.
 * @param {any} b @param {string} name @param {any} schema @param {Record<string, any>} how
 */
function field(b, name, schema, { label, value, required = false, more = {} }) {
  const s = plain(schema),
    now = value ?? schema.default,
    title = schema.description;
  if (s.enum)
    return own.select(
      name,
      label,
      Array.isArray(more.options) ? more.options : s.enum.map((k) => [k, s.words?.[k] ?? (k || "–")]),
      { now, title },
    );
  if (s.type === "boolean")
    return own.select(
      name,
      label,
      [
        ["true", "yes"],
        ["false", "no"],
      ],
      { now: String(now ?? false), title },
    );
  if (s.type === "string") {
    const known = NAMES[name]?.(b);
    const list = known ? `names-${name}` : undefined;
    return [
      own.text(name, label, { required, defaultValue: now ?? "", maxlength: s.maxLength ?? 200, title, list, ...more }),
      known &&
        h(
          "datalist",
          { id: list },
          known.map((x) => h("option", { key: x.name, value: x.name })),
        ),
    ];
  }
  return own.number(name, label, now ?? "", {
    required,
    min: s.minimum ?? s.exclusiveMinimum,
    max: s.maximum ?? s.exclusiveMaximum,
    step: s.type === "integer" ? 1 : "any",
    title,
    ...more,
  });
}

/** What was typed, as the schema wants it; empty fields are left to the step. */
function read(said, fields, properties) {
  const out = {};
  for (const name of fields) {
    const s = plain(properties[name]),
      text = said[name];
    if (text === undefined || (text === "" && s.type !== "string")) continue;
    out[name] = s.type === "boolean" ? text === "true" : ["number", "integer"].includes(s.type) ? Number(text) : text;
  }
  return out;
}

/**
 * A form for a step.  `fields`: which parameters, with their labels; none: all that can be typed.  `values`: how they
 * begin; `fixed`: parameters that aren't asked for, or a function that gives them when the form is sent; `options`:
 * the words of choices by field.
 * @param {any} b @param {string} name
 * @param {{ label: string, kind?: string, fields?: Record<string, string>, values?: Record<string, any>,
 *   fixed?: any, options?: Record<string, any>, done?: () => void, more?: Record<string, any>,
 *   beside?: any, ready?: () => boolean }} how
 */
export function stepForm(b, name, how) {
  const kind = b.steps.get(name);
  if (!kind) {
    b.loadSteps();
    return h("p", { class: "soft" }, "…");
  }
  const { properties, required = [] } = kind.params;
  const labels =
    how.fields ??
    Object.fromEntries(
      Object.entries(properties)
        .filter(([, s]) => typed(s))
        .map(([k]) => [k, words(k)]),
    );
  const send = async (said) => {
    if (how.ready && !how.ready()) return false;
    const fixed = typeof how.fixed === "function" ? how.fixed() : how.fixed;
    const done = await b.step(name, { ...fixed, ...read(said, Object.keys(labels), properties) });
    if (done) how.done?.();
    return done;
  };
  const rows = Object.entries(labels).map(([k, label]) => [
    label,
    field(b, k, properties[k], {
      label,
      value: how.values?.[k],
      required: required.includes(k),
      more: { options: how.options?.[k], ...how.more?.[k] },
    }),
  ]);
  return form(send, pairs(...rows), acts(submit(how.label, how.kind ?? "small"), how.beside));
}
