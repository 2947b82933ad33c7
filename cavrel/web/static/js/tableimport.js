// A table that is imported is looked at again with every choice.
export function start() {
  const form = document.getElementById("import-table");
  form.addEventListener("change", (event) => {
    const look = form.querySelector("button[value=look]");
    if (form.querySelector("input[name=looked]") && look && event.target.type !== "file") form.requestSubmit(look);
  });
}
