// The shelf's search: cards without the words go as they are typed; Enter asks the server, which finds the same.
export function start() {
  const field = document.getElementById("find");
  const none = document.getElementById("found-none");
  const cards = [...document.querySelectorAll(".experiment-card")];
  const sift = () => {
    const words = field.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const card of cards) card.hidden = !words.every((word) => card.dataset.words.includes(word));
    for (const group of document.querySelectorAll(".experiment-field")) group.hidden = !group.querySelector(".experiment-card:not([hidden])");
    none.hidden = cards.some((card) => !card.hidden);
  };
  field.addEventListener("input", sift);
  document.addEventListener("keydown", (event) => {
    if (event.key === "/" && !event.target.closest?.("input, textarea, select")) {
      event.preventDefault();
      field.focus();
      field.select();
    } else if (event.key === "Escape" && event.target === field) {
      field.value = "";
      sift();
    }
  });
}
