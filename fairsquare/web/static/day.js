// The day's board: a piece is dragged, or moved with the arrow keys, to another person or time; a form under the board moves it.
"use strict";

const DRAG_MIN = 5, KEY_MIN = 15;
let held = null;

const boardOf = () => document.querySelector("svg.day-board[data-days]");
const daysOf = (svg) => JSON.parse(svg.dataset.days);
const rowsOf = (svg) => JSON.parse(svg.dataset.rows);

function placeOn(svg, event) {
  const box = svg.getBoundingClientRect();
  const unit = svg.viewBox.baseVal.width / box.width;
  return { u: (event.clientX - box.left) * unit, v: (event.clientY - box.top) * unit };
}

// The day and the minute of it at a place along the board, to a whole number of steps.
function momentAt(days, u, step) {
  const day = days.find((one) => u <= one.right) || days[days.length - 1];
  const along = Math.min(Math.max((u - day.left) / (day.right - day.left), 0), 1);
  return { day, minute: Math.round((day.from + along * (day.until - day.from)) / step) * step };
}
const alongOf = (moment) =>
  moment.day.left + ((moment.minute - moment.day.from) / (moment.day.until - moment.day.from)) * (moment.day.right - moment.day.left);
const clock = (minute) => `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;

function take(piece) {
  const svg = boardOf();
  if (held && held.piece !== piece) putBack();
  const row = rowsOf(svg).find((one) => one.name === piece.dataset.person);
  const moment = momentAt(daysOf(svg), Number(piece.dataset.left) + 0.01, 1);
  if (!held) held = { piece, svg, row, moment, own: row, left: Number(piece.dataset.left) };
}

function tryAt(row, moment) {
  held.row = row;
  held.moment = moment;
  held.piece.classList.add("held");
  held.piece.setAttribute("transform", `translate(${(alongOf(moment) - held.left).toFixed(1)} ${row.top - held.own.top})`);
  const form = document.getElementById("board-move");
  form.hidden = false;
  const values = { job: held.piece.dataset.job, what: held.piece.dataset.what, to: row.name, at: clock(moment.minute), day: moment.day.date };
  for (const [name, value] of Object.entries(values)) form.elements[name].value = value;
  document.getElementById("board-move-words").textContent =
    `${values.what}, ${values.job}: to ${row.called}, ${moment.day.title} at ${values.at}`;
}

function putBack() {
  if (!held) return;
  held.piece.removeAttribute("transform");
  held.piece.classList.remove("held");
  document.getElementById("board-move").hidden = true;
  held = null;
}

document.addEventListener("pointerdown", (event) => {
  const piece = event.target.closest(".d-piece[data-what]");
  if (!piece || !document.getElementById("board-move")) return;
  take(piece);
  const at = placeOn(held.svg, event);
  held.grip = { u: at.u - alongOf(held.moment), pointer: event.pointerId };
  event.preventDefault();
  piece.focus();
});
document.addEventListener("pointermove", (event) => {
  if (!held || !held.grip || held.grip.pointer !== event.pointerId) return;
  const at = placeOn(held.svg, event);
  const rows = rowsOf(held.svg);
  const row = rows.reduce((best, one) => (Math.abs(one.top + one.high / 2 - at.v) < Math.abs(best.top + best.high / 2 - at.v) ? one : best));
  tryAt(row, momentAt(daysOf(held.svg), at.u - held.grip.u, DRAG_MIN));
});
for (const kind of ["pointerup", "pointercancel"]) {
  document.addEventListener(kind, () => {
    if (held) held.grip = null;
  });
}

document.addEventListener("keydown", (event) => {
  const piece = event.target.closest?.(".d-piece[data-what]");
  if (event.key === "Escape" && held) return putBack();
  if (!piece || !document.getElementById("board-move")) return;
  const step = { ArrowLeft: [-KEY_MIN, 0], ArrowRight: [KEY_MIN, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  if (event.key === "Enter" && held) return document.querySelector("#board-move button").focus();
  if (!step) return;
  event.preventDefault();
  take(piece);
  const rows = rowsOf(held.svg), days = daysOf(held.svg);
  const row = rows[Math.min(Math.max(rows.findIndex((one) => one.name === held.row.name) + step[1], 0), rows.length - 1)];
  let { day, minute } = held.moment;
  minute += step[0];
  const index = days.findIndex((one) => one.date === day.date);
  if (minute < day.from && index > 0) [day, minute] = [days[index - 1], days[index - 1].until - KEY_MIN];
  if (minute >= day.until && index < days.length - 1) [day, minute] = [days[index + 1], days[index + 1].from];
  tryAt(row, { day, minute: Math.min(Math.max(minute, day.from), day.until) });
});
document.addEventListener("click", (event) => {
  if (event.target.closest("[data-put-back]")) putBack();
});
