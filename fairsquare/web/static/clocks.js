// Clocks: what is left comes from the server and is counted down by the page's own steady time, so that neither a reload, nor a
// restart, nor a tablet whose time is wrong changes it. Over it, a sound, and the word.

(() => {
  const seen = new Map();
  const rung = new Set(JSON.parse(sessionStorage.getItem("rung") || "[]"));
  let sound = null;

  const shown = (seconds) => {
    const t = Math.floor(Math.abs(seconds));
    const two = (n) => String(n).padStart(2, "0");
    const words = t >= 3600 ? `${Math.floor(t / 3600)}:${two(Math.floor(t / 60) % 60)}:${two(t % 60)}` : `${Math.floor(t / 60)}:${two(t % 60)}`;
    return seconds < 0 ? `+${words}` : words;
  };

  function ring() {
    if (!sound || sound.state !== "running") return;
    for (const [at, hertz] of [[0, 660], [0.28, 880], [0.56, 660]]) {
      const tone = sound.createOscillator();
      const loud = sound.createGain();
      tone.frequency.value = hertz;
      loud.gain.value = 0.25;
      tone.connect(loud).connect(sound.destination);
      tone.start(sound.currentTime + at);
      tone.stop(sound.currentTime + at + 0.22);
    }
  }

  // Browsers let a page sound only once it was touched.
  document.addEventListener("pointerdown", () => {
    sound ??= new AudioContext();
    sound.resume();
    document.querySelector("[data-sound]")?.replaceChildren("Sound is on.");
  });
  document.addEventListener("keydown", () => {
    sound ??= new AudioContext();
    sound.resume();
  });

  function count() {
    const now = performance.now();
    for (const clock of document.querySelectorAll("[data-clock]")) {
      const id = `${clock.dataset.clock} ${clock.dataset.left ?? clock.dataset.up}`;
      if (!seen.has(id)) seen.set(id, now);
      if (clock.dataset.up) {
        clock.querySelector("[data-count]").textContent = shown(Number(clock.dataset.up) + (now - seen.get(id)) / 1000);
        continue;
      }
      const left = Number(clock.dataset.left) - (now - seen.get(id)) / 1000;
      clock.querySelector("[data-count]").textContent = shown(left);
      clock.classList.toggle("over", left <= 0);
      clock.classList.toggle("soon", left > 0 && left < 180);
      const state = clock.querySelector("[data-state]");
      if (state && left <= 0) state.textContent = "over";
      const name = clock.dataset.clock;
      if (left <= 0 && !rung.has(name)) {
        rung.add(name);
        sessionStorage.setItem("rung", JSON.stringify([...rung].slice(-50)));
        document.body.dataset.rang = name;
        ring();
      }
    }
  }
  // A page without htmx, as the board, fetches the strip by itself.
  async function fetchStrip() {
    const place = document.getElementById("clocks");
    if (!place || window.htmx) return;
    const answer = await fetch("/clocks/strip").catch(() => null);
    if (answer && answer.ok) place.outerHTML = await answer.text();
  }
  setInterval(fetchStrip, 15000);
  window.addEventListener("load", fetchStrip);

  setInterval(count, 250);
  document.addEventListener("htmx:afterSettle", count);
  count();
})();
