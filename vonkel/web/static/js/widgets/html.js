// What every drawing of the page is made with: descriptions of elements, which are compared with what stands there.
// Text only ever becomes text.
import { Component, Fragment, h, render } from "preact";

export { Component, Fragment, h, render };

/** The element of that id.  @type {(id: string) => any} */
export const byId = (id) => document.getElementById(id);

/** The first element that a selector finds.  @type {(selector: string, within?: ParentNode) => any} */
export const one = (selector, within = document) => within.querySelector(selector);

/** All that a selector finds.  @type {(selector: string, within?: ParentNode) => any[]} */
export const all = (selector, within = document) => [...within.querySelectorAll(selector)];

/** The letter of a side, in its colour. */
export const tag = (side) =>
  h("span", { class: `tag ${side}`, title: { L: "left", R: "right", C: "middle" }[side] }, side);

/** What a function makes as nodes of its own. */
class Made extends Component {
  /** @type {HTMLElement | null} */ box = null;
  keep = (box) => {
    this.box = box;
  };
  shouldComponentUpdate(next) {
    return next.of !== /** @type {any} */ (this.props).of;
  }
  componentDidMount() {
    this.make();
  }
  componentDidUpdate() {
    this.make();
  }
  make() {
    this.box.replaceChildren(/** @type {any} */ (this.props).make());
  }
  render() {
    return h("div", { ref: this.keep });
  }
}

/** A drawing that a function makes: anew when what it is of has changed, and not while a hand drags in it otherwise. */
export const made = (of, make) => h(/** @type {any} */ (Made), { of: JSON.stringify(of), make });

/** A part of a drawing that is made anew only when a value in `of` is another than before: `make()` draws it. */
export class Still extends Component {
  shouldComponentUpdate(next) {
    const now = /** @type {any} */ (this.props).of;
    return next.of.length !== now.length || next.of.some((v, i) => !Object.is(v, now[i]));
  }
  render() {
    return h("g", {}, /** @type {any} */ (this.props).make());
  }
}
