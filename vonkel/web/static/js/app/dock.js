// The dock: what the actions say of it.  One of several tools is in the hand; a switch is on or off; what is left
// happens at once.
import { h } from "../widgets/html.js";
import { button, switchButton } from "../widgets/fields.js";
import { dockOf } from "./actions.js";

const ORDER = ["tool", "switch", "act"];

export function dockButtons(b) {
  const entries = dockOf(b.station);
  const back = b.faded ? [{ id: "unfade-now", words: `Bring back ${b.faded} faded`, run: () => b.bringBack() }] : [];
  const groups = ORDER.map((kind) => {
    const list = entries.filter((a) => a.dock.kind === kind);
    return { kind, list: kind === "act" ? [...list, ...back] : list };
  });
  return groups
    .filter(({ list }) => list.length)
    .map(({ kind, list }) =>
      h(
        "div",
        { class: "group", role: "group", key: kind },
        list.map((a) => entry(b, a, kind)),
      ),
    );
}

function entry(b, action, kind) {
  const label = action.dock?.label ?? action.words,
    title = action.dock?.title,
    act = () => {
      action.run(b);
      b.look();
    };
  if (kind === "switch") return switchButton(label, !!action.on(b), act, title, "switch");
  const on = kind === "tool" && action.on(b);
  return button(label, act, "", {
    key: action.id,
    title,
    "aria-pressed": kind === "tool" ? String(!!on) : undefined,
    class: `btn btn-plain${on ? " active" : ""}`,
  });
}
