// What stands fixed at the lower edge never covers what is focused: the page knows how high it is, and scrolls the focused cell out from under it.
const root = document.documentElement;

/** Make room under `box`, known as `name`, and bring what is focused out from under it. */
export function clear(box, name) {
  const height = box?.childElementCount && box.offsetHeight ? box.offsetHeight + 10 : 0;
  root.style.setProperty(`--${name}`, `${height}px`);
  const focused = document.activeElement;
  if (!height || !focused || focused === document.body || box.contains(focused)) return;
  const [cell, over] = [focused.getBoundingClientRect(), box.getBoundingClientRect()];
  if (cell.right > over.left && cell.left < over.right && cell.bottom > over.top && cell.top < over.bottom) scrollBy(0, cell.bottom - over.top + 8);
}
