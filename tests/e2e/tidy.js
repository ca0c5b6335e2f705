// What a person would call untidy in a view: a page wider than its window, something to press that lies outside of it
// or below something else, and words that are cut off where no dots say so.
() => {
  const faults = [];
  const root = document.documentElement;
  if (root.scrollWidth > root.clientWidth) faults.push(`the page is ${root.scrollWidth} wide`);
  const words = (element) =>
    (element.getAttribute("aria-label") || element.textContent || element.tagName).trim().slice(0, 60);
  const clipped = (element, x, y) => {
    for (let outer = element.parentElement; outer; outer = outer.parentElement) {
      const { overflowX, overflowY } = getComputedStyle(outer);
      if (overflowX === "visible" && overflowY === "visible") continue;
      const box = outer.getBoundingClientRect();
      if (x < box.left + 2 || x > box.right - 2 || y < box.top + 2 || y > box.bottom - 2) return true;
    }
    return false;
  };
  const shown = (element) => {
    const box = element.getBoundingClientRect();
    return box.width > 2 && box.height > 2 && element.checkVisibility({ opacityProperty: true, visibilityProperty: true });
  };
  // What is made to scroll sideways shows by a half of something that there is more.
  const scrolled = (element) => {
    for (let outer = element.parentElement; outer; outer = outer.parentElement)
      if (outer.classList.contains("overflow-x-auto") && outer.scrollWidth > outer.clientWidth) return true;
    return false;
  };
  const pressed = "audio, button, a[href], input:not([type=hidden]):not(.sr-only), select, textarea, [role=radio], [role=row]";
  for (const element of document.querySelectorAll(pressed)) {
    if (!shown(element) || element.closest("[aria-hidden=true]")) continue;
    const box = element.getBoundingClientRect();
    const x = (box.left + box.right) / 2;
    const y = (box.top + box.bottom) / 2;
    if (clipped(element, x, y)) continue;
    if ((box.left < -1 || box.right > innerWidth + 1) && !scrolled(element)) faults.push(`outside the window: ${words(element)}`);
    if (y < 0 || y > innerHeight || x < 0 || x > innerWidth) continue;
    const top = document.elementFromPoint(x, y);
    const own = top && (element.contains(top) || top.contains(element) || top.closest("label")?.contains(element));
    if (!own) faults.push(`below something else: ${words(element)} (${top ? words(top) : "nothing"})`);
  }
  for (const element of document.querySelectorAll("button, h1, h2, h3, a[href], label")) {
    if (!shown(element)) continue;
    const { overflowX, textOverflow } = getComputedStyle(element);
    if (overflowX !== "visible" && textOverflow !== "ellipsis" && element.scrollWidth > element.clientWidth + 1)
      faults.push(`cut off: ${words(element)}`);
  }
  return faults;
}
