import { get, run as at } from "../api.js";
import { drawCurves } from "../charts.js";
import { add, duration, fill, h, number, words } from "../dom.js";
import { state } from "../state.js";
import { AXES, chartOf, said, pick, axisControl, stretchControl, figureControl, numbersOf, figuresOf, first, steps, curvesOf, trendWords } from "./controls.js";

export const learning = {
  place: 10,
  question: "Is it learning?",
  tab: "Learning",
  async controls(root, facts) {
    add(root, figureControl(figuresOf(facts), state().figure || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), label = first(), figure = now.figure || "loss";
    const { answers } = await get(`${at(label)}/answers`), progress = await get(`${at(label)}/progress`);
    const some = await curvesOf([label], figure, steps(facts) ? { of: "steps" } : {});
    const epochs = await curvesOf([label], figure, facts.series.includes("epochs") ? { of: "epochs" } : {});
    const curves = (some.length ? some : epochs).map((c) => ({ ...c, title: steps(facts) ? "training, by step" : "training" }));
    const held = facts.series.includes("epochs") ? await curvesOf([label], `validation_${figure}`, { of: "epochs" }) : [];
    const all = [...curves, ...held.map((c) => ({ ...c, title: "validation" }))];
    const box = chartOf("learning", `${words(figure)} of ${label} against ${AXES[now.against]}`, all, [label], figure);
    fill(root, h("p", { id: "progress" }, progressWords(facts, progress)), said(answers, "learning"), ...box, h("p", { id: "trend" }, trendWords(all[0])),
      all.length ? h("p", { class: "hint" }, "Drag over the chart, or give from and to, to look closer. Points as recorded; the line is a local fit with its 95 % band.") : null,
      numbersOf(label, steps(facts) ? "steps" : "epochs", "learning", all.length > 0));
    if (all.length) drawCurves("learning", all, { against: now.against, figure, log: now.log, pick, name: (c) => c.title });
  },
};

const speed = (value) => number(value >= 100 ? Math.round(value) : value, 3);

// How far it is, how fast, for how long yet, and the best so far.
function progressWords(facts, found) {
  const of = (done, all) => all ? `${number(done)} of ${number(all)}` : number(done);
  const parts = [`Step ${of(facts.step, found.total_steps)}${facts.epochs ? `, epoch ${of(facts.epoch, facts.epochs)}` : ""}`];
  if (found.steps_a_second) parts.push(`${speed(found.steps_a_second)} steps${found.examples_a_second ? ` and ${speed(found.examples_a_second)} examples` : ""} a second`);
  if (found.seconds) parts.push(`${duration(found.seconds)} of training so far`);
  if (facts.running && found.left) parts.push(`about ${duration(found.left)} left`);
  const best = found.best ? ` Best ${words(found.best.figure)} ${number(found.best.value)}, in ${found.best.where} ${number(found.best.at)}.` : "";
  return `${parts.join("; ")}.${best}`;
}
