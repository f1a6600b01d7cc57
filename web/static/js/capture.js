/* A capture's chart: uPlot over a window that the server thins so that every spike stays. */
"use strict";

document.addEventListener("DOMContentLoaded", () => {
  const holder = document.querySelector("[data-chart]");
  if (!holder || !window.uPlot) return;
  const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  let chart, marks = { levels: [], starts: [] }, view = null;

  async function load(from, to) {
    const query = from === undefined ? "" : `?from=${from}&to=${to}`;
    view = from === undefined ? null : [from, to];
    const answer = await fetch(holder.dataset.chart + query, { credentials: "same-origin" }).catch(() => null);
    if (!answer || !answer.ok) return;
    const data = await answer.json();
    marks = data;
    const rows = [data.time_s, data.low, data.high];
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
      if (y - above > 14 * dots) { pen.fillText(name, box.left + 6 * dots, y - 4 * dots); above = y; }
    }
    pen.setLineDash([]); pen.strokeStyle = colour("--limit"); pen.lineWidth = 2 * dots;
    for (const at of marks.starts) {
      const x = plot.valToPos(at, "x", true);
      if (x < box.left || x > box.left + box.width) continue;
      pen.beginPath(); pen.moveTo(x, box.top); pen.lineTo(x, box.top + 8 * dots); pen.stroke();
    }
    pen.restore();
  }

  function draw(rows) {
    const axis = { stroke: colour("--mute"), grid: { stroke: colour("--rule"), width: 1 }, font: "12px B612" };
    chart = new uPlot({
      width: holder.clientWidth, height: 240, legend: { show: true }, scales: { x: { time: false } },
      cursor: { drag: { x: true, y: false, setScale: false } },
      series: [
        { label: "s", value: (plot, value) => (value == null ? "–" : value.toFixed(0)) },
        { label: "lowest W", stroke: colour("--drawn-2"), width: 1, points: { show: false } },
        { label: "highest W", stroke: colour("--drawn"), width: 1, points: { show: false } },
      ],
      bands: [{ series: [2, 1], fill: colour("--drawn-4") }],
      axes: [{ ...axis, space: 84, incrs: [1, 2, 5, 10, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400], values: (plot, ticks) => ticks.map((s) => (s >= 3600 ? `${+(s / 3600).toFixed(2)} h` : s >= 60 ? `${+(s / 60).toFixed(1)} min` : `${s} s`)) }, { ...axis, size: 60 }],
      hooks: { draw: [mark], setSelect: [(plot) => {
        if (plot.select.width < 6) return;
        const from = plot.posToVal(plot.select.left, "x"), to = plot.posToVal(plot.select.left + plot.select.width, "x");
        plot.setSelect({ left: 0, width: 0, top: 0, height: 0 }, false);
        load(from, to);
      }] },
    }, rows, holder);
    holder.closest("[data-chart-box]").classList.add("has-chart");
    document.querySelector("[data-chart-help]")?.removeAttribute("hidden");
  }

  /* Arrows move the window, plus and minus change its size; both stay inside the capture. */
  function move(shift, zoom) {
    const [from, to] = view || [0, marks.end_s], middle = (from + to) / 2 + shift * (to - from);
    const half = Math.min(marks.end_s / 2, (zoom * (to - from)) / 2);
    const centre = Math.min(marks.end_s - half, Math.max(half, middle));
    if (2 * half >= marks.end_s) load(); else load(centre - half, centre + half);
  }
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
});
