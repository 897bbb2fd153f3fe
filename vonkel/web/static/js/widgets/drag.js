// Following the pointer over something that stands on the page.

/**
 * Follow the pointer until it lets go: `moved({x, y, dx, dy}, done)` with pixels from the corner of what was pressed's
 * sheet (its offset parent, or itself) and from where it began.
 * @param {PointerEvent} event
 * @param {(at: { x: number, y: number, dx: number, dy: number }, done: boolean) => void} moved
 */
export function dragged(event, moved) {
  const pressed = /** @type {HTMLElement} */ (event.currentTarget),
    sheet = pressed.closest(".board-paper") ?? pressed,
    box = sheet.getBoundingClientRect();
  const at = (e) => ({
    x: e.clientX - box.left,
    y: e.clientY - box.top,
    dx: e.clientX - event.clientX,
    dy: e.clientY - event.clientY,
  });
  const move = (e) => moved(at(e), false);
  const stop = (e) => {
    removeEventListener("pointermove", move);
    removeEventListener("pointerup", stop);
    removeEventListener("pointercancel", stop);
    moved(at(e), true);
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", stop);
  addEventListener("pointercancel", stop);
  moved(at(event), false);
}
