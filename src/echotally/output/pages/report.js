"use strict";
// Sorts a table by the column whose heading is pressed; numbers by value, words by the reader's alphabet.
for (const table of document.querySelectorAll("table.sortable")) {
  const heads = [...table.tHead.rows[0].cells];
  heads.forEach((head, place) => head.querySelector("button").addEventListener("click", () => {
    const up = head.getAttribute("aria-sort") !== "ascending";
    heads.forEach((other) => other.removeAttribute("aria-sort"));
    head.setAttribute("aria-sort", up ? "ascending" : "descending");
    const value = (row) => row.cells[place].dataset.value;
    const compare = (a, b) => {
      const [x, y] = [value(a), value(b)];
      if (x === "" || y === "") return x === y ? 0 : x === "" ? 1 : -1;
      const difference = x - y;
      return (up ? 1 : -1) * (Number.isNaN(difference) ? x.localeCompare(y) : difference);
    };
    table.tBodies[0].append(...[...table.tBodies[0].rows].sort(compare));
  }));
}
// On paper nothing can be opened, so everything is.
addEventListener("beforeprint", () => {
  for (const part of document.querySelectorAll("details")) part.open = true;
});
