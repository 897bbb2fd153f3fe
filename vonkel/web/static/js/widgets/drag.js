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

/**
 * Follow the pointer from where it was pressed until it lets go: `act(dx, dy, done, went)` with the pixels that it has
 * gone, and whether that is more than a hand that only clicks trembles; before it is, only the end is told.
 * @param {any} event @param {(dx: number, dy: number, done: boolean, went: boolean) => void} act
 */
export function pulled(event, act) {
  event.preventDefault();
  event.stopPropagation();
  let went = false;
  const by = (e) => /** @type {[number, number]} */ ([e.clientX - event.clientX, e.clientY - event.clientY]);
  const move = (e) => {
    const [dx, dy] = by(e);
    went ||= Math.hypot(dx, dy) > 2;
    if (went) act(dx, dy, false, true);
  };
  const stop = (e) => {
    for (const [name, f] of Object.entries({ pointermove: move, pointerup: stop, pointercancel: stop }))
      removeEventListener(name, f);
    act(...by(e), true, went);
  };
  for (const [name, f] of Object.entries({ pointermove: move, pointerup: stop, pointercancel: stop }))
    addEventListener(name, f);
}

/**
 * Follow the pointer over a drawing (SVG) that is `wide` units wide: `act([dx, dy], done)` with how far it has gone
 * from where it was pressed, in the drawing's units.
 * @param {any} event @param {(by: number[], done: boolean) => void} act @param {number} wide
 */
export function followed(event, act, wide) {
  event.preventDefault();
  const svg = event.currentTarget.ownerSVGElement ?? event.currentTarget,
    scale = wide / svg.getBoundingClientRect().width,
    from = [event.clientX, event.clientY];
  const by = (e) => [(e.clientX - from[0]) * scale, (e.clientY - from[1]) * scale];
  const move = (e) => act(by(e), false);
  const stop = (e) => {
    for (const [name, f] of Object.entries({ pointermove: move, pointerup: stop, pointercancel: stop }))
      removeEventListener(name, f);
    act(by(e), true);
  };
  addEventListener("pointermove", move);
  addEventListener("pointerup", stop);
  addEventListener("pointercancel", stop);
}
