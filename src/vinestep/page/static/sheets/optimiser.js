import { get, run as at } from "../api.js";
import { drawCurves } from "../charts.js";
import { add, fill, h, table } from "../dom.js";
import { state } from "../state.js";
import { chartOf, said, pick, axisControl, stretchControl, numbersOf, first, steps, curvesOf } from "./controls.js";

export const optimiser = {
  place: 40,
  question: "What does the optimiser do?",
  tab: "Optimiser",
  async controls(root) { add(root, axisControl(), ...stretchControl()); },
  async evidence(root, facts) {
    const now = state(), label = first();
    const { answers } = await get(`${at(label)}/answers`);
    const rate = await curvesOf([label], "rate", { of: steps(facts) ? "steps" : "epochs" });
    const norm = steps(facts) ? await curvesOf([label], "norm", { of: "steps" }) : [];
    const settings = Object.entries(facts.settings).filter(([name]) => /^(optimiser|schedule|clip)/.test(name));
    fill(root, said(answers, "optimiser"), h("h2", {}, "Rate"), ...chartOf("rate", "the rate", rate, [label], "rate", { low: true }),
      h("h2", {}, "Norm of all gradients"), ...chartOf("norm", "norm of all gradients", norm, [label], "norm", { low: true }),
      numbersOf(label, steps(facts) ? "steps" : "epochs", "rate", rate.length > 0), table("Its settings", ["setting", "value"], settings));
    if (rate.length) drawCurves("rate", rate, { against: now.against, figure: "rate", log: now.log, pick, exact: true });
    if (norm.length) drawCurves("norm", norm, { against: now.against, figure: "norm", log: now.log, pick });
  },
};
