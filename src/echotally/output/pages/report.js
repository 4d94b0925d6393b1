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
// Moves through the demands of the table: what each plan costs there, what it throttles, which one is picked.
const turns = document.getElementById("turns");
if (turns) {
  const heads = [...turns.tHead.rows[0].cells].slice(1);
  const slider = document.getElementById("times");
  const money = new Intl.NumberFormat("en", { minimumFractionDigits: 2, maximumFractionDigits: 2 });
  const rows = [...turns.tBodies[0].rows].map((row) => ({ name: row.cells[0].textContent, cells: [...row.cells].slice(1) }));
  const most = Math.max(...rows.flatMap((row) => row.cells.map((cell) => Number(cell.dataset.cost))));
  const part = (kind, name, text) => {
    const made = document.createElement(kind);
    made.className = name;
    made.textContent = text;
    return made;
  };
  const show = () => {
    const at = Number(slider.value), head = heads[at];
    const said = `${head.dataset.scale} x`;
    document.getElementById("now").textContent = said;
    slider.setAttribute("aria-valuetext", said);
    document.getElementById("pick").textContent = head.dataset.pick
      ? `Pick: ${head.dataset.pick}.` : "No plan meets every target.";
    document.getElementById("bars").replaceChildren(...rows.map((row) => {
      const { cost, throttled, meets, misses } = row.cells[at].dataset;
      const line = part("div", meets === "no" ? "bar misses" : "bar", "");
      const track = part("div", "track", "");
      const fill = part("div", "fill", cost === "" ? "cannot be used" : money.format(Number(cost)));
      fill.style.width = `${(100 * Number(cost)) / most}%`;
      const notes = [`${(100 * Number(throttled)).toFixed(2)} % throttled`, ...(misses ? [`misses ${misses}`] : [])];
      track.append(fill, part("div", "soft", notes.join("; ")));
      line.append(part("div", "", (row.name === head.dataset.pick ? "\u2192 " : "") + row.name), track);
      return line;
    }));
  };
  slider.addEventListener("input", show);
  document.getElementById("slider").hidden = false;
  show();
}
