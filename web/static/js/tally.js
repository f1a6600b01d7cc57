/* The share of time on of a tally while it is being written, as the core reckons it from the same
   moments: whole cycles only, from the first moment on. */
const MOMENT = /^(on|off)\s*(?:at|=|:|@|-)?\s*(.+)$/i;
const CLOCK = /^(?:(\d{1,3}):)?(\d{1,3}):([0-5]\d)$/;
const DAY_S = 86400;

/* [["on", 0], ["off", 410], …] in seconds since the first; null if a line is not understood. */
export function momentsOf(text) {
  const edges = [];
  for (const part of text.split(/[\n,;]+/).map((line) => line.trim()).filter(Boolean)) {
    const match = part.match(MOMENT), clock = match?.[2].trim().match(CLOCK);
    const plain = match?.[2].trim().match(/^(\d+(?:\.\d+)?)\s*s?$/);
    if (!clock && !plain) return null;
    let seconds = clock ? Number(clock[1] || 0) * 3600 + Number(clock[2]) * 60 + Number(clock[3]) : Number(plain[1]);
    const last = edges.at(-1)?.[1] ?? 0;
    if (edges.length && clock?.[1] && seconds < last) seconds += DAY_S;
    if (seconds < last || edges.at(-1)?.[0] === match[1].toLowerCase()) return null;
    edges.push([match[1].toLowerCase(), seconds]);
  }
  return edges.map(([name, at]) => [name, at - edges[0][1]]);
}
/* Seconds on, seconds in all, and number of the complete cycles. */
export function tallied(edges) {
  let onS = 0, allS = 0, cycles = 0;
  for (let first = 0; first + 2 < edges.length; first += 2) {
    const [[name, start], [, middle], [, end]] = edges.slice(first, first + 3);
    onS += name === "on" ? middle - start : end - middle;
    allS += end - start;
    cycles += 1;
  }
  return [onS, allS, cycles];
}
export function tallyWords(text) {
  const edges = momentsOf(text);
  if (!edges?.length) return "";
  const [onS, allS, cycles] = tallied(edges);
  if (!cycles || !allS) return "Not one whole cycle yet: note when it comes on again.";
  return `${cycles} whole ${cycles === 1 ? "cycle" : "cycles"} in ${Math.round(allS / 60)} min, on for ${Math.round((100 * onS) / allS)} % of the time.`;
}
