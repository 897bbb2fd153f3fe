// All characters, and bringing one in.
import { call } from "./net/api.js";
import { all, byId } from "./widgets/html.js";
import { say, toast } from "./widgets/toasts.js";
import { megabytes } from "./words.js";

const form = byId("bring-in");
const said = byId("bring-in-said");

async function bringIn(data) {
  said.textContent = "Reading …";
  try {
    const { number } = await call("POST", "/api/characters", data);
    location.href = `/c/${number}/model`;
  } catch (error) {
    said.textContent = [error.what, error.where && `(${error.where})`, error.todo].filter(Boolean).join(" ");
  }
}

form.addEventListener("submit", (event) => {
  event.preventDefault();
  bringIn(new FormData(form));
});
form.addEventListener("dragover", (event) => {
  event.preventDefault();
  form.classList.add("over");
});
form.addEventListener("dragleave", () => form.classList.remove("over"));
form.addEventListener("drop", (event) => {
  event.preventDefault();
  form.classList.remove("over");
  if (!event.dataTransfer.files.length) return;
  const data = new FormData();
  for (const file of event.dataTransfer.files) data.append("file", file);
  bringIn(data);
});

for (const button of all("[data-demo]")) {
  button.addEventListener("click", async () => {
    try {
      const { number } = await call("POST", `/api/demo?who=${encodeURIComponent(button.dataset.demo)}`);
      location.href = `/c/${number}/model`;
    } catch (error) {
      say(error);
    }
  });
}
for (const button of all("button[data-back]:not([data-archive])")) {
  button.addEventListener("click", async () => {
    try {
      await call("POST", `/api/c/${button.dataset.back}/undo`, {});
      location.reload();
    } catch (error) {
      say(error);
    }
  });
}
/** @type {[string, (data: any) => string][]} */
const asked = [
  ["duplicate", (d) => `/api/c/${d.duplicate}/duplicate`],
  ["archive", (d) => `/api/c/${d.archive}/archive?away=${!d.back}`],
];
for (const [kind, path] of asked) {
  for (const button of all(`[data-${kind}]`)) {
    button.addEventListener("click", async () => {
      try {
        await call("POST", path(button.dataset));
        location.reload();
      } catch (error) {
        say(error);
      }
    });
  }
}

byId("compact").addEventListener("click", async () => {
  try {
    const { before, after } = await call("POST", "/api/compact");
    toast(`${megabytes(before)} became ${megabytes(after)}. Milestones are all there.`);
  } catch (error) {
    say(error);
  }
});

for (const button of all("[data-delete]")) {
  button.addEventListener("click", async () => {
    if (!confirm(`Throw ${button.dataset.name} away? Its ledger goes too; this can't be undone.`)) return;
    try {
      await call("DELETE", `/api/c/${button.dataset.delete}`);
      location.reload();
    } catch (error) {
      say(error);
    }
  });
}
