// Buttons that say how many rows or trials there are to be: a second press before the page is drawn anew goes one further.

/** How many there are to be after this press; every button of the same number then goes on from there. */
export function stepped(button) {
  const name = button.dataset.rule ? "rule" : "size";
  const count = Number(button.dataset.count);
  const others = document.querySelectorAll(`[data-${name}="${CSS.escape(button.dataset[name])}"]`);
  for (const one of others) one.dataset.count = String(Number(one.dataset.count) + (less(button) ? -1 : 1));
  return Math.max(count, 1);
}

const less = (button) => button.textContent.trim().startsWith("−") || button.dataset.back === "yes";
