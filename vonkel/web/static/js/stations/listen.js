// Listening to a performance as it happens: the figure does what a suit or a face camera says; what was heard is kept.
import { call } from "../net/api.js";
import { acts, chosenButton, form, own, select, submit } from "../widgets/fields.js";
import { h } from "../widgets/html.js";

const PORTS = { suit: 7611, face: 7612 };

async function begin(b, { port }) {
  const kind = b.ui.listenKind;
  try {
    await call("POST", `/api/c/${b.number}/listen`, { kind, port });
    b.clipPlaying = false;
    b.listening = true;
    b.heard();
  } catch (error) {
    await b.failed(error);
  }
  return false;
}

export async function stop(b) {
  b.listening = false;
  await call("POST", `/api/c/${b.number}/listen/stop`);
}

async function keep(b, { name }) {
  b.listening = false;
  const before = new Set(b.state.clips.map((c) => c.name));
  try {
    const body = { name: name.trim() || "heard", step: b.position().step };
    const { job } = await call("POST", `/api/c/${b.number}/listen/keep`, body);
    await b.watchJob(job);
    await b.refresh({ keepPose: true });
    b.heardFrames = 0;
    b.clip = b.state.clips.find((c) => !before.has(c.name))?.name ?? b.clip;
    b.ui.shelf = "keys";
    b.clipTo(0);
  } catch (error) {
    await b.failed(error);
  }
  return false;
}

export function listenShelf(b) {
  const { listenKind: kind } = b.ui,
    take = (v) => (b.ui.listenKind = v);
  const devices = [
    ["suit", "a capture suit (BVH)"],
    ["face", "a face camera (action units)"],
  ];
  return h(
    "div",
    { class: "listen" },
    h("p", { class: "soft" }, `A device that streams on this machine; without one, start “vonkel stand-in ${kind}”.`),
    b.listening
      ? acts(
          chosenButton("Stop", true, () => stop(b)),
          h("output", { class: "fig soft" }, `${b.heardFrames} frames heard`),
        )
      : form(
          (v) => begin(b, { port: v.port }),
          acts(
            select("Device", devices, kind, take),
            own.number("port", "Port", PORTS[kind], { step: 1, min: 1, max: 65535, key: kind, style: "width:90px" }),
            submit("Listen", "small mend"),
          ),
        ),
    b.heardFrames > 1
      ? form(
          (v) => keep(b, { name: v.name }),
          acts(
            own.text("name", "What it is called", { placeholder: "heard", style: "width:150px" }),
            submit("Keep what was heard", "small"),
          ),
        )
      : null,
  );
}

/** What it keeps while the page is open. */
export const listenFields = { listenKind: "suit" };
