/* Conditions that slide: each shows its value, and the server answers while it moves, with fewer
   simulated runs until it rests. */
const form = () => document.querySelector("#what-if");
export const sliderWords = (value, unit) => `${value.toFixed(value % 1 ? 1 : 0)} ${unit}`;

function showValues() {
  document.querySelectorAll("#what-if output").forEach((output) => {
    const slider = document.getElementById(output.dataset.for);
    output.textContent = sliderWords(Number(slider.value), slider.dataset.unit);
  });
}
const isWithin = (event) => event.target.closest?.("#what-if");
/* Before htmx reads the form: it sends it with each event. */
document.addEventListener("input", (event) => {
  if (!isWithin(event)) return;
  showValues();
  form().elements.quick.disabled = false;
  form().querySelector(".slide-buttons").hidden = false;
}, true);
document.addEventListener("change", (event) => {
  if (isWithin(event)) form().elements.quick.disabled = true;
}, true);
document.addEventListener("reset", (event) => {
  if (!isWithin(event)) return;
  /* Its fields are as they were only after this event. */
  setTimeout(() => {
    showValues();
    form().querySelector(".slide-buttons").hidden = true;
    form().dispatchEvent(new Event("change", { bubbles: true }));
  }, 0);
});
document.addEventListener("htmx:afterSettle", () => { if (form()) showValues(); });
showValues();
