/* A moment (ms) by this device's clock, as the site writes it: 21:40, with its day unless it is today's. */
export function clockOf(moment) {
  const at = new Date(moment);
  const clock = at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  const isToday = at.toDateString() === new Date().toDateString();
  return isToday ? clock : `${at.toLocaleDateString("en-GB", { weekday: "short" })} ${clock}`;
}
