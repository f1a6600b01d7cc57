/* How wide the screen is: what the server draws timelines for, told by a cookie. */
const narrow = matchMedia("(max-width: 700px)");
export const isNarrow = () => narrow.matches;

function tellServer() {
  document.cookie = `screen=${isNarrow() ? "narrow" : "wide"}; path=/; max-age=31536000; SameSite=Lax`;
}
tellServer();
narrow.addEventListener("change", () => { tellServer(); dispatchEvent(new Event("needle:screen")); });
