/* Words of a capture's chart: its moments, its watts, and names in lines of a width. */
const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const twoDigits = (number) => String(number).padStart(2, "0");
const rounded = (value, digits) => String(+value.toFixed(digits));

/* A time on the axis, s: since the capture began where no clock is known (0), else by the clock. */
export function tickWords(second, clock_s) {
  if (!clock_s) {
    if (second >= 3600) return `${rounded(second / 3600, 2)} h`;
    return second >= 60 ? `${rounded(second / 60, 1)} min` : `${Math.round(second)} s`;
  }
  const at = new Date(second * 1000), hours = at.getUTCHours(), minutes = at.getUTCMinutes();
  return hours || minutes ? `${twoDigits(hours)}:${twoDigits(minutes)}` : DAYS[at.getUTCDay()];
}
/* The time that one points at: with its day and seconds where a clock is known. */
export function exactMoment(second, clock_s) {
  if (!clock_s) return tickWords(second, clock_s);
  const at = new Date(second * 1000);
  return `${DAYS[at.getUTCDay()]} ${[at.getUTCHours(), at.getUTCMinutes(), at.getUTCSeconds()].map(twoDigits).join(":")}`;
}

const watts = (value) => `${+value.toPrecision(3)} W`;
/* What was drawn within one step of the chart: one value where it hardly changed. */
export const wattsWords = (low, high) => high - low < 0.005 * high ? watts(high) : `${watts(low)} to ${watts(high)}`;

/* Words in lines of at most so much width, as widthOf measures it. */
export function wrapped(words, width, widthOf) {
  const lines = [];
  for (const word of words.split(" ")) {
    const longer = lines.length ? `${lines.at(-1)} ${word}` : word;
    if (lines.length && widthOf(longer) <= width) lines[lines.length - 1] = longer;
    else lines.push(word);
  }
  return lines;
}
