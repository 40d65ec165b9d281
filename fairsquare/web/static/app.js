// What the pages do besides htmx: the call line that forgets nothing, the drawing's slider and zoom, and the keys.
"use strict";

const RETRY_MS = 2500;
const LARGEST_SLIDER = 50;

// ---- the call line: a call goes into a queue kept in the browser, is sent in order, and leaves it when it was recorded ----
// So nothing is lost when one calls faster than the server answers, when the line drops, or when the database is away; and
// each call has a key of its own, so that what is sent twice is recorded once.

const keptName = () => `kept:${location.pathname}`;
const readKept = () => {
  try {
    return JSON.parse(localStorage.getItem(keptName()) || "[]");
  } catch {
    return [];
  }
};
const writeKept = (kept) => localStorage.setItem(keptName(), JSON.stringify(kept));
const withoutKept = (key) => writeKept(readKept().filter((one) => one.values.request_key !== key));
const PARTS = ["hold-strip", "picture", "head-words", "head-more", "board-state"];
let sending = false;

function newKey() {
  const bytes = crypto.getRandomValues(new Uint8Array(18));
  return btoa(String.fromCharCode(...bytes)).replace(/[+/=]/g, "x");
}

function lineIs(words) {
  const line = document.getElementById("line");
  if (!line) return;
  line.hidden = !words;
  line.textContent = words;
}

function showKept(waitingToo) {
  const place = document.getElementById("kept");
  if (!place) return;
  const kept = readKept().filter((one) => waitingToo || one.refused);
  place.hidden = kept.length === 0;
  if (!kept.length) return place.replaceChildren();
  const head = document.createElement("p");
  head.textContent = `${kept.length} called and kept here, not recorded:`;
  const list = document.createElement("ul");
  for (const one of kept) {
    const item = document.createElement("li");
    item.textContent = one.refused ? `${one.values.call}: ${one.refused} ` : one.values.call;
    if (one.refused) item.append(backOnTheLine(one));
    list.append(item);
  }
  return place.replaceChildren(head, list);
}

function backOnTheLine(one) {
  const button = document.createElement("button");
  button.type = "button";
  button.className = "quiet";
  button.textContent = "put it back on the call line";
  button.addEventListener("click", () => {
    withoutKept(one.values.request_key);
    showKept(true);
    putOnTheLine(one.values.call);
  });
  return button;
}

function putOnTheLine(call) {
  const input = document.getElementById("call");
  if (!input) return;
  input.value = call;
  input.focus();
  input.dispatchEvent(new Event("input", { bubbles: true }));
}

function isUnderstood(words) {
  const place = document.getElementById("understood");
  if (!place) return;
  const wrong = document.createElement("span");
  wrong.className = "wrong";
  wrong.setAttribute("role", "alert");
  wrong.textContent = words;
  place.replaceChildren(wrong);
}

document.addEventListener("submit", (event) => {
  const form = event.target;
  const asked = form.dataset.confirm;
  if (asked && !window.confirm(asked)) event.preventDefault();
  if (!form.matches("form[data-call]")) return;
  event.preventDefault();
  const input = form.querySelector("[name=call]");
  if (!input.value.trim()) return;
  const values = Object.fromEntries(new FormData(form).entries());
  writeKept([...readKept(), { url: form.getAttribute("action"), called: Date.now(), values: { ...values, csrf: "" } }]);
  form.querySelector("[name=request_key]").value = newKey();
  const replaces = form.querySelector("[name=replaces]");
  if (replaces) replaces.value = "";
  input.value = "";
  document.getElementById("understood").replaceChildren();
  sendKept();
});

async function sendKept() {
  if (sending) return;
  sending = true;
  let stuck = false;
  try {
    for (let one = nextKept(); one && !stuck; one = nextKept()) stuck = !(await sendOne(one));
    if (!stuck) lineIs("");
  } catch {
    stuck = true;
    lineIs("No connection. What you call is kept on this page and sent when the line is back.");
  } finally {
    sending = false;
    showKept(stuck);
  }
}
const nextKept = () => readKept().find((one) => !one.refused);

// Send one call; return whether the next may follow.
async function sendOne(one) {
  const form = document.querySelector("form[data-call]");
  if (!form) return false;
  const csrf = form.querySelector("[name=csrf]").value;
  const answer = await fetch(one.url, {
    method: "POST",
    headers: { "HX-Request": "true", "X-CSRF-Token": csrf },
    body: new URLSearchParams({ ...one.values, csrf, called_ago_ms: String(Math.max(0, Date.now() - one.called)) }),
  });
  if (answer.status >= 500) {
    lineIs("The database does not answer just now. What you call is kept on this page and sent again by itself.");
    return false;
  }
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const said = page.querySelector(".understood .wrong, .wrong");
  if (answer.status === 401 || answer.status === 403 || !page.getElementById("board-or-page")) {
    lineIs(said ? said.textContent.trim() : "Sign in again in another tab: what was called is kept here.");
    return false;
  }
  if (answer.ok) {
    withoutKept(one.values.request_key);
    showParts(page);
    return true;
  }
  refuse(one, said ? said.textContent.trim().slice(0, 300) : "it was refused");
  return true;
}

// A refused call goes back on the call line, or on the list beside it when the next one is being called already.
function refuse(one, words) {
  const input = document.getElementById("call");
  if (input && !input.value) {
    withoutKept(one.values.request_key);
    input.value = one.values.call;
    isUnderstood(words);
    return;
  }
  writeKept(readKept().map((other) => (other.values.request_key === one.values.request_key ? { ...other, refused: words } : other)));
}

function showParts(page) {
  for (const id of PARTS) {
    const before = document.getElementById(id);
    const after = page.getElementById(id);
    if (!before || !after || (id === "head-more" && page.getElementById("head-words"))) continue;
    before.replaceWith(after);
    htmx.process(after);
  }
  prepareDrawings();
}

window.addEventListener("offline", () => lineIs("No connection. What you call is kept on this page and sent when the line is back."));
window.addEventListener("online", sendKept);
setInterval(() => nextKept() && sendKept(), RETRY_MS);
document.addEventListener("htmx:afterSettle", () => prepareDrawings());

document.addEventListener("click", (event) => {
  const put = event.target.closest("[data-put]");
  if (put) putOnTheLine(put.dataset.put);
  if (event.target.closest("[data-print]")) window.print();
  const correct = event.target.closest("[data-correct]");
  if (!correct) return;
  const form = document.querySelector("form[data-call]");
  form.querySelector("[name=replaces]").value = correct.dataset.correct;
  const input = form.querySelector("[name=call]");
  input.value = correct.dataset.said;
  input.focus();
  input.select();
});

// ---- forms: one that could not be recorded is sent again by itself; one that is sent without a line is kept here until it is back ----

const FORMS = "kept forms";
const readForms = () => {
  try {
    return JSON.parse(localStorage.getItem(FORMS) || "[]");
  } catch {
    return [];
  }
};
const writeForms = (forms) => localStorage.setItem(FORMS, JSON.stringify(forms));
const OFFLINE = "No connection. What you sent is kept in this browser, and sent when the line is back.";
let sendingForms = false;

document.addEventListener(
  "submit",
  (event) => {
    const form = event.target;
    const keeps = form.method === "post" && form.querySelector("[name=request_key]") && !form.matches("[data-call], [hx-post]");
    if (navigator.onLine || !keeps || form.querySelector("input[type=file]")) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    const values = [...new FormData(form, event.submitter).entries()];
    writeForms([...readForms(), { url: form.getAttribute("action"), page: location.pathname, who: whoIsHere(), values }]);
    form.querySelector("[name=request_key]").value = newKey();
    lineIs(OFFLINE);
  },
  true,
);

// What was refused afterwards stands on the page that it was sent from, with all that was typed, until somebody puts it away.
function showRefusedForms() {
  document.querySelectorAll(".refused-form").forEach((one) => one.remove());
  const here = readForms().filter((one) => one.refused && one.who === whoIsHere() && one.page === location.pathname);
  for (const one of here) {
    const place = document.createElement("section");
    place.className = "paper refused-form";
    place.setAttribute("role", "alert");
    const words = document.createElement("p");
    words.className = "wrong";
    words.textContent = `Sent without a connection, and not recorded: ${one.refused}`;
    const typed = document.createElement("p");
    const hidden = ["csrf", "request_key", "version", "back"];
    typed.textContent = one.values.filter(([name, value]) => value.trim() && !hidden.includes(name)).map(([, value]) => value).join(" · ");
    const away = document.createElement("button");
    away.type = "button";
    away.className = "btn btn-outline-secondary";
    away.textContent = "Put it away";
    away.addEventListener("click", () => {
      writeForms(readForms().filter((other) => JSON.stringify(other) !== JSON.stringify(one)));
      showRefusedForms();
    });
    place.append(words, typed, away);
    document.querySelector("#desk > .head")?.after(place);
  }
}

const whoIsHere = () => document.querySelector(".who strong")?.textContent || "";

// Send what is kept, oldest first, each once and only as whoever sent it; what is refused is said and stays to be looked at.
async function sendForms() {
  if (sendingForms || !navigator.onLine) return;
  const own = readForms().filter((one) => one.who === whoIsHere() && !one.refused);
  if (!own.length) return;
  sendingForms = true;
  const csrf = JSON.parse(document.body.getAttribute("hx-headers") || "{}")["X-CSRF-Token"];
  const keyOf = (one) => one.values.find(([name]) => name === "request_key")[1];
  let here = false;
  try {
    for (const one of own) {
      const body = new URLSearchParams(one.values.map(([name, value]) => [name, name === "csrf" ? csrf : value]));
      const answer = await fetch(one.url, { method: "POST", headers: { "X-CSRF-Token": csrf }, body });
      if (answer.status >= 500) return lineIs("The database does not answer just now. What you sent is kept in this browser.");
      const said = new DOMParser().parseFromString(await answer.text(), "text/html").querySelector(".wrong, [role=alert]");
      const words = answer.ok ? "" : (said?.textContent.replace("✕", "").trim() || "it was refused").slice(0, 300);
      const others = readForms().filter((other) => keyOf(other) !== keyOf(one));
      writeForms(words ? [...others, { ...one, refused: words }] : others);
      if (words && one.page !== location.pathname) lineIs(`What you sent from ${one.page} was not recorded: look there.`);
      else if (words) lineIs("");
      else here = here || one.page === location.pathname;
    }
    showRefusedForms();
    if (here) location.reload();
    else if (!readForms().some((one) => one.refused)) lineIs("");
  } catch {
    lineIs(OFFLINE);
  } finally {
    sendingForms = false;
  }
}

window.addEventListener("online", sendForms);
setInterval(() => readForms().length && sendForms(), RETRY_MS);

document.addEventListener("DOMContentLoaded", () => {
  showRefusedForms();
  const again = document.querySelector("form[data-again]");
  if (!again) return;
  const asking = setInterval(async () => {
    const answer = await fetch("/readyz").catch(() => null);
    if (!answer?.ok) return;
    clearInterval(asking);
    again.submit();
  }, 1000);
});

// ---- live: the server says when something was recorded; what this page recorded itself is shown already ----

let live = null;
let heard = 0;
function listen() {
  const place = document.querySelector("[data-live]");
  if (!place || live || !window.EventSource) return;
  live = new EventSource(place.dataset.live);
  live.addEventListener("changed", (event) => {
    heard = Math.max(heard, Number(event.data));
    catchUp();
  });
}
function catchUp() {
  const place = document.querySelector("[data-revision]");
  if (place && heard > Number(place.dataset.revision) && !sending) htmx.trigger(document.body, "changed");
}
document.addEventListener("htmx:afterSettle", catchUp);
window.addEventListener("pagehide", () => {
  if (live) live.close();
  live = null;
});
window.addEventListener("pageshow", listen);

// ---- the spine: where one is stands in sight, however long it is ----

const spine = document.querySelector(".spine");
const here = document.querySelector(".stops li.at");
if (spine && here && spine.scrollHeight > spine.clientHeight) spine.scrollTop = here.offsetTop - spine.clientHeight / 2;

// ---- files: too large is said before it is sent; a file may be dropped ----

document.addEventListener("change", (event) => {
  const input = event.target;
  if (input.type !== "file" || !input.dataset.most || !input.files.length) return;
  const tooLarge = input.files[0].size > Number(input.dataset.most);
  input.setCustomValidity(tooLarge ? "This file is larger than 8 MB. A sheet of 400 points has some 40 kB." : "");
  if (tooLarge) input.reportValidity();
});
for (const kind of ["dragover", "dragleave", "drop"]) {
  document.addEventListener(kind, (event) => {
    const place = event.target.closest && event.target.closest("[data-drop]");
    if (!place) return;
    event.preventDefault();
    place.classList.toggle("over", kind === "dragover");
    if (kind === "drop" && event.dataTransfer.files.length) {
      const input = place.querySelector("input[type=file]");
      input.files = event.dataTransfer.files;
      input.dispatchEvent(new Event("change", { bubbles: true }));
    }
  });
}

// ---- the drawing: movement drawn larger, zoom, pan and fit ----

const HALF = 5.5;
const square = (x, y) => `M${x - HALF} ${y - HALF}h${2 * HALF}v${2 * HALF}h${-2 * HALF}z`;

// ---- drawings are laid out for the window: the server is told how wide it is, and asked again where that has changed ----
const SAME_PX = 24;
const tellWindow = () => {
  document.cookie = `window_px=${Math.round(innerWidth)}; path=/; max-age=31536000; samesite=lax`;
};
const laidOut = (root) => [...root.querySelectorAll("main svg[viewBox]:not([aria-hidden])")];

async function layOutAnew() {
  tellWindow();
  const made = Number(document.documentElement.dataset.window);
  const now = laidOut(document);
  if (!now.length || !made || Math.abs(made - innerWidth) <= SAME_PX) return;
  document.documentElement.dataset.window = Math.round(innerWidth);
  const answer = await fetch(location.href, { headers: { accept: "text/html" } }).catch(() => null);
  if (!answer || !answer.ok) return;
  const fresh = laidOut(new DOMParser().parseFromString(await answer.text(), "text/html"));
  if (fresh.length !== laidOut(document).length) return;
  laidOut(document).forEach((one, index) => one.replaceWith(document.importNode(fresh[index], true)));
  prepareDrawings();
}
let laying = 0;
window.addEventListener("resize", () => {
  clearTimeout(laying);
  laying = setTimeout(layOutAnew, 400);
});
tellWindow();
document.addEventListener("DOMContentLoaded", layOutAnew);


function drawMovement(svg, factor) {
  svg.dataset.factor = factor;
  for (const point of svg.querySelectorAll(".pt")) {
    const [x, y, dx, dy] = point.dataset.way.split(",").map(Number);
    const moved = [x + dx * factor, y + dy * factor];
    const mark = point.querySelector(".s-mark");
    const prism = point.querySelector(".s-prism");
    if (!point.classList.contains("off") && !point.classList.contains("close")) continue;
    const frame = mark.querySelector(".s-frame");
    frame.setAttribute("d", square(...moved));
    const half = mark.querySelector(".s-half");
    if (half) half.setAttribute("d", `M${moved[0] - HALF} ${moved[1] + HALF}h${2 * HALF}v${-2 * HALF}z`);
    if (prism) {
      let d = square(x, y);
      for (const sx of [-HALF, HALF]) for (const sy of [-HALF, HALF]) d += `M${x + sx} ${y + sy}L${moved[0] + sx} ${moved[1] + sy}`;
      prism.setAttribute("d", d);
    }
  }
  for (const ring of svg.querySelectorAll(".unsure")) {
    const [x, y, dx, dy] = ring.dataset.way.split(",").map(Number);
    const [cx, cy] = [x + dx * factor, y + dy * factor];
    const [long, short] = ring.dataset.radii.split(",").map((radius) => Number(radius) * factor);
    for (const [name, value] of Object.entries({ cx, cy, rx: long, ry: short })) ring.setAttribute(name, value);
    ring.setAttribute("transform", `rotate(${ring.dataset.angle} ${cx} ${cy})`);
  }
  for (const line of svg.querySelectorAll(".today")) {
    const ways = line.dataset.ways.split(" ").map((way) => way.split(",").map(Number));
    line.setAttribute("points", ways.map(([x, y, dx, dy]) => `${x + dx * factor},${y + dy * factor}`).join(" "));
  }
}

function whole(svg) {
  if (!svg.dataset.whole) svg.dataset.whole = svg.getAttribute("viewBox");
  return svg.dataset.whole.split(" ").map(Number);
}
const shown = (svg) => svg.getAttribute("viewBox").split(" ").map(Number);

function zoom(svg, by, about) {
  const [, , fullWidth, fullHeight] = whole(svg);
  const [x, y, width, height] = shown(svg);
  const newWidth = Math.min(fullWidth, Math.max(fullWidth / 12, width / by));
  const newHeight = (newWidth * fullHeight) / fullWidth;
  const at = about || [x + width / 2, y + height / 2];
  show(svg, at[0] - ((at[0] - x) * newWidth) / width, at[1] - ((at[1] - y) * newHeight) / height, newWidth, newHeight);
}
function show(svg, x, y, width, height) {
  const [fullX, fullY, fullWidth, fullHeight] = whole(svg);
  const left = Math.min(Math.max(x, fullX), fullX + fullWidth - width);
  const top = Math.min(Math.max(y, fullY), fullY + fullHeight - height);
  svg.setAttribute("viewBox", `${left} ${top} ${width} ${height}`);
}
function pan(svg, dx, dy) {
  const [x, y, width, height] = shown(svg);
  show(svg, x + dx * width, y + dy * height, width, height);
}
function fit(svg) {
  svg.setAttribute("viewBox", whole(svg).join(" "));
}
function placeOn(svg, event) {
  const box = svg.getBoundingClientRect();
  const [x, y, width, height] = shown(svg);
  return [x + ((event.clientX - box.left) / box.width) * width, y + ((event.clientY - box.top) / box.height) * height];
}

function prepareDrawings() {
  const remembered = sessionStorage.getItem("view:" + location.pathname + location.search);
  for (const svg of document.querySelectorAll("svg.structure")) {
    if (svg.dataset.ready) continue;
    svg.dataset.ready = "yes";
    whole(svg);
    if (remembered && svg.closest("[data-drawing]")) svg.setAttribute("viewBox", remembered);
    const fingers = new Map();
    let dragged = 0;
    svg.addEventListener("wheel", (event) => {
      event.preventDefault();
      zoom(svg, event.deltaY < 0 ? 1.2 : 1 / 1.2, placeOn(svg, event));
      remember(svg);
    }, { passive: false });
    svg.addEventListener("pointerdown", (event) => {
      fingers.set(event.pointerId, event);
      dragged = 0;
    });
    svg.addEventListener("pointermove", (event) => {
      const before = fingers.get(event.pointerId);
      if (!before) return;
      const box = svg.getBoundingClientRect();
      if (fingers.size === 2) {
        const other = [...fingers.entries()].find(([id]) => id !== event.pointerId)[1];
        const apart = (a) => Math.hypot(a.clientX - other.clientX, a.clientY - other.clientY);
        zoom(svg, apart(event) / Math.max(apart(before), 1), placeOn(svg, other));
        dragged += 10;
      } else {
        dragged += Math.abs(event.clientX - before.clientX) + Math.abs(event.clientY - before.clientY);
        pan(svg, -(event.clientX - before.clientX) / box.width, -(event.clientY - before.clientY) / box.height);
      }
      fingers.set(event.pointerId, event);
    });
    for (const kind of ["pointerup", "pointercancel", "pointerleave"]) {
      svg.addEventListener(kind, (event) => {
        fingers.delete(event.pointerId);
        remember(svg);
      });
    }
    svg.addEventListener("click", (event) => {
      if (dragged > 8) event.preventDefault();
    }, true);
    svg.addEventListener("dragstart", (event) => event.preventDefault());
  }
}
function remember(svg) {
  if (svg.closest("[data-drawing]")) sessionStorage.setItem("view:" + location.pathname + location.search, svg.getAttribute("viewBox"));
}

document.addEventListener("input", (event) => {
  if (!event.target.matches("[data-factor-slider]")) return;
  const factor = Math.min(Number(event.target.value), LARGEST_SLIDER);
  event.target.parentElement.querySelector("output").textContent = `×${factor}`;
  for (const svg of document.querySelectorAll("[data-drawing] svg.structure")) drawMovement(svg, factor);
  document.cookie = `factor=${factor}; path=/; max-age=31536000; samesite=lax`;
});
document.addEventListener("change", (event) => {
  if (event.target.matches("[data-factor-slider]") && document.querySelector(".gauge-row")) htmx.trigger(document.body, "changed");
});
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-zoom]");
  if (!button) return;
  const svg = button.closest("[data-drawing]").querySelector("svg.structure");
  if (button.dataset.zoom === "fit") fit(svg);
  else zoom(svg, button.dataset.zoom === "in" ? 1.4 : 1 / 1.4);
  remember(svg);
});

// ---- keys; single ones can be switched off on the page of keys (WCAG 2.1.4) ----

const keysAreOff = () => localStorage.getItem("single-keys") === "off";

function showKeysSwitch() {
  const button = document.querySelector("[data-keys-switch]");
  if (!button) return;
  button.setAttribute("aria-pressed", String(!keysAreOff()));
  button.textContent = keysAreOff() ? "Single keys are off: switch them on" : "Single keys are on: switch them off";
}
document.addEventListener("click", (event) => {
  if (!event.target.closest("[data-keys-switch]")) return;
  localStorage.setItem("single-keys", keysAreOff() ? "on" : "off");
  showKeysSwitch();
});

document.addEventListener("keydown", (event) => {
  const typing = event.target.closest("input, textarea, select");
  if (event.key === "Escape" && typing) typing.blur();
  if (typing || keysAreOff() || event.ctrlKey || event.metaKey || event.altKey) return;
  const line = document.querySelector(".call-input");
  const svg = document.querySelector("[data-drawing] svg.structure") || document.querySelector("svg.structure");
  const stops = [...document.querySelectorAll(".stops a")];
  const at = stops.findIndex((stop) => stop.hasAttribute("aria-current"));
  const deeds = {
    "/": () => line && line.focus(),
    "?": () => location.assign("/help"),
    g: () => location.assign("/"),
    "[": () => at > 0 && stops[at - 1].click(),
    "]": () => at >= 0 && at < stops.length - 1 && stops[at + 1].click(),
    "+": () => svg && zoom(svg, 1.4),
    "-": () => svg && zoom(svg, 1 / 1.4),
    0: () => svg && fit(svg),
  };
  if (svg && event.target.closest(".drawing-pane")) {
    deeds.ArrowLeft = () => pan(svg, -0.15, 0);
    deeds.ArrowRight = () => pan(svg, 0.15, 0);
    deeds.ArrowUp = () => pan(svg, 0, -0.15);
    deeds.ArrowDown = () => pan(svg, 0, 0.15);
  }
  if (deeds[event.key]) {
    event.preventDefault();
    deeds[event.key]();
  }
});

document.addEventListener("DOMContentLoaded", () => {
  prepareDrawings();
  showKeysSwitch();
  showKept(true);
  if (nextKept()) sendKept();
});

// ---- what moved as one piece, shown moving when it is asked for ----

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-move]");
  if (!button) return;
  for (const movement of button.closest("[data-moving]").querySelectorAll("animate")) movement.beginElement();
});

// ---- slow work says that it goes on; the server finishes it even when the page is left ----

document.addEventListener("submit", (event) => {
  const words = event.target.dataset.busy;
  if (!words || event.defaultPrevented) return;
  setTimeout(() => {
    for (const button of event.target.querySelectorAll("button")) button.disabled = true;
    const told = document.createElement("p");
    told.className = "busy-words";
    told.setAttribute("role", "status");
    told.textContent = `${words} …`;
    event.target.append(told);
  });
});

// ---- what is wider than its place says that it slides sideways ----

function saySlides() {
  for (const place of document.querySelectorAll(".scroll")) {
    const slides = place.scrollWidth > place.clientWidth + 1;
    const told = place.previousElementSibling?.classList.contains("slides-words") ? place.previousElementSibling : null;
    if (!slides) {
      told?.remove();
    } else if (!told) {
      const words = document.createElement("p");
      words.className = "slides-words";
      words.textContent = "↔ wider than the screen: slide it sideways, or hold Shift and turn the wheel";
      place.before(words);
    }
  }
}

document.addEventListener("DOMContentLoaded", saySlides);
document.addEventListener("htmx:afterSettle", saySlides);
addEventListener("resize", saySlides);
