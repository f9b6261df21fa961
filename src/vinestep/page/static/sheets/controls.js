// What several sheets have in common: answers, controls, and links to the numbers.
import { get, run as at } from "../api.js";
import { chart, picture } from "../charts.js";
import { h, number, save, words } from "../dom.js";
import { go, state } from "../state.js";

export const AXES = { epoch: "epochs", step: "steps", examples: "examples", seconds: "seconds of training" };

export function said(answers, question) {
  const found = answers.filter((answer) => answer.question === question);
  if (!found.length) return h("p", { class: "none" }, "The record does not support an answer yet.");
  const order = ["wrong", "suspicious", "unclear", "not tested", "sound"];
  found.sort((a, b) => order.indexOf(a.verdict) - order.indexOf(b.verdict));
  return h("div", {}, found.map((a) => h("p", { class: `answer ${a.verdict.replace(" ", "-")}` },
    h("span", { class: "verdict" }, `${a.verdict}: ${a.subject}`), a.evidence, a.cure ? h("span", { class: "cure" }, a.cure) : null)));
}

export const pick = (low, high) => go({ low: low.toPrecision(6), high: high.toPrecision(6) });
export const option = (value, text, chosen) => h("option", { value, selected: value === chosen }, text);

export function axisControl() {
  const now = state();
  return h("label", {}, "Against", h("select", { id: "against", onchange: (e) => go({ against: e.target.value, low: "", high: "" }) },
    Object.entries(AXES).map(([value, text]) => option(value, text, now.against))));
}

export function stretchControl() {
  const now = state();
  const low = h("input", { type: "number", step: "any", id: "low", value: now.low || "" }), high = h("input", { type: "number", step: "any", id: "high", value: now.high || "" });
  return [
    h("label", {}, "From", low), h("label", {}, "to", high),
    h("button", { id: "closer", onclick: () => go({ low: low.value, high: high.value }) }, "Look closer"),
    now.low || now.high ? h("button", { id: "whole", onclick: () => go({ low: "", high: "" }) }, "Whole run") : null,
    h("label", {}, "Values", h("select", { id: "log", onchange: (e) => go({ log: e.target.value }) },
      option("", "as they are", now.log || ""), option("1", "logarithmic", now.log || ""))),
  ];
}

export function figureControl(figures, chosen) {
  return h("label", {}, "Figure", h("select", { id: "figure", onchange: (e) => go({ figure: e.target.value }) }, figures.map((f) => option(f, words(f), chosen))));
}

export function numbersOf(label, series, key, drawn = true) {
  const name = `${label}-${key}`;
  const address = (form) => `/api/${at(label)}/series/${encodeURIComponent(series)}?form=${form}`;
  return h("p", { class: "controls" },
    h("a", { href: address("csv"), download: true, class: "csv" }, "These numbers as CSV"),
    h("a", { href: address("json"), download: true, class: "json" }, "as JSON"),
    drawn && h("button", { class: "png", onclick: async () => save(`${name}.png`, await picture(key)) }, "The chart as PNG"),
    h("button", { class: "copy", onclick: async (e) => {
      const told = e.target;
      await navigator.clipboard.writeText(location.href);
      told.textContent = "Address copied";
    } }, "Copy the address of this view"));
}

export function figuresOf(facts) {
  return facts.scores.map((score) => score.name).filter((name) => !name.startsWith("validation_"));
}

export const first = () => state().runs[0];
export const steps = (facts) => facts.series.includes("steps");

export async function curvesOf(labels, figure, more = {}) {
  const now = state();
  const { curves } = await get("curves", { runs: labels.join(","), figure, against: now.against, low: now.low, high: now.high, ...more });
  return curves;
}

// A chart, or what there is in its place: runs that recorded nothing of a figure on this axis are named.
export function chartOf(key, label, curves, runs, figure, look = {}) {
  const missing = runs.filter((run) => !curves.some((curve) => [curve.run, curve.uid].includes(run)));
  const told = missing.length ? h("p", { class: "none", "data-missing": key }, `${missing.join(", ")}: no ${words(figure)} by ${AXES[state().against]} in the record. Choose another axis or figure.`) : null;
  return [curves.length ? chart(key, label, look) : null, told];
}

export function trendWords(curve) {
  if (!curve) return "";
  if (curve.diverges) return `${words(curve.figure)} leaves all bounds: it came to ${number(curve.y.at(-1), 3)}.`;
  if (!curve.slope_error) return "";
  const sure = Math.abs(curve.slope) / curve.slope_error;
  const way = curve.slope < 0 ? "falls" : "rises";
  const near = sure > 3 ? `${way}, by ${number(Math.abs(curve.slope), 3)} a unit, ${number(sure, 2)} times its uncertainty`
    : `is level: a slope of ${number(curve.slope, 3)} is ${number(sure, 2)} times its uncertainty, which is noise`;
  return `In the last quarter of what is shown the trend of ${words(curve.figure)} ${near}.`;
}
