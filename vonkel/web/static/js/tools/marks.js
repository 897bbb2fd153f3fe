// The marks of a face on the plate: dragged to where they belong; on the skin they keep to it.
import { enterTool, PlateTool } from "../app/tools.js";
import { chooseMark, markSheet, showMarkMap } from "../stations/facemarks.js";

class Marks extends PlateTool {
  enter(b) {
    super.enter(b);
    this.pick();
  }
  leave() {
    this.b.plate.landmarks = [];
    super.leave();
  }
  /** Marks as the state has them; `held`: one that is in the hand, and its partner. */
  pick(held = {}) {
    const { b } = this;
    b.plate.landmarks = b.state.face.marks.map((m) => ({
      name: m.name,
      label: m.label,
      place: held[m.name] ?? m.place,
      moved: m.name === b.ui.mark,
      sure: m.doubtful ? "look here" : "sure",
      spread: m.doubtful ? 0.03 * (1 - m.sure) : 0,
      quiet: !(m.name === b.ui.mark || (m.doubtful && m.side !== "R")),
    }));
    b.plate.draw();
  }
  panel(b) {
    return markSheet(b);
  }
  click(spot) {
    if (!spot.hit) chooseMark(this.b, "");
  }
  drag(name, place, done) {
    const { b } = this,
      mark = b.state.face.marks.find((m) => m.name === name);
    if (!mark) return;
    if (b.ui.mark !== name) chooseMark(b, name, false);
    const held = { [name]: place };
    if (mark.partner && mark.linked) held[mark.partner] = [-place[0], place[1], place[2]];
    this.pick(held);
    if (!done) return;
    b.step("face.mark", { mark: name, place }, { quiet: true, keepPose: true }).then(() => {
      this.pick();
      showMarkMap(b);
    });
  }
}

enterTool(
  new Marks({
    name: "marks",
    title: "Put the marks where they belong",
    label: "Marks",
    station: "face",
    key: "m",
    hint: "Drag a mark to where it belongs; its partner goes along. Ringed ones want a look.",
  }),
);
