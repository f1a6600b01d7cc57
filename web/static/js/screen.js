/* How wide the screen is: what the server draws timelines for, told by a cookie. */
const narrow = matchMedia("(max-width: 700px)"), large = matchMedia("(min-width: 1700px)");
const width = () => narrow.matches ? "narrow" : large.matches ? "large" : "wide";
export const isNarrow = () => narrow.matches;

function tellServer() {
  document.cookie = `screen=${width()}; path=/; max-age=31536000; SameSite=Lax`;
}
tellServer();
for (const query of [narrow, large]) {
  query.addEventListener("change", () => { tellServer(); dispatchEvent(new Event("needle:screen")); });
}
