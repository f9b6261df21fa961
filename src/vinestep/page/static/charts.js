// Charts: points as they were recorded, a trend with its band over them. A stretch is looked at by dragging over it.
import { h, number, words } from "./dom.js";

const NAMES = ["must", "leaf", "clay", "plum", "straw", "slate"];
const DASHES = ["solid", [6, 3], [2, 3], [9, 3, 2, 3]];
const SYMBOLS = ["circle", "triangle", "rect", "diamond"];
const kept = new Map();

const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
export const colours = () => NAMES.map(colour);

export function chart(key, label, { low = false } = {}) {
  if (!kept.has(key)) {
    const element = h("div", { class: low ? "chart low" : "chart", role: "img", "data-chart": key });
    kept.set(key, { element, drawn: null, pick: null });
  }
  const one = kept.get(key);
  one.element.setAttribute("aria-label", label);
  return one.element;
}

export function forget(except) {
  for (const [key, one] of kept) {
    if (except(key)) continue;
    if (one.drawn) one.drawn.dispose();
    kept.delete(key);
  }
}

function base(key) {
  const one = kept.get(key);
  if (one.drawn && one.drawn.isDisposed()) one.drawn = null;
  if (!one.drawn) {
    one.drawn = echarts.init(one.element, null, { renderer: "canvas" });
    new ResizeObserver(() => one.drawn && !one.drawn.isDisposed() && one.drawn.resize()).observe(one.element);
    picking(one);
  }
  return one;
}

function picking(one) {
  const zr = one.drawn.getZr();
  let from = null;
  const mark = (x0, x1) => one.drawn.setOption({ graphic: [{ id: "pick", type: "rect", silent: true, invisible: x0 === null,
    shape: { x: Math.min(x0, x1), y: 20, width: Math.abs(x1 - x0), height: one.drawn.getHeight() - 60 },
    style: { fill: colour("plum"), opacity: 0.25 } }] });
  zr.on("mousedown", (event) => { from = one.pick ? event.offsetX : null; });
  zr.on("mousemove", (event) => { if (from !== null) mark(from, event.offsetX); });
  zr.on("mouseup", (event) => {
    if (from !== null && Math.abs(event.offsetX - from) > 8) {
      const ends = [from, event.offsetX].map((x) => one.drawn.convertFromPixel({ xAxisIndex: 0 }, x)).sort((a, b) => a - b);
      one.pick(...ends);
    }
    from = null;
    mark(null, null);
  });
}

function frame(x, y, log, names) {
  const ink = colour("ink"), quiet = colour("quiet"), rule = colour("rule");
  const axis = { axisLine: { lineStyle: { color: quiet } }, axisLabel: { color: ink, hideOverlap: true }, splitLine: { lineStyle: { color: rule } },
    nameTextStyle: { color: ink } };
  return {
    animation: false, aria: { enabled: false }, textStyle: { color: ink, fontFamily: "system-ui, sans-serif" },
    grid: { left: 12, right: 18, top: 36, bottom: 28, containLabel: true },
    legend: { data: names, top: 0, icon: "roundRect", itemHeight: 4, type: "scroll", textStyle: { color: ink }, pageTextStyle: { color: ink } },
    tooltip: { trigger: "axis", backgroundColor: colour("paper"), textStyle: { color: ink }, valueFormatter: (v) => number(Array.isArray(v) ? v[1] : v) },
    xAxis: { type: "value", name: x, nameLocation: "middle", nameGap: 26, scale: true, ...axis },
    yAxis: { type: log ? "log" : "value", name: y, scale: true, nameTextStyle: { align: "left", color: ink }, ...axis },
  };
}

// A redrawing leaves hidden what somebody hid by the legend.
function redraw(one, option) {
  const hidden = one.drawn.getOption()?.legend?.[0]?.selected;
  if (hidden) option.legend = { ...option.legend, selected: hidden };
  one.drawn.setOption(option, { notMerge: true });
}

const pairs = (x, y) => x.map((at, i) => [at, y[i]]);

function band(name, x, low, high, tint) {
  const common = { type: "line", stack: `band ${name}`, symbol: "none", lineStyle: { opacity: 0 }, silent: true, tooltip: { show: false }, stackStrategy: "all" };
  return [
    { ...common, name: `${name} low`, data: pairs(x, low) },
    { ...common, name: `${name} high`, data: pairs(x, low.map((value, i) => high[i] - value)), areaStyle: { color: tint, opacity: 0.18 } },
  ];
}

export function drawCurves(key, curves, { against, figure, log = false, marks = [], pick = null, exact = false, name = (one) => one.run }) {
  const one = base(key), tints = colours();
  one.pick = pick;
  const series = [];
  curves.forEach((curve, i) => {
    const tint = tints[i % tints.length], title = name(curve);
    if (exact) { // nothing random in it: the points are the curve
      series.push({ name: title, type: "line", symbol: "none", data: pairs(curve.x, curve.y), itemStyle: { color: tint }, lineStyle: { color: tint, width: 2 } });
      return;
    }
    series.push({ name: `${title} points`, type: "scatter", symbolSize: 3, symbol: SYMBOLS[i % 4], data: pairs(curve.x, curve.y), itemStyle: { color: tint, opacity: 0.4 },
      progressive: 0, tooltip: { show: false }, silent: true });
    if (!log) series.push(...band(title, curve.trend.x, curve.trend.low, curve.trend.high, tint));
    series.push({ name: title, type: "line", symbol: "none", data: pairs(curve.trend.x, curve.trend.y), itemStyle: { color: tint },
      lineStyle: { color: tint, width: 2.2, type: DASHES[Math.floor(i / tints.length) % 4] },
      markLine: i ? undefined : { symbol: "none", silent: true, label: { color: colour("ink"), formatter: "{b}" }, lineStyle: { color: colour("clay") },
        data: marks.map((m) => ({ name: m.name, xAxis: m.at })) } });
  });
  redraw(one, { ...frame(against, words(figure), log, curves.map(name)), series });
}

export function drawBands(key, curves, { against, figure }) {
  const one = base(key), tint = colours()[0], by = Object.fromEntries(curves.map((c) => [c.figure.split(" ").at(-1), c]));
  one.pick = null;
  const x = by["50%"].x;
  redraw(one, { ...frame(against, words(figure), false, ["median", "middle half", "nine tenths"]), series: [
    ...band("nine tenths", x, by["5%"].y, by["95%"].y, tint), ...band("middle half", x, by["25%"].y, by["75%"].y, tint),
    { name: "median", type: "line", symbol: "none", data: pairs(x, by["50%"].y), lineStyle: { color: tint, width: 2 }, itemStyle: { color: tint } },
  ] });
}

export function drawEffects(key, rows, { along = "change from the lowest to the highest value, with its 95 % interval" } = {}) {
  const one = base(key), tint = colours()[0], ink = colour("ink");
  one.pick = null;
  const top = rows.slice(0, 14).reverse();
  one.drawn.setOption({
    ...frame("change of the score", "", false, []), legend: { show: false },
    xAxis: { type: "value", name: along, nameLocation: "middle", nameGap: 26,
      axisLabel: { color: ink }, nameTextStyle: { color: ink } },
    yAxis: { type: "category", data: top.map((row) => row.setting), axisLabel: { color: ink } },
    series: [
      ...top.map((row) => ({ type: "line", symbol: "none", silent: true, data: [[row.low, row.setting], [row.high, row.setting]],
        lineStyle: { color: tint, width: 7, opacity: 0.35 } })),
      { type: "scatter", data: top.map((row) => [row.effect, row.setting]), symbolSize: 10, itemStyle: { color: tint } },
    ],
  }, { notMerge: true });
}

export function picture(key) {
  const canvas = kept.get(key).drawn.renderToCanvas({ pixelRatio: 2, backgroundColor: colour("paper") });
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}

matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => dispatchEvent(new Event("redraw")));
