// A graph as a file: SVG with its styles written into it, or PNG drawn from that, twice the size of the screen.
const KEPT = ["fill", "stroke", "stroke-width", "stroke-dasharray", "stroke-linecap", "opacity", "font-family", "font-size", "font-style", "font-weight", "text-anchor"];

function standing(svg) {
  const copy = svg.cloneNode(true);
  const from = [svg, ...svg.querySelectorAll("*")];
  [copy, ...copy.querySelectorAll("*")].forEach((element, i) => {
    const style = getComputedStyle(from[i]);
    element.setAttribute("style", KEPT.map((name) => `${name}:${style.getPropertyValue(name)}`).join(";"));
    for (const name of ["tabindex", "role", "data-at", "data-state"]) element.removeAttribute(name);
  });
  for (const tool of copy.querySelectorAll(".hit, .touch")) tool.remove();
  const { width, height } = svg.viewBox.baseVal;
  copy.setAttribute("width", width);
  copy.setAttribute("height", height);
  const paper = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  const { backgroundColor } = getComputedStyle(document.querySelector(".sheet") ?? document.body);
  for (const [k, v] of Object.entries({ width, height, fill: backgroundColor })) paper.setAttribute(k, v);
  copy.prepend(paper);
  return { text: new XMLSerializer().serializeToString(copy), width, height };
}

function save(blob, name) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}

export function startPictures() {
  document.addEventListener("click", async (event) => {
    const button = event.target.closest("[data-picture]");
    const svg = button && document.querySelector(".two-graphs figure:last-child svg.graph");
    if (!svg) return;
    const name = document.querySelector("h1").textContent.trim().toLowerCase().replace(/[^a-z0-9]+/g, "-") || "graph";
    const { text, width, height } = standing(svg);
    const vector = new Blob([text], { type: "image/svg+xml" });
    if (button.dataset.picture === "svg") return save(vector, `${name}.svg`);
    const image = new Image();
    image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
    await image.decode();
    const canvas = Object.assign(document.createElement("canvas"), { width: 2 * width, height: 2 * height });
    canvas.getContext("2d").drawImage(image, 0, 0, 2 * width, 2 * height);
    canvas.toBlob((blob) => save(blob, `${name}.png`), "image/png");
  });
}
