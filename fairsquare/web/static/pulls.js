// The drawing of a pull: a tower is dragged, or moved with the arrow keys, and the statics follow; what is dragged is kept by a form.

let dragged = null;
let asking = false;
let wanted = null;

function place(svg, event) {
  const box = svg.getBoundingClientRect();
  const unit = svg.viewBox.baseVal.width / box.width;
  return { u: (event.clientX - box.left) * unit, v: (event.clientY - box.top) * unit };
}

function toVehicle(svg, at) {
  const scale = Number(svg.dataset.scale);
  return { x: -(at.u - Number(svg.dataset.left)) / scale, y: (at.v - Number(svg.dataset.top)) / scale };
}

async function ask() {
  if (asking || !wanted) return;
  asking = true;
  const mine = wanted;
  wanted = null;
  try {
    const answer = await fetch(mine, { headers: { "hx-request": "true" } });
    if (answer.ok) {
      const part = document.getElementById("will-hold");
      const focused = document.activeElement && document.activeElement.dataset ? document.activeElement.dataset.tower : null;
      part.outerHTML = await answer.text();
      if (focused) document.querySelector(`[data-tower="${CSS.escape(focused)}"]`)?.focus();
    }
  } finally {
    asking = false;
    ask();
  }
}

function tryAt(name, at, height) {
  const part = document.getElementById("will-hold");
  const form = document.getElementById("keep-tower");
  const query = new URLSearchParams({ tower: name, x: at.x.toFixed(0), y: at.y.toFixed(0) });
  if (height) query.set("height", height);
  wanted = `${part.dataset.try}&${query}`;
  ask();
  if (!form) return;
  form.hidden = false;
  form.elements.tower.value = name;
  form.elements.x.value = at.x.toFixed(0);
  form.elements.y.value = at.y.toFixed(0);
  document.getElementById("tower-words").textContent =
    `${name}: ${at.x.toFixed(0)} mm along, ${Math.abs(at.y).toFixed(0)} mm ${at.y < 0 ? "right" : "left"}`;
}

document.addEventListener("pointerdown", (event) => {
  const tower = event.target.closest("[data-tower]");
  if (!tower) return;
  dragged = tower.dataset.tower;
  event.preventDefault();
});
document.addEventListener("pointermove", (event) => {
  if (!dragged) return;
  const svg = document.querySelector("#will-hold svg");
  tryAt(dragged, toVehicle(svg, place(svg, event)));
});
document.addEventListener("pointerup", () => {
  dragged = null;
});
document.addEventListener("keydown", (event) => {
  const tower = event.target.closest && event.target.closest("[data-tower]");
  const step = { ArrowLeft: [50, 0], ArrowRight: [-50, 0], ArrowUp: [0, -50], ArrowDown: [0, 50] }[event.key];
  if (!tower || !step) return;
  event.preventDefault();
  const svg = document.querySelector("#will-hold svg");
  const box = tower.querySelector(".grip");
  const at = toVehicle(svg, { u: Number(box.getAttribute("cx")), v: Number(box.getAttribute("cy")) });
  tryAt(tower.dataset.tower, { x: at.x + step[0], y: at.y + step[1] });
});
document.addEventListener("input", (event) => {
  if (event.target.id !== "try-height") return;
  const form = document.getElementById("keep-tower");
  tryAt(form.elements.tower.value, { x: Number(form.elements.x.value), y: Number(form.elements.y.value) }, event.target.value);
});
