// Windows over the page: one at a time, closed by Escape, a click beside it, or its button.
import { byId, h, render } from "./html.js";

/**
 * The window of that id, which stands empty in the page.
 * @param {string} id @param {string} title @param {() => void} [shown] What happens when it stands open.
 */
export function modal(id, title, shown) {
  const box = byId(id);
  const window_ = window.bootstrap.Modal.getOrCreateInstance(box);
  const close = () => window_.hide();
  const head = h(
    "div",
    { class: "modal-header" },
    h("h2", { class: "modal-title" }, title),
    h("button", { type: "button", class: "btn-close", "aria-label": "Close", onclick: close }),
  );
  const draw = (inside) =>
    render([title ? head : null, h("div", { class: "modal-body" }, inside)], box.querySelector(".modal-content"));
  return {
    draw,
    hide: close,
    show(inside) {
      draw(inside);
      if (shown) box.addEventListener("shown.bs.modal", shown, { once: true });
      window_.show();
    },
  };
}
