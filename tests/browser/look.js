// What of a page cannot be seen, read or touched as it should, as a list of words; empty where nothing is wrong.
async () => {
  await document.fonts.ready;
  const LEAST_TYPE = 11.95, LEAST_TARGET = 43.5, SLACK = 1;
  const found = [];
  const words = (element) => element.textContent.trim().replace(/\s+/g, " ").slice(0, 28);
  const shown = (element) => {
    const box = element.getBoundingClientRect();
    const style = getComputedStyle(element);
    if (!box.width || !box.height || style.visibility === "hidden" || style.clip === "rect(0px, 0px, 0px, 0px)") return false;
    return !element.closest("[hidden], .skip, .visually-hidden, details:not([open]) > *:not(summary)");
  };
  const named = (element) => `${element.tagName.toLowerCase()}.${element.getAttribute("class") || element.name || element.parentElement.className}`;

  const wide = document.documentElement.scrollWidth;
  if (wide > document.documentElement.clientWidth + SLACK) found.push(`the page is ${wide} px wide`);

  for (const svg of document.querySelectorAll("svg")) {
    if (!shown(svg)) continue;
    const frame = svg.getBoundingClientRect(), view = svg.viewBox.baseVal;
    const scale = view && view.width ? Math.min(frame.width / view.width, frame.height / view.height) : 1;
    const boxes = [];
    for (const text of svg.querySelectorAll("text")) {
      const style = getComputedStyle(text);
      if (!text.textContent.trim() || style.display === "none" || style.visibility === "hidden") continue;
      const size = parseFloat(style.fontSize) * scale, box = text.getBoundingClientRect();
      if (size < LEAST_TYPE) found.push(`svg.${svg.getAttribute("class")}: “${words(text)}” is ${size.toFixed(1)} px`);
      // Ink, not line: what stands above and below the letters is left out.
      if (box.width) boxes.push({ text, left: box.left, right: box.right, top: box.top + 0.15 * box.height, bottom: box.bottom - 0.2 * box.height });
    }
    boxes.forEach((a, index) => {
      for (const b of boxes.slice(index + 1)) {
        const across = Math.min(a.right, b.right) - Math.max(a.left, b.left);
        const down = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
        if (across > SLACK && down > SLACK) found.push(`svg.${svg.getAttribute("class")}: “${words(a.text)}” lies on “${words(b.text)}”`);
      }
      const out = a.left < frame.left - SLACK || a.right > frame.right + SLACK || a.top < frame.top - SLACK || a.bottom > frame.bottom + SLACK;
      if (out && getComputedStyle(svg).overflow !== "visible") found.push(`svg.${svg.getAttribute("class")}: “${words(a.text)}” is cut`);
    });
  }

  const lying = [], range = document.createRange();
  const stays = new Map(), stuck = (element) => {
    if (!element || element === document.body) return false;
    if (!stays.has(element)) stays.set(element, ["sticky", "fixed"].includes(getComputedStyle(element).position) || stuck(element.parentElement));
    return stays.get(element);
  };
  const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (texts.nextNode()) {
    const element = texts.currentNode.parentElement;
    if (!texts.currentNode.textContent.trim() || !element || element.closest("svg, script, style") || !shown(element)) continue;
    const size = parseFloat(getComputedStyle(element).fontSize);
    if (size < LEAST_TYPE) found.push(`${named(element)}: “${words(element)}” is ${size.toFixed(1)} px`);
    // What stays in the window while the page goes by under it may lie on it; what slides within a box is seen when it is slid to.
    if (stuck(element) || element.closest("option, .scroll, .skip")) continue;
    range.selectNodeContents(texts.currentNode);
    for (const box of range.getClientRects()) {
      const ink = Math.min(box.height, size);
      const middle = (box.top + box.bottom) / 2;
      lying.push({ element, left: box.left, right: box.right, top: middle - 0.35 * ink, bottom: middle + 0.35 * ink });
    }
  }
  lying.sort((a, b) => a.top - b.top);
  lying.forEach((a, index) => {
    for (const b of lying.slice(index + 1)) {
      if (b.top > a.bottom - SLACK) break;
      if (Math.min(a.right, b.right) - Math.max(a.left, b.left) > SLACK && Math.min(a.bottom, b.bottom) - b.top > SLACK)
        found.push(`${named(a.element)}: “${words(a.element)}” lies on “${words(b.element)}”`);
    }
  });

  for (const element of document.querySelectorAll("body *")) {
    if (element.closest("svg") || element.tagName === "TEXTAREA" || !shown(element)) continue;
    const style = getComputedStyle(element);
    if (element.scrollWidth <= element.clientWidth + SLACK || !element.clientWidth || style.display === "inline") continue;
    if (["hidden", "clip"].includes(style.overflowX) || element.tagName === "INPUT")
      found.push(`${named(element)} is clipped: ${element.scrollWidth} px in ${element.clientWidth}, “${element.value || words(element)}”`);
    else if (["auto", "scroll"].includes(style.overflowX) && !element.parentElement.querySelector(".slides-words"))
      found.push(`${named(element)} slides sideways and does not say so`);
  }

  for (const element of document.querySelectorAll("a[href], button, input:not([type=hidden]), select, summary")) {
    if (element.closest("svg") || !shown(element)) continue;
    const label = element.matches("[type=checkbox], [type=radio]") && element.closest("label");
    const box = (label || element).getBoundingClientRect();
    if (box.height >= LEAST_TARGET && box.width >= LEAST_TARGET) continue;
    // A link within a sentence is as high as its line: what it leads to is reached elsewhere too (WCAG 2.5.8, inline).
    const sentence = element.closest("p, li, dd, small, figcaption");
    const inline = element.tagName === "A" && getComputedStyle(element).display === "inline";
    if (inline && sentence && sentence.textContent.trim().length > element.textContent.trim().length + 12) continue;
    found.push(`${named(element)} “${words(element)}” is ${Math.round(box.width)} × ${Math.round(box.height)} px to touch`);
  }
  return [...new Set(found)];
}
