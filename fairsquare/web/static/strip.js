// The strip as it is typed: drawn anew after every change, and what is drawn may be taken hold of, whereupon the fields follow.

const GRAB = 12;
let held = null;
let drawing = false;
let again = false;

const input = (name) => document.querySelector(`#strip-form [name="${CSS.escape(name)}"]`);

function mm(svg, event) {
  const box = svg.getBoundingClientRect();
  return ((event.clientX - box.left) * (svg.viewBox.baseVal.width / box.width)) / Number(svg.dataset.perMm);
}

async function draw() {
  if (drawing || held) {
    again = true;
    return;
  }
  drawing = true;
  again = false;
  const form = document.getElementById("strip-form");
  try {
    const answer = await fetch(form.dataset.draw, {
      method: "POST",
      body: new URLSearchParams(new FormData(form)),
      headers: { "hx-request": "true" },
    });
    if (answer.ok && !held) document.getElementById("strip-preview").outerHTML = await answer.text();
  } finally {
    drawing = false;
    if (again && !held) draw();
  }
}

document.addEventListener("pointerdown", (event) => {
  const thing = event.target.closest("#strip-preview [data-from]");
  if (!thing) return;
  const [from, to] = [Number(thing.dataset.low), Number(thing.dataset.high)];
  const svg = thing.ownerSVGElement;
  const box = thing.getBoundingClientRect();
  const wide = box.width > 3 * GRAB;
  const part = wide && event.clientX - box.left < GRAB ? "from" : wide && box.right - event.clientX < GRAB ? "to" : "both";
  held = { svg, part, from, to, start: mm(svg, event), names: [thing.dataset.from, thing.dataset.to] };
  event.preventDefault();
});

document.addEventListener("pointermove", (event) => {
  if (!held) return;
  const by = Math.round((mm(held.svg, event) - held.start) * 2) / 2;
  const low = held.part === "to" ? held.from : Math.min(held.from + by, held.part === "from" ? held.to : Infinity);
  const high = held.part === "from" ? held.to : Math.max(held.to + by, held.part === "to" ? held.from : -Infinity);
  input(held.names[0]).value = low;
  input(held.names[1]).value = high;
  const perMm = Number(held.svg.dataset.perMm);
  const x = (at) => Number(held.svg.dataset.left) + (at - Number(held.svg.dataset.low)) * perMm;
  const scale = held.to > held.from ? (high - low) / (held.to - held.from) : 1;
  const shift = `translate(${x(low)} 0) scale(${Math.max(scale, 0.001)} 1) translate(${-x(held.from)} 0)`;
  held.svg.querySelectorAll(`[data-from="${CSS.escape(held.names[0])}"]`).forEach((one) => one.setAttribute("transform", shift));
});

document.addEventListener("touchmove", (event) => held && event.preventDefault(), { passive: false });
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    if (!held) return;
    held = null;
    draw();
  });
}
document.addEventListener("change", (event) => {
  if (event.target.closest("#strip-form")) draw();
});
