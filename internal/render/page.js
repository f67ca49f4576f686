"use strict";
// Sorting and filtering for each table. Without this script the page shows
// all the same, in the order it was written.
for (const table of document.querySelectorAll(".rows")) {
  const scroll = table.querySelector(".scroll");
  const heads = [...table.querySelectorAll("th")];
  let chunks = [...table.querySelectorAll(".chunk")];
  let rows = null; // gathered at first use: a large report has many
  const size = 200;
  const all = () => rows ??= [...table.querySelectorAll("tbody tr")];
  const compare = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" }).compare;

  const lay = (list) => {
    const pattern = chunks[0];
    const made = [];
    for (let at = 0; at < list.length || at === 0; at += size) {
      const part = list.slice(at, at + size);
      const chunk = pattern.cloneNode(false);
      chunk.style.containIntrinsicSize = "auto " + 30 * Math.max(part.length, 1) + "px";
      const inner = pattern.querySelector("table").cloneNode(false);
      const cols = pattern.querySelector("colgroup");
      if (cols) inner.append(cols.cloneNode(true));
      const body = document.createElement("tbody");
      body.append(...part);
      inner.append(body);
      chunk.append(inner);
      made.push(chunk);
    }
    for (const old of chunks) old.remove();
    scroll.append(...made);
    chunks = made;
  };

  let by = -1, down = false, wanted = "";
  const count = document.createElement("span");
  count.setAttribute("role", "status");
  const show = () => {
    let list = all();
    if (by >= 0) {
      const value = (row) => row.cells[by].dataset.v ?? row.cells[by].textContent;
      const keyed = list.map((row, i) => [value(row), i, row]);
      keyed.sort((a, b) => {
        if (a[0] === "" || b[0] === "") return (a[0] === "") - (b[0] === "") || a[1] - b[1];
        return (down ? compare(b[0], a[0]) : compare(a[0], b[0])) || a[1] - b[1];
      });
      list = keyed.map((k) => k[2]);
    }
    const words = wanted.toLowerCase().split(/\s+/).filter(Boolean);
    if (words.length) list = list.filter((row) => {
      const text = (row.dataset.t ??= row.textContent.toLowerCase());
      return words.every((word) => text.includes(word));
    });
    lay(list);
    count.textContent = words.length ? list.length + " of " + all().length : "";
    heads.forEach((th, i) => i === by ? th.setAttribute("aria-sort", down ? "descending" : "ascending") : th.removeAttribute("aria-sort"));
  };

  heads.forEach((th, i) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = th.textContent;
    th.replaceChildren(button);
    button.addEventListener("click", () => {
      down = by === i ? !down : false;
      by = i;
      show();
    });
  });
  if (table.classList.contains("totals")) continue;
  const tools = document.createElement("div");
  tools.className = "tools";
  const input = document.createElement("input");
  input.type = "search";
  input.placeholder = "Show rows that contain …";
  input.setAttribute("aria-label", "Show rows that contain");
  let waiting = 0;
  input.addEventListener("input", () => {
    clearTimeout(waiting);
    waiting = setTimeout(() => { wanted = input.value; show(); }, 150);
  });
  tools.append(input, count);
  table.prepend(tools);
}

// A link to a section opens it.
const open = () => {
  const target = location.hash && document.getElementById(decodeURIComponent(location.hash.slice(1)));
  if (target && target.tagName === "DETAILS") { target.open = true; target.scrollIntoView(); }
};
addEventListener("hashchange", open);
open();
// What is printed is printed in full.
addEventListener("beforeprint", () => { for (const d of document.querySelectorAll("details")) d.open = true; });
