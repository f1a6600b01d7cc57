/* A download beside any drawing that has none of its own. */
const STYLES = ["fill", "stroke", "stroke-width", "stroke-dasharray", "opacity", "font-size", "font-weight", "font-family"];
const WITH_A_DOWNLOAD = ".timeline, .fan-box, .bench-strip, .capture-chart";

export const fileNameOf = (title) => `${(title || "drawing").toLowerCase().replace(/[^a-z0-9]+/g, "-")}.svg`;

function offerIn(place) {
  place.querySelectorAll(".scroll > svg:not([data-offered])").forEach((svg) => {
    svg.dataset.offered = "yes";
    if (svg.closest(WITH_A_DOWNLOAD)) return;
    const button = document.createElement("button");
    button.type = "button";
    button.className = "quiet save-svg";
    button.textContent = "drawing as SVG";
    button.addEventListener("click", () => save(svg));
    svg.parentElement.after(button);
  });
}
/* Styles are written into the copy: it leaves the page's style sheet behind. */
function save(svg) {
  const copy = svg.cloneNode(true);
  const styled = [copy, ...copy.querySelectorAll("*")];
  [svg, ...svg.querySelectorAll("*")].forEach((element, index) => {
    const style = getComputedStyle(element);
    for (const name of STYLES) styled[index].setAttribute(name, style.getPropertyValue(name));
  });
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([new XMLSerializer().serializeToString(copy)], { type: "image/svg+xml" }));
  link.download = fileNameOf(svg.querySelector("title")?.textContent);
  link.click();
  URL.revokeObjectURL(link.href);
}
document.addEventListener("htmx:afterSettle", ({ target }) => offerIn(target));
offerIn(document);
