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
    yAxis: { type: log ? "log" : "value", name: y, scale: true, ...axis, nameTextStyle: { align: "left", color: ink } },
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

const isNumber = (value) => typeof value === "number";

// Runs as points, the means of equal ways as bars over them.
export function drawPoints(key, rows, means, { setting, figure, log, open }) {
  const one = base(key), [tint, mark] = [colours()[0], colours()[2]], ink = colour("ink");
  const numbers = rows.every((row) => isNumber(row[setting])), place = (value) => numbers ? value : String(value ?? "none");
  const known = [...new Set(rows.map((row) => place(row[setting])))].sort();
  const spread = log && numbers && rows.every((row) => row[setting] > 0);
  const look = frame(setting, words(figure), false, ["one run", "mean over seeds"]), sure = means.filter((row) => row.low !== null);
  one.pick = null;
  one.drawn.off("click");
  one.drawn.on("click", (event) => { if (event.seriesName === "one run") open(rows[event.dataIndex]); });
  redraw(one, { ...look, tooltip: { ...look.tooltip, trigger: "item", formatter: (p) => p.seriesName === "one run" ? `${words(rows[p.dataIndex].run).replace(/[<&]/g, "")}: ${number(rows[p.dataIndex].score)}` : number(p.value[1]) },
    xAxis: numbers ? { ...look.xAxis, type: spread ? "log" : "value", ...(spread ? { min: (v) => v.min / 1.3, max: (v) => v.max * 1.3 } : {}), axisLabel: { ...look.xAxis.axisLabel, formatter: (value) => number(value, 3) } }
      : { ...look.xAxis, type: "category", data: known, axisLabel: { color: ink, interval: 0, hideOverlap: true } },
    series: [
      { name: "one run", type: "scatter", symbolSize: 7, data: rows.map((row) => [place(row[setting]), row.score]), itemStyle: { color: tint, opacity: 0.55 } },
      ...sure.map((row) => ({ name: "interval", type: "line", symbol: "none", silent: true, data: [[place(row[setting]), row.low], [place(row[setting]), row.high]], lineStyle: { color: mark, width: 3 } })),
      { name: "mean over seeds", type: "scatter", symbol: "diamond", symbolSize: 12, data: sure.map((row) => [place(row[setting]), row.mean]), itemStyle: { color: mark } },
    ] });
}

const MOST_PATHS = 400;

// Where a setting's values lie between the lowest and the highest: words by their order, numbers over a wide range by their logarithms.
function scaleOf(values) {
  if (!values.every(isNumber)) {
    const known = [...new Set(values.map(String))].sort();
    return { place: (value) => known.length > 1 ? known.indexOf(String(value)) / (known.length - 1) : 0.5, low: known[0], high: known.at(-1) };
  }
  const low = Math.min(...values), high = Math.max(...values), bent = low > 0 && high / low >= 20 ? Math.log : (value) => value;
  return { place: (value) => high > low ? (bent(value) - bent(low)) / (bent(high) - bent(low)) : 0.5, low, high };
}

// Each run a line over upright axes, one for a setting and the last for the score.
export function drawPaths(key, rows, { settings, figure }) {
  const one = base(key), tints = colours(), ink = colour("ink"), names = [...settings, "score"];
  const whole = rows.filter((row) => names.every((name) => row[name] !== null && row[name] !== undefined));
  const kept = whole.filter((_, i) => whole.length <= MOST_PATHS || i % Math.ceil(whole.length / MOST_PATHS) === 0);
  const scales = names.map((name) => scaleOf(kept.map((row) => row[name])));
  const tint = (share) => tints[share <= 0.25 ? 1 : share >= 0.75 ? 2 : 5];
  one.pick = null;
  one.drawn.setOption({
    animation: false, textStyle: { color: ink, fontFamily: "system-ui, sans-serif" }, grid: { left: 30, right: 30, top: 30, bottom: 58, containLabel: true },
    xAxis: { type: "category", data: names, boundaryGap: true, axisTick: { show: false }, axisLine: { show: false }, splitLine: { show: false },
      axisLabel: { color: ink, interval: 0, lineHeight: 16, formatter: (name, i) => `${name === "score" ? words(figure) : name}\n${number(scales[i].low, 3)} to ${number(scales[i].high, 3)}` } },
    yAxis: { type: "value", min: 0, max: 1, show: true, axisLabel: { color: ink, formatter: (v) => v === 0 ? "lowest" : v === 1 ? "highest" : "" }, splitLine: { show: false } },
    series: [
      ...names.map((name) => ({ type: "line", symbol: "none", silent: true, data: [[name, 0], [name, 1]], lineStyle: { color: colour("quiet"), width: 1 } })),
      ...kept.map((row) => ({ type: "line", symbol: "none", silent: true, data: names.map((name, i) => [name, scales[i].place(row[name])]),
        lineStyle: { color: tint(scales.at(-1).place(row.score)), width: 1.5, opacity: 0.55 } })),
    ],
  }, { notMerge: true });
}

export function picture(key) {
  const canvas = kept.get(key).drawn.renderToCanvas({ pixelRatio: 2, backgroundColor: colour("paper") });
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}

matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => dispatchEvent(new Event("redraw")));
