// Photos: chosen or dropped, kept in the browser until they are recorded, sent one after another with a key each, so that nothing is
// lost when the tablet sleeps, the line drops or the page is left; what is refused says why, and the others go on.
"use strict";

(() => {
  const STORE = "photos";
  const AGAIN_MS = 4000;
  const LARGEST = 64 * 1024 * 1024;
  let database = null;
  let sendingPhotos = false;
  let taking = 0;
  let done = 0;
  const refused = [];

  const open = () =>
    (database ??= new Promise((resolve, reject) => {
      const asked = indexedDB.open("fair-square", 1);
      asked.onupgradeneeded = () => asked.result.createObjectStore(STORE, { keyPath: "key" });
      asked.onsuccess = () => resolve(asked.result);
      asked.onerror = () => reject(asked.error);
    }));
  const run = async (mode, work) => {
    const store = (await open()).transaction(STORE, mode).objectStore(STORE);
    const asked = work(store);
    return new Promise((resolve, reject) => {
      asked.onsuccess = () => resolve(asked.result);
      asked.onerror = () => reject(asked.error);
    });
  };
  const waiting = async () => (await run("readonly", (store) => store.getAll())).sort((a, b) => a.order - b.order);

  function tell(left, share = 0) {
    const place = document.getElementById("photo-progress");
    if (!place) return;
    place.hidden = !left && !refused.length;
    const parts = [];
    if (left) {
      const bar = document.createElement("progress");
      bar.max = done + left;
      bar.value = done + share;
      const words = document.createElement("p");
      words.textContent = `${done} of ${done + left} photos recorded`;
      parts.push(words, bar);
    }
    for (const one of refused) {
      const words = document.createElement("p");
      words.className = "wrong";
      words.textContent = one;
      parts.push(words);
    }
    place.replaceChildren(...parts);
  }

  async function take(files, url, about, aboutId) {
    if (!sendingPhotos) done = 0;
    refused.length = 0;
    let order = Date.now();
    taking += 1;
    try {
      for (const file of files) {
        if (file.size > LARGEST) {
          refused.push(`${file.name} is larger than 64 MB: send it smaller.`);
          continue;
        }
        const one = { key: newKey(), order: order++, url, about, aboutId: aboutId || "", name: file.name, file };
        await run("readwrite", (store) => store.put(one));
      }
    } finally {
      taking -= 1;
    }
    send();
  }

  // Until every photo is kept in the browser, who leaves the page is asked first: what is not kept yet would be lost.
  window.addEventListener("beforeunload", (event) => taking && event.preventDefault());

  function post(one, csrf, onProgress) {
    const form = new FormData();
    for (const [name, value] of Object.entries({ csrf, request_key: one.key, about: one.about, about_id: one.aboutId })) form.append(name, value);
    form.append("photo", one.file, one.name);
    return new Promise((resolve, reject) => {
      const asked = new XMLHttpRequest();
      asked.open("POST", one.url);
      asked.setRequestHeader("Accept", "application/json");
      asked.setRequestHeader("X-CSRF-Token", csrf);
      asked.upload.onprogress = (event) => event.lengthComputable && onProgress(event.loaded / event.total);
      asked.onload = () => resolve(asked);
      asked.onerror = asked.ontimeout = () => reject(new Error("no connection"));
      asked.send(form);
    });
  }

  async function send() {
    if (sendingPhotos) return;
    sendingPhotos = true;
    let kept = false;
    try {
      for (let left = await waiting(); left.length; left = await waiting()) {
        const [one] = left;
        const csrf = document.querySelector("[name=csrf]")?.value;
        if (!csrf) break;
        tell(left.length);
        const answer = await post(one, csrf, (share) => tell(left.length, share));
        if ([401, 408, 429].includes(answer.status) || answer.status >= 500 || (answer.status === 403 && answer.responseText.includes("stale-form"))) break;
        await run("readwrite", (store) => store.delete(one.key));
        if (answer.status === 201) {
          done += 1;
          kept = true;
        } else {
          refused.push(why(one, answer));
        }
        if (kept && done % 10 === 0) htmx.trigger(document.body, "photos-kept");
      }
      lineIs("");
    } catch {
      lineIs("No connection. Photos are kept on this tablet and sent when the line is back.");
    } finally {
      sendingPhotos = false;
      tell((await waiting()).length);
      if (kept) htmx.trigger(document.body, "photos-kept");
    }
  }

  function why(one, answer) {
    try {
      return JSON.parse(answer.responseText).title;
    } catch {
      return `${one.name} was refused.`;
    }
  }

  document.addEventListener("change", (event) => {
    const input = event.target;
    if (!input.matches("[data-photos]") || !input.files.length) return;
    take([...input.files], input.dataset.photos, input.dataset.about, input.dataset.aboutId);
    input.value = "";
  });
  for (const kind of ["dragover", "dragleave", "drop"]) {
    document.addEventListener(kind, (event) => {
      const place = event.target.closest && event.target.closest("[data-drop-photos]");
      if (!place) return;
      event.preventDefault();
      place.classList.toggle("over", kind === "dragover");
      const input = place.querySelector("[data-photos]");
      if (kind === "drop" && input && event.dataTransfer.files.length) {
        take([...event.dataTransfer.files], input.dataset.photos, input.dataset.about, input.dataset.aboutId);
      }
    });
  }
  window.addEventListener("online", send);
  document.addEventListener("visibilitychange", () => !document.hidden && send());
  setInterval(send, AGAIN_MS);
  send();

  // ---- where it is: a touch on the vehicle ----

  document.addEventListener("click", (event) => {
    const svg = event.target.closest("svg.walk");
    if (!svg || event.target.closest("a")) return;
    const field = document.querySelector("form[data-call] [name=xy]");
    if (!field) return;
    const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
    const { front, half, scale, left, top } = svg.dataset;
    field.value = `${Math.round(front - (at.x - left) / scale)},${Math.round((at.y - top) / scale - half)}`;
    const here = svg.querySelector(".w-here");
    here.removeAttribute("hidden");
    here.setAttribute("d", `M${at.x - 12} ${at.y}h24M${at.x} ${at.y - 12}v24`);
    const line = document.getElementById("call");
    line.focus();
    line.dispatchEvent(new Event("input", { bubbles: true }));
  });
  document.addEventListener("submit", (event) => {
    if (!event.target.matches("form[data-call=walk]")) return;
    event.target.querySelector("[name=xy]").value = "";
    document.querySelector(".w-here")?.setAttribute("hidden", "");
  });
})();
