// What a person would see wrong on the page as it stands: what is cut off, scrolls where it should not, or overprints.
const wrong = [];
const name = (element) => {
  const words = (element.getAttribute?.("aria-label") || element.textContent || "").replace(/\s+/g, " ").trim().slice(0, 60);
  return `<${element.tagName.toLowerCase()} ${String(element.className?.baseVal ?? element.className ?? "").slice(0, 40)}> “${words}”`;
};
const [wide, high] = [innerWidth, innerHeight];
const work = document.getElementById("work");
const dialog = document.querySelector("[role=dialog]");
if (document.documentElement.scrollWidth > wide) wrong.push(`the document is ${document.documentElement.scrollWidth} px wide`);
// Hidden or not, what hangs out below lets the whole frame be scrolled away by whatever brings an element into view.
if (document.documentElement.scrollHeight > high) wrong.push(`the document is ${document.documentElement.scrollHeight} px high`);
if (work && !dialog && work.scrollWidth > work.clientWidth + 1) wrong.push(`main is ${work.scrollWidth} px wide in ${work.clientWidth}`);
if (dialog && dialog.scrollWidth > dialog.clientWidth + 1) wrong.push(`the sheet is ${dialog.scrollWidth} px wide in ${dialog.clientWidth}`);
// These may: the work itself, a sheet, the rooms on a phone sideways, the panels at the side and the foot, what is typed into.
const MAY = "#work, [role=dialog], nav, aside, [aria-label^='Consequences'], textarea, select, details ul, details div, .map";
for (const element of document.querySelectorAll("body *")) {
  if (element.closest(MAY) && !element.parentElement?.closest("#work, [role=dialog]")) continue;
  const style = getComputedStyle(element);
  const down = ["auto", "scroll"].includes(style.overflowY) && element.scrollHeight > element.clientHeight + 1;
  const across = ["auto", "scroll"].includes(style.overflowX) && element.scrollWidth > element.clientWidth + 1;
  if ((down || across) && !element.matches(MAY)) wrong.push(`scrolls by itself: ${name(element)}`);
}
// Pieces of text as they are seen: clipped by whatever clips them, and not what is there for the ear alone.
const seen = [];
const clipped = new Map();
const clipsOf = (at) => {
  if (!at || at === document.body) return [];
  if (!clipped.has(at)) {
    const style = getComputedStyle(at);
    const clips = style.overflowX !== "visible" || style.overflowY !== "visible";
    clipped.set(at, clips ? [at.getBoundingClientRect(), ...clipsOf(at.parentElement)] : clipsOf(at.parentElement));
  }
  return clipped.get(at);
};
const walker = document.createTreeWalker(dialog ?? document.body, NodeFilter.SHOW_TEXT);
while (walker.nextNode()) {
  const node = walker.currentNode;
  const of = node.parentElement;
  if (!node.data.trim() || !of || of.closest("script, style, title, option, .sr-only, [data-seen=no]")) continue;
  if (!of.checkVisibility({ opacityProperty: true, visibilityProperty: true, contentVisibilityAuto: true })) continue;
  const range = document.createRange();
  range.selectNodeContents(node);
  const clips = clipsOf(of);
  for (const box of range.getClientRects()) {
    if (box.bottom < 0 || box.top > high) continue;
    let [left, top, right, bottom] = [box.left, box.top, box.right, box.bottom];
    for (const clip of clips) {
      left = Math.max(left, clip.left);
      right = Math.min(right, clip.right);
      top = Math.max(top, clip.top);
      bottom = Math.min(bottom, clip.bottom);
    }
    if (right - left < 2 || bottom - top < 4 || bottom < 0 || top > high) continue;
    if (right > wide + 1 || left < -1) wrong.push(`off the side: “${node.data.trim().slice(0, 50)}” to ${Math.round(right)} px`);
    seen.push({ left, top, right, bottom, words: node.data.trim(), of });
  }
}
const layer = (element) => element.closest("[role=dialog], header, nav, aside, thead, details[open] > :not(summary), .z-10, .z-20, .z-30") ?? document.body;
seen.sort((a, b) => a.top - b.top);
for (let n = 0; n < seen.length; n++) {
  const a = seen[n];
  for (let m = n + 1; m < seen.length && seen[m].top < a.bottom; m++) {
    const b = seen[m];
    if (a.of === b.of) continue;
    const across = Math.min(a.right, b.right) - Math.max(a.left, b.left);
    const down = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
    // A line's box is higher than its letters: only what reaches well into another overprints it.
    if (across > 3 && down > 0.4 * Math.min(a.bottom - a.top, b.bottom - b.top) && layer(a.of) === layer(b.of))
      wrong.push(`overprints: “${a.words.slice(0, 40)}” and “${b.words.slice(0, 40)}”`);
  }
}
return [...new Set(wrong)];
