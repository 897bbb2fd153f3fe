// The points that a kit turns about, as landmarks to be dragged: a foot's heel, tip, edges and ball.
import { enterTool, PlateTool } from "../app/tools.js";
import { pairs } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { plainName } from "../words.js";

class KitPoints extends PlateTool {
  kit = "";

  enter(b) {
    super.enter(b);
    b.plate.setLarge("");
    this.show();
  }
  leave() {
    this.b.plate.landmarks = [];
    this.b.plate.setLarge("free");
  }
  places() {
    return Object.entries(this.b.state.kits.find((k) => k.name === this.kit)?.places ?? {});
  }
  show() {
    this.b.plate.landmarks = this.places().map(([name, place]) => ({ name, label: name, place, moved: false }));
    this.b.plate.draw();
    this.changed();
  }

  async drag(name, place, done) {
    const mark = this.b.plate.landmarks.find((m) => m.name === name);
    if (!mark) return;
    mark.place = place;
    this.b.plate.draw();
    if (!done) return;
    await this.b.step("limbs.set_place", { kit: this.kit, point: name, place, both_sides: this.b.symmetry });
    this.show();
  }

  panel() {
    const inCm = (place) => `${place.map((v) => (100 * v).toFixed(1)).join(" · ")} cm`;
    return [
      h("p", {}, plainName(this.kit)),
      pairs(...this.places().map(([name, place]) => [name, h("span", { class: "fig" }, inCm(place))])),
    ];
  }
}

enterTool(
  new KitPoints({
    name: "points",
    title: "Points of a kit",
    station: "limbs",
    passive: true,
    unlisted: true,
    hint: "Drag a point in any drawing: the foot rolls about them. Its partner goes along.",
  }),
);
