// The strip: a cut is dragged along its layer, or moved with the arrow keys, and what it breaks and costs follows; the fields of the form
// hold where it is, and are what is kept.

let dragged = null;
let asking = false;
let wanted = null;

const field = (layer) => document.querySelector(`#cut-form [data-cut="${CSS.escape(layer)}"]`);

function station(svg, event) {
  const box = svg.getBoundingClientRect();
  const u = (event.clientX - box.left) * (svg.viewBox.baseVal.width / box.width);
  return Number(svg.dataset.low) + (u - Number(svg.dataset.left)) / Number(svg.dataset.perMm);
}

async function ask() {
  if (asking || !wanted) return;
  asking = true;
  const mine = wanted;
  wanted = null;
  try {
    const answer = await fetch(mine, { headers: { "hx-request": "true" } });
    if (answer.ok) {
      const text = await answer.text();
      if (mine.includes("words=1")) {
        // What a finger holds on to must stay: the drawing is exchanged when it lets go, the words at once.
        document.querySelector("#strip .strip-words").outerHTML = text;
      } else {
        const focused = document.activeElement?.dataset?.layer;
        document.getElementById("strip").outerHTML = text;
        if (focused) document.querySelector(`#strip [data-layer="${CSS.escape(focused)}"]`)?.focus();
      }
    }
  } finally {
    asking = false;
    ask();
  }
}

function move(handle, mm) {
  const low = Number(handle.getAttribute("aria-valuemin"));
  const high = Number(handle.getAttribute("aria-valuemax"));
  const input = field(handle.dataset.layer);
  if (!input) return;
  input.value = Math.round(Math.min(high, Math.max(low, mm)) * 2) / 2;
  if (dragged) {
    const perMm = Number(handle.ownerSVGElement.dataset.perMm);
    handle.setAttribute("transform", `translate(${(Number(input.value) - Number(handle.dataset.at)) * perMm} 0)`);
    handle.querySelector(".cut-words").textContent = input.value;
  }
  tryIt();
}

function tryIt() {
  const query = new URLSearchParams();
  document.querySelectorAll("#cut-form [data-cut]").forEach((input) => query.set(input.name, input.value));
  if (dragged) query.set("words", "1");
  wanted = `${document.getElementById("strip").dataset.try}?${query}`;
  ask();
}

document.addEventListener("pointerdown", (event) => {
  const handle = event.target.closest("#strip [data-layer]");
  if (!handle) return;
  dragged = handle.dataset.layer;
  event.preventDefault();
  handle.focus();
});
document.addEventListener("pointermove", (event) => {
  if (!dragged) return;
  const svg = document.querySelector("#strip svg");
  move(svg.querySelector(`[data-layer="${CSS.escape(dragged)}"]`), station(svg, event));
});
document.addEventListener("touchmove", (event) => dragged && event.preventDefault(), { passive: false });
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    if (!dragged) return;
    dragged = null;
    tryIt();
  });
}
document.addEventListener("keydown", (event) => {
  const handle = event.target.closest && event.target.closest("#strip [data-layer]");
  const step = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: 1, ArrowDown: -1, PageUp: 10, PageDown: -10 }[event.key];
  if (!handle || !step) return;
  event.preventDefault();
  move(handle, Number(field(handle.dataset.layer).value) + step * (event.shiftKey ? 10 : 1));
});
document.addEventListener("change", (event) => {
  if (event.target.matches("#cut-form [data-cut]")) tryIt();
});
