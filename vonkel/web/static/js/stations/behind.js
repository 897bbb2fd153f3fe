// Points left behind: found over all trials and each joint's range, in groups, mended one after the other.
import { acts, button } from "../widgets/fields.js";
import { h } from "../widgets/html.js";
import { inWords, spaced } from "../words.js";
import { findOut } from "./common.js";

const FEW = 6; // groups shown at once

export const behindFields = { behind: null, behindAt: 0 };

/** Look for them; again after each mend, once they have been looked for. */
const lookBehind = (b) => findOut(b, "skin/behind", "behind");

function show(b, group) {
  b.trial = b.state.trial_names.includes(group.worst) ? group.worst : "";
  b.pose();
  b.plate.marked = group.points;
  b.plate.lookAt(b.plate.pointPlace(group.points[Math.floor(group.points.length / 2)]));
}

function mend(b, step, group) {
  b.step(step, { points: group.points }, { keepPose: true }).then((done) => done && lookBehind(b));
}

function row(b, g) {
  const n = g.points.length,
    many = (count, one, more) => `${spaced(count)} ${count === 1 ? one : more}`,
    said = `${many(n, "point", "points")} in ${many(g.poses, "pose", "poses")}, worst in “${inWords(g.worst)}”`;
  const round = { title: "Let them be held as what lies round them" };
  return h(
    "div",
    { class: "stray behind", key: g.points[0], "data-group": g.points[0] },
    h("img", { src: `data:image/png;base64,${g.picture}`, alt: "" }),
    h(
      "div",
      {},
      h("p", {}, said),
      acts(
        button("Show", () => show(b, g), "small"),
        button("As round them", () => mend(b, "skin.from_neighbours", g), "small mend", round),
        button("Nearest bone", () => mend(b, "skin.nearest", g), "small"),
      ),
    ),
  );
}

/** The list on the sheet. */
export function behindList(b) {
  const { behind, behindAt } = b.ui;
  const title = h("h3", {}, "Points left behind");
  const look = (label, kind) => acts(button(label, () => lookBehind(b), kind));
  if (!behind)
    return [
      title,
      h("p", { class: "soft" }, "Tried in every pose and over each joint's range."),
      look("Look for them", "small"),
    ];
  const stale = behindAt !== b.position().step;
  if (!behind.length)
    return [
      title,
      h("p", { class: "fine" }, "None: every point goes with those round it."),
      stale ? look("Look again", "small") : null,
    ];
  const all = behind.reduce((sum, g) => sum + g.points.length, 0);
  return [
    title,
    h(
      "p",
      { class: "soft" },
      `${spaced(all)} points in ${behind.length} groups${stale ? ", before the last step" : ""}.`,
    ),
    stale ? look("Look again", "small") : null,
    behind.slice(0, FEW).map((g) => row(b, g)),
    behind.length > FEW ? h("p", { class: "soft" }, `and ${behind.length - FEW} more groups`) : null,
  ];
}
