// The heat of a seam: the slider asks for the drawing at its moment, one at a time, the last that was wished.

let asking = false;
let wanted = null;

async function ask() {
  if (asking || !wanted) return;
  asking = true;
  const mine = wanted;
  wanted = null;
  try {
    const answer = await fetch(mine, { headers: { "hx-request": "true" } });
    const place = document.getElementById("seam-heat");
    if (answer.ok && place) place.outerHTML = await answer.text();
  } finally {
    asking = false;
    ask();
  }
}

document.addEventListener("input", (event) => {
  const slider = event.target.closest("[data-heat]");
  if (!slider) return;
  wanted = `${slider.dataset.heat}?t=${encodeURIComponent(slider.value)}`;
  ask();
});
