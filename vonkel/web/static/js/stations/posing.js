// Posing: channels of a control and saved poses, for every station that poses.
import { actionButton } from "../app/actions.js";
import { acts, button, form, numberField, own, slider, submit } from "../widgets/fields.js";
import { h, tag } from "../widgets/html.js";
import { toast } from "../widgets/toasts.js";
import { measureOf, plainName } from "../words.js";

/** The control that is chosen, if one is. */
export const chosenControl = (b) => b.state.controls.find((c) => c.name === b.plate.selected.control);

/** Channels that a slider shows: what isn't locked and no space. */
const open = (c) => c.channels.filter((k) => !k.locked && !k.name.startsWith("in "));

export function channelSheet(b, zero = true) {
  const c = chosenControl(b);
  if (!c) {
    const words = b.state.controls.length ? "Choose an outline on the body and drag it." : "No controls yet.";
    return [h("h2", {}, "Control"), h("p", { class: "empty" }, words)];
  }
  return [
    h("h2", {}, plainName(c.name), " ", tag(c.side)),
    h("p", { class: "soft" }, `of the kit ${plainName(c.kit)}`),
    open(c).map((k) => channelSlider(b, c.name, k)),
    zero ? acts(button("Zero it", () => b.zero(new Set([c.name]), `Zeroed ${c.name}`), "small")) : null,
  ];
}

export function channelSlider(b, control, k) {
  const { out, unit: after, digits } = measureOf(k),
    unit = after.trim(),
    reach = k.kind === "move" ? b.state.height : k.kind === "turn" ? Math.PI : 1;
  const value = (b.values[control]?.[k.name] ?? k.rest) * out,
    name = `${control} ${k.name}`;
  const set = (v, keep) => b.setChannel(control, k.name, v / out, keep);
  return h(
    "div",
    { class: "slider", key: name },
    h("span", {}, `${k.name}${unit ? `, ${unit}` : ""}`),
    slider(name, value, {
      low: (k.low ?? (k.kind === "value" ? 0 : -reach)) * out,
      high: (k.high ?? reach) * out,
      "data-keep": `s-${name}`,
      oninput: (e) => set(Number(e.target.value), false),
      onchange: (e) => set(Number(e.target.value), true),
    }),
    numberField(`${name} ${unit}`, value.toFixed(digits), (v) => set(v, true), {
      step: digits > 1 ? 0.01 : 0.1,
      "data-keep": `f-${name}`,
    }),
  );
}

export function poseSheet(b) {
  const save = async ({ name }) => {
    if (name.trim()) return b.step("poses.save", { name: name.trim(), values: b.values });
    toast("Name the pose first.");
    return false;
  };
  const show = (p) => {
    b.trial = p;
    b.pose();
  };
  return [
    h("h3", {}, "Poses"),
    form(
      save,
      acts(own.text("name", "Pose name", { placeholder: "name this pose", style: "width:150px" }), submit("Save")),
    ),
    b.state.poses.length ? acts(b.state.poses.map((p) => button(plainName(p), () => show(p), "small quiet"))) : null,
    acts(
      actionButton(b, "rest"),
      Object.keys(b.values).length ? actionButton(b, "new-rest", "small", "Take as the new rest") : null,
    ),
  ];
}
