import { get, run as at } from "../api.js";
import { drawCurves } from "../charts.js";
import { add, fill, h, words } from "../dom.js";
import { state } from "../state.js";
import { AXES, chartOf, said, pick, axisControl, stretchControl, figureControl, numbersOf, figuresOf, first, steps, curvesOf, trendWords } from "./controls.js";

export const learning = {
  place: 10,
  question: "Is it learning?",
  async controls(root, facts) {
    add(root, figureControl(figuresOf(facts), state().figure || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), label = first(), figure = now.figure || "loss";
    const { answers } = await get(`${at(label)}/answers`);
    const some = await curvesOf([label], figure, steps(facts) ? { of: "steps" } : {});
    const epochs = await curvesOf([label], figure, facts.series.includes("epochs") ? { of: "epochs" } : {});
    const curves = (some.length ? some : epochs).map((c) => ({ ...c, title: steps(facts) ? "training, by step" : "training" }));
    const held = facts.series.includes("epochs") ? await curvesOf([label], `validation_${figure}`, { of: "epochs" }) : [];
    const all = [...curves, ...held.map((c) => ({ ...c, title: "validation" }))];
    const box = chartOf("learning", `${words(figure)} of ${label} against ${AXES[now.against]}`, all, [label], figure);
    fill(root, said(answers, "learning"), h("p", { id: "trend" }, trendWords(all[0])), ...box,
      all.length ? h("p", { class: "hint" }, "Drag over the chart, or give from and to, to look closer. Points as recorded; the line is a local fit with its 95 % band.") : null,
      numbersOf(label, steps(facts) ? "steps" : "epochs", "learning", all.length > 0));
    if (all.length) drawCurves("learning", all, { against: now.against, figure, log: now.log, pick, name: (c) => c.title });
  },
};
