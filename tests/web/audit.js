// What doesn't fit on a page: sheets that are too narrow, things that stick out of them, lie on each other or run over.
() => {
  const found = new Set();
  const seen = (e) => {
    const r = e.getBoundingClientRect();
    return r.width > 0 && r.height > 0 && getComputedStyle(e).visibility !== "hidden" && !e.closest("svg");
  };
  const say = (e) =>
    `${e.tagName.toLowerCase()}${typeof e.className === "string" && e.className ? `.${e.className.replaceAll(" ", ".")}` : ""} “${(e.innerText ?? e.value ?? "").slice(0, 40)}”`;
  for (const sheet of document.querySelectorAll(
    ".sheet, .dock, .strip, .top, .card-character, .characters-main, .drawer:not([hidden])",
  )) {
    if (!seen(sheet)) continue;
    const scrolls = sheet.matches(".strip"),
      box = sheet.getBoundingClientRect();
    if (!scrolls && sheet.scrollWidth > sheet.clientWidth + 1)
      found.add(`${say(sheet)} is ${sheet.scrollWidth - sheet.clientWidth} px too narrow`);
    for (const e of sheet.querySelectorAll("*")) {
      if (!seen(e)) continue;
      const r = e.getBoundingClientRect(),
        style = getComputedStyle(e);
      if (!scrolls && (r.right > box.right + 1 || r.left < box.left - 1))
        found.add(`${say(e)} sticks out by ${Math.round(Math.max(r.right - box.right, box.left - r.left))} px`);
      if (
        !["SELECT", "INPUT", "TEXTAREA"].includes(e.tagName) &&
        style.display !== "inline" &&
        style.overflowX === "visible" &&
        e.clientWidth &&
        e.scrollWidth > e.clientWidth + 1
      )
        found.add(`${say(e)} runs over by ${e.scrollWidth - e.clientWidth} px`);
      const kids = [...e.children].filter((k) => seen(k) && getComputedStyle(k).position !== "absolute");
      for (let i = 0; i < kids.length; i++) {
        for (let j = i + 1; j < kids.length; j++) {
          const a = kids[i].getBoundingClientRect(),
            b = kids[j].getBoundingClientRect();
          if (
            Math.min(a.right, b.right) - Math.max(a.left, b.left) > 1.5 &&
            Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top) > 1.5
          )
            found.add(`${say(kids[i])} lies on ${say(kids[j])}`);
        }
      }
    }
  }
  return [...found];
};
