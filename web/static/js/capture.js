/* A capture's chart: uPlot over a window that the server thins so that every spike stays. */
import { exactMoment, tickWords, wattsWords, wrapped } from "./chart_words.js";

const holder = document.querySelector("[data-chart]");
/* A role has a light and a dark value: only a computed colour is one that a canvas can draw. */
const probe = document.body.appendChild(document.createElement("span"));
probe.hidden = true;
const colour = (name) => { probe.style.color = `var(${name})`; return getComputedStyle(probe).color; };
const readOutPlace = document.querySelector("[data-read-out]");
let chart, marks = { levels: [], starts: [], clock_s: 0 }, view = null;

async function load(from, to) {
  const query = from === undefined ? "" : `?from=${from}&to=${to}`;
  view = from === undefined ? null : [from, to];
  const answer = await fetch(holder.dataset.chart + query, { credentials: "same-origin" }).catch(() => null);
  if (!answer || !answer.ok) return;
  const data = await answer.json();
  marks = data;
  // By the job's clock where it is known: round hours of the day are marked, not of the capture.
  const rows = [data.time_s.map((second) => second + data.clock_s), data.low, data.high];
  if (chart) { chart.setData(rows); return; }
  draw(rows);
}

/* Levels as lines with their names, starts as ticks at the top. */
function mark(plot) {
  const pen = plot.ctx, box = plot.bbox, dots = window.devicePixelRatio || 1;
  pen.save();
  pen.font = `${11.5 * dots}px B612`;
  pen.textAlign = "left"; pen.fillStyle = colour("--ink"); pen.strokeStyle = colour("--stored"); pen.setLineDash([2 * dots, 4 * dots]);
  let above = -Infinity;
  for (const [watts, name] of [...marks.levels].reverse()) {
    const y = plot.valToPos(watts, "y", true);
    if (y < box.top || y > box.top + box.height) continue;
    pen.beginPath(); pen.moveTo(box.left, y); pen.lineTo(box.left + box.width, y); pen.stroke();
    let at = Math.max(y + 4 * dots, above + 14 * dots);
    for (const line of wrapped(name, pen.canvas.width - box.left - box.width - 8 * dots, (words) => pen.measureText(words).width)) {
      pen.fillText(line, box.left + box.width + 6 * dots, at);
      above = at;
      at += 13 * dots;
    }
  }
  pen.setLineDash([]); pen.strokeStyle = colour("--limit"); pen.lineWidth = 2 * dots;
  for (const at of marks.starts) {
    const x = plot.valToPos(at + marks.clock_s, "x", true);
    if (x < box.left || x > box.left + box.width) continue;
    pen.beginPath(); pen.moveTo(x, box.top); pen.lineTo(x, box.top + 8 * dots); pen.stroke();
  }
  pen.restore();
}

function readOut(plot) {
  const index = plot.cursor.idx, [times, low, high] = plot.data;
  readOutPlace.textContent = index == null ? "Point at the chart to read it."
    : `${exactMoment(times[index], marks.clock_s)}: ${wattsWords(low[index], high[index])}`;
}

const STEPS_S = [1, 2, 5, 10, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400];
function draw(rows) {
  const axis = { stroke: colour("--mute"), grid: { stroke: colour("--rule"), width: 1 }, font: "12px B612" };
  const width = () => holder.clientWidth, narrow = width() < 500;
  chart = new uPlot({
    width: width(), height: 240, legend: { show: false }, scales: { x: { time: false } },
    padding: [12, narrow ? 92 : 128, 0, 0],
    cursor: { drag: { x: true, y: false, setScale: false } },
    series: [
      {},
      { stroke: colour("--drawn-2"), width: 1, points: { show: false } },
      { stroke: colour("--drawn"), width: 1, points: { show: false } },
    ],
    bands: [{ series: [2, 1], fill: colour("--drawn-4") }],
    axes: [
      { ...axis, space: 84, incrs: STEPS_S, values: (plot, ticks) => ticks.map((second) => tickWords(second, marks.clock_s)) },
      { ...axis, size: 60, values: (plot, ticks) => ticks.map((value) => `${value} W`) },
    ],
    hooks: { draw: [mark], setCursor: [readOut], setSelect: [(plot) => {
      if (plot.select.width < 6) return;
      const from = plot.posToVal(plot.select.left, "x"), to = plot.posToVal(plot.select.left + plot.select.width, "x");
      plot.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false);
      load(from - marks.clock_s, to - marks.clock_s);
    }] },
  }, rows, holder);
  readOut(chart);
}

/* Arrows move the window, plus and minus change its size; both stay inside the capture. */
function move(shift, zoom) {
  const [from, to] = view || [0, marks.end_s], middle = (from + to) / 2 + shift * (to - from);
  const half = Math.min(marks.end_s / 2, (zoom * (to - from)) / 2);
  const centre = Math.min(marks.end_s - half, Math.max(half, middle));
  if (2 * half >= marks.end_s) load(); else load(centre - half, centre + half);
}
function begin() {
  holder.addEventListener("dblclick", () => { if (view) load(); });
  holder.addEventListener("keydown", (event) => {
    const keys = { ArrowLeft: [-0.25, 1], ArrowRight: [0.25, 1], "+": [0, 0.5], "-": [0, 2], Home: [-1e9, 1], End: [1e9, 1] };
    if (!keys[event.key] || !chart) return;
    event.preventDefault();
    event.stopPropagation();
    move(...keys[event.key]);
  });
  window.addEventListener("resize", () => chart?.setSize({ width: holder.clientWidth, height: 240 }));
  load();
}
if (holder && window.uPlot) begin();
else holder?.closest("[data-chart-box]").classList.add("no-chart");
