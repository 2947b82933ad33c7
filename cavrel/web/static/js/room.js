// How much of the window the head and the deck cover, so that a cell in use is never under them; and the deck folded while it is not needed.
export function start() {
  const root = document.documentElement;
  const head = document.querySelector(".head");
  const decks = document.getElementById("decks");
  const measure = () => {
    const fixed = (element) => (element && getComputedStyle(element).position === "sticky" ? element.offsetHeight : 0);
    root.style.scrollPaddingTop = `${fixed(head) + 44}px`;
    root.style.scrollPaddingBottom = `${fixed(decks) + 14}px`;
  };
  const watch = new ResizeObserver(measure);
  for (const element of [root, head, decks]) if (element) watch.observe(element);
  measure();
  document.addEventListener("focusin", (event) => {
    if (!event.target.matches?.("input[data-slot]")) return;
    // The deck may have folded or opened with this focus: what counts is where the cell lies after that.
    requestAnimationFrame(() => {
      measure();
      event.target.scrollIntoView({ block: "nearest", inline: "nearest" });
    });
  });
}
