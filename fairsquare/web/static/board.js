// The board: follows what is recorded, says when the instrument is quiet, and makes a stop heard. A form that is being filled in
// is left alone while readings come.

const board = document.body;
const part = () => document.getElementById("board-now");
let known = Number(part().querySelector("[data-revision]")?.dataset.revision || 0);
let lastReading = Date.now();
let lastRead = "";
let fetching = false;
let again = false;
let stopped = false;
let pressed = false; // a finger is on the board: what it is on is not swapped away under it
let leaving = false; // a form is on its way
let waiting = null;

async function refresh() {
  if (fetching) {
    again = true;
    return;
  }
  fetching = true;
  try {
    const answer = await fetch(board.dataset.now, { headers: { "hx-request": "true" } });
    if (answer.ok && answer.headers.get("content-type")?.startsWith("text/html")) show(await answer.text());
  } catch {
    // the line is down: the quiet line says so
  } finally {
    fetching = false;
    if (again) {
      again = false;
      refresh();
    }
  }
}

function show(html) {
  if (leaving) return;
  if (pressed) {
    waiting = html;
    return;
  }
  const next = document.createElement("div");
  next.innerHTML = html;
  const now = part().querySelector("[data-state]");
  const then = next.querySelector("[data-state]");
  const same = now && then && now.dataset.state === then.dataset.state && now.dataset.cycle === then.dataset.cycle;
  if (same && ["cautions", "read_free"].includes(now.dataset.state)) keepTyped(part(), next);
  else if (same) keepTicks(part(), next);
  const focused = document.activeElement?.getAttribute?.("name");
  const value = document.activeElement?.getAttribute?.("value");
  part().replaceChildren(...next.childNodes);
  if (focused) {
    const found = [...part().querySelectorAll(`[name="${CSS.escape(focused)}"]`)];
    (found.find((one) => one.getAttribute("value") === value) || found[0])?.focus();
  }
  heard();
}

function keepTyped(from, to) {
  for (const field of from.querySelectorAll("input:not([type=hidden]), select, textarea")) {
    const other = to.querySelector(`[name="${CSS.escape(field.name)}"]`);
    if (!other) continue;
    if (field.type === "checkbox") other.checked = field.checked;
    else if (field.value !== field.defaultValue || field === document.activeElement) other.value = field.value;
  }
}

function keepTicks(from, to) {
  for (const field of from.querySelectorAll("input[type=checkbox]")) {
    const other = to.querySelector(`[name="${CSS.escape(field.name)}"]`);
    if (other) other.checked = field.checked;
  }
}

function heard() {
  const reads = [...part().querySelectorAll("[data-read]")].map((one) => one.dataset.read).sort();
  const newest = reads[reads.length - 1] || "";
  if (newest !== lastRead) {
    lastRead = newest;
    lastReading = Date.now();
  }
  const stop = Boolean(part().querySelector("[data-stop]"));
  if (stop && !stopped) sound();
  stopped = stop;
}

function sound() {
  try {
    const audio = new AudioContext();
    for (const [at, pitch] of [[0, 880], [0.35, 660], [0.7, 880]]) {
      const tone = audio.createOscillator();
      tone.type = "square";
      tone.frequency.value = pitch;
      tone.connect(audio.destination);
      tone.start(audio.currentTime + at);
      tone.stop(audio.currentTime + at + 0.25);
    }
  } catch {
    // no sound here: the word and the shape stand
  }
}

function released() {
  setTimeout(() => {
    pressed = false;
    const html = waiting;
    waiting = null;
    if (html) show(html);
  });
}

part().addEventListener("pointerdown", () => (pressed = true));
window.addEventListener("pointerup", released);
window.addEventListener("pointercancel", released);
part().addEventListener("submit", () => (leaving = true));
window.addEventListener("pageshow", () => (leaving = false));

setInterval(() => {
  const loaded = part().querySelector("[data-loaded]");
  const quiet = (Date.now() - lastReading) / 1000;
  const line = document.getElementById("quiet");
  if (!loaded) lastReading = Date.now();
  line.hidden = !loaded || quiet < Number(board.dataset.quiet);
  if (!line.hidden) document.getElementById("quiet-s").textContent = quiet.toFixed(0);
}, 200);

const live = new EventSource(board.dataset.live);
live.addEventListener("changed", (event) => {
  if (Number(event.data) > known) {
    known = Number(event.data);
    refresh();
  }
});
setInterval(refresh, 1000);
window.addEventListener("pagehide", () => live.close());
heard();
