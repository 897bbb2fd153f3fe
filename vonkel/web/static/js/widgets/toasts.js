// Short messages at the foot of the page.
import { inWords } from "../words.js";
import { byId } from "./html.js";

const SHORT = 3500,
  LONG = 9000; // milliseconds; errors stay longer
const MOST = 3; // at once: the oldest gives way

/** Say something; `bad`: it is an error. */
export function toast(what, { bad = false, more = "" } = {}) {
  const note = document.createElement("div");
  note.className = bad ? "toast toast-bad" : "toast";
  note.setAttribute("role", bad ? "alert" : "status");
  const body = note.appendChild(document.createElement("div"));
  body.className = "toast-body";
  body.append(inWords(what));
  if (more) body.appendChild(document.createElement("small")).append(inWords(more));
  const box = byId("toasts");
  while (box.children.length >= MOST) box.firstElementChild.remove();
  box.append(note);
  const shown = new window.bootstrap.Toast(note, { delay: bad ? LONG : SHORT, animation: false });
  note.addEventListener("hidden.bs.toast", () => {
    shown.dispose();
    note.remove();
  });
  shown.show();
}

/** Say what was refused, where, and what to do. */
export function say(error) {
  toast(error.what ?? String(error), {
    bad: true,
    more: [error.where && `(${error.where})`, error.todo].filter(Boolean).join(" "),
  });
}
