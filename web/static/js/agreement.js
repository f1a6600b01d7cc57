/* Whether volts, amps, watts, VA and power factor of one moment agree: the same check as
   needle/measure/agreement.py, for when the site cannot be reached. The tests ask both the same. */
const KEYS = ["volts", "amps", "watts", "va", "pf"];
const NAMES = { volts: "V", amps: "A", watts: "W", va: "VA", pf: "PF" };
/* Rows of the logarithmic model: log volts, log amps, log power factor. */
const MODEL = { volts: [1, 0, 0], amps: [0, 1, 0], watts: [1, 1, 1], va: [1, 1, 0], pf: [0, 0, 1] };
const BEYOND = 3;

/* A number with so many significant digits, written like Python's :g. */
export function general(value, digits = 6) {
  if (value === 0) return "0";
  const [mantissa, exponent] = value.toExponential(digits - 1).split("e");
  const power = Number(exponent);
  const trimmed = (text) => text.includes(".") ? text.replace(/\.?0+$/, "") : text;
  if (power >= -4 && power < digits) return trimmed(value.toFixed(Math.max(0, digits - 1 - power)));
  return `${trimmed(mantissa)}e${power < 0 ? "-" : "+"}${String(Math.abs(power)).padStart(2, "0")}`;
}

/* Relative standard deviation of a reading on a meter (limit, counts, steps, spread). */
function relativeSd(meter, key, value) {
  const count = value ? meter.counts * (meter.steps[key] || 0) / Math.abs(value) : 0;
  return Math.hypot(Math.hypot(meter.limit, count) / Math.sqrt(3), meter.spread);
}
const dot = (a, b) => a.reduce((sum, value, place) => sum + value * b[place], 0);
const times = (matrix, vector) => matrix.map((row) => dot(row, vector));
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
/* Inverse of a symmetric 3×3 matrix, by its cofactors. */
function inverse(matrix) {
  const [a, b, c] = matrix;
  const cofactors = [cross(b, c), cross(c, a), cross(a, b)];
  const determinant = dot(a, cofactors[0]);
  return cofactors.map((row) => row.map((value) => value / determinant));
}

/* Residuals over their own deviation (NaN if nothing checks them), and the fitted log power factor. */
function normalised(model, logs, sigma) {
  const weighted = model.map((row, place) => row.map((value) => value / sigma[place]));
  const target = logs.map((value, place) => value / sigma[place]);
  const square = [0, 1, 2].map((i) => [0, 1, 2].map((j) => dot(weighted.map((row) => row[i]), weighted.map((row) => row[j]))));
  const ridge = 1e-9 * (square[0][0] + square[1][1] + square[2][2]);
  const normal = inverse(square.map((row, i) => row.map((value, j) => value + (i === j ? ridge : 0))));
  const fit = times(normal, [0, 1, 2].map((i) => dot(weighted.map((row) => row[i]), target)));
  const residuals = weighted.map((row, place) => {
    const free = 1 - dot(row, times(normal, row));
    return free > 1e-6 ? (target[place] - dot(row, fit)) / Math.sqrt(free) : NaN;
  });
  return [residuals, fit[2]];
}
function solution(read, meter) {
  const keys = Object.keys(read);
  const model = keys.map((key) => MODEL[key]), logs = keys.map((key) => Math.log(read[key]));
  const sigma = keys.map((key) => relativeSd(meter, key, read[key]));
  const [residuals, logPf] = normalised(model, logs, sigma);
  if (!(logPf > 1e-9 && "watts" in read)) return residuals;
  /* W above VA: the fit is held to a power factor of 1. */
  return normalised([...model, MODEL.pf], [...logs, 0], [...sigma, 1e-4])[0].slice(0, keys.length);
}

const has = (read, ...keys) => keys.every((key) => key in read);
const checksItself = (read) => (has(read, "volts", "amps") && "va" in read)
  || (has(read, "watts", "pf") && ("va" in read || has(read, "volts", "amps")));
function vaOf(read) {
  if ("va" in read) return read.va;
  return has(read, "volts", "amps") ? read.volts * read.amps : Infinity;
}
function residualsOf(values, meter) {
  const read = Object.fromEntries(Object.entries(values).filter(([, value]) => value > 0));
  if (!(checksItself(read) || (read.watts || 0) > vaOf(read))) return {};
  const found = solution(read, meter);
  return Object.fromEntries(Object.keys(read).map((key, place) => [key, Math.abs(found[place])]).filter(([, value]) => Number.isFinite(value)));
}
const allWithin = (residuals) => Object.values(residuals).every((value) => value <= BEYOND);
function suspectOf(values, residuals, meter) {
  const candidates = Object.keys(residuals).filter((key) => {
    const left = residualsOf(Object.fromEntries(Object.entries(values).filter(([name]) => name !== key)), meter);
    return Object.keys(left).length && allWithin(left);
  }).map((key) => [-relativeSd(meter, key, values[key]), key]);
  candidates.sort(([a, one], [b, other]) => a - b || (one < other ? -1 : 1));
  return candidates.length ? candidates[0][1] : null;
}

function filled(read) {
  let { volts = null, amps = null, watts = null, va = null, pf = null } = read;
  if (va === null && volts !== null && amps !== null) va = volts * amps;
  if (va === null && watts !== null && pf) va = watts / pf;
  if (watts === null && va !== null && pf !== null) watts = va * pf;
  if (amps === null && va !== null && volts) amps = va / volts;
  if (volts === null && va !== null && amps) volts = va / amps;
  if (watts !== null && va) pf = Math.min(1, watts / va);
  return { volts, amps, watts, va, pf };
}
function messageOf(values, full, consistent, suspect) {
  const facts = [];
  if (has(values, "volts", "amps")) facts.push(`${general(values.volts)} V × ${general(values.amps)} A = ${general(values.volts * values.amps, 4)} VA`);
  if ("watts" in values && values.va) facts.push(`${general(values.watts)} W ÷ ${general(values.va)} VA = ${general(values.watts / values.va, 3)}`);
  const checks = facts.join(". ");
  if (suspect === "pf") {
    const ratio = (full.pf || 0).toFixed(2);
    return `W ÷ VA is ${ratio} but PF was read as ${values.pf.toFixed(2)}: one of them was misread; the others support ${ratio}.`;
  }
  if (suspect) {
    const better = full[suspect];
    return `${NAMES[suspect]} was read as ${general(values[suspect])}, which does not fit the rest${better === null ? "" : `; the others support ${general(better, 4)}`}.`;
  }
  if (!consistent && (values.watts || 0) > vaOf(values)) {
    return `${general(values.watts)} W cannot exceed ${general(vaOf(values), 4)} VA: one of them was misread. Kept, but not used as evidence; read them again.`;
  }
  if (!consistent) return `${checks}. These do not agree, and which one is wrong cannot be told: read them again.`;
  if (!checksItself(values)) return `${checks ? `${checks}. ` : ""}Nothing here checks another reading; add volts and amps, VA or PF.`;
  return checks ? `${checks}. The readings agree.` : "The readings agree.";
}

/* `read` has any of volts, amps, watts, va, pf; `meter` its accuracy. */
export function agree(read, meter) {
  const values = Object.fromEntries(KEYS.filter((key) => read[key] !== null && read[key] !== undefined).map((key) => [key, read[key]]));
  const residuals = residualsOf(values, meter), consistent = allWithin(residuals);
  const suspect = consistent ? null : suspectOf(values, residuals, meter);
  const full = filled(Object.fromEntries(Object.entries(values).filter(([key]) => key !== suspect)));
  return { consistent, suspect, checked: Object.keys(residuals).length > 0, message: messageOf(values, full, consistent, suspect), ...full };
}
