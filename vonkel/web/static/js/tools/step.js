// Doing a step by its form: what no station has a place for is asked for here.
import { enterTool, PlateTool } from "../app/tools.js";
import { h } from "../widgets/html.js";
import { stepForm, typed } from "../widgets/stepform.js";

class StepTool extends PlateTool {
  step = "";

  /** Ask for this kind of step, at a station. */
  of(kind, station) {
    this.step = this.hint = kind.name;
    this.title = kind.about.replace(/\.$/, "");
    this.station = station;
  }

  panel(b) {
    const kind = b.steps.get(this.step);
    if (!kind) return null;
    const { properties, required = [] } = kind.params;
    const wanted = required.filter((name) => !typed(properties[name]));
    if (wanted.length) {
      const words = `It wants ${wanted.join(", ")}, which can't be typed: a station, a recipe or a script gives that.`;
      return h("p", { class: "empty" }, words);
    }
    const { joint, control } = b.plate.selected;
    return stepForm(b, this.step, {
      label: "Do it",
      kind: "mend small",
      values: { joint, control, part: b.ui.part, shape: b.ui.shape }, // what is chosen is meant
      done: () => b.useTool(null),
    });
  }
}

enterTool(new StepTool({ name: "step", passive: true, unlisted: true }));
