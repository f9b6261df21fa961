import { get, run as at } from "../api.js";
import { drawCurves } from "../charts.js";
import { add, fill, words } from "../dom.js";
import { state } from "../state.js";
import { chartOf, said, pick, axisControl, stretchControl, figureControl, numbersOf, figuresOf, first, curvesOf } from "./controls.js";

export const overfitting = {
  place: 20,
  question: "Is it overfitting, and since when?",
  tab: "Overfitting",
  async controls(root, facts) {
    add(root, figureControl(figuresOf(facts), state().figure || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), label = first(), figure = now.figure || "loss";
    const { answers } = await get(`${at(label)}/answers`);
    const both = [...await curvesOf([label], figure, { of: "epochs" }), ...await curvesOf([label], `validation_${figure}`, { of: "epochs" })];
    const since = answers.find((a) => a.trouble === "overfitting");
    const marks = since && now.against === "epoch" ? [{ at: since.epoch, name: `since epoch ${Math.round(since.epoch)}` }] : [];
    fill(root, said(answers, "overfitting"), ...chartOf("overfitting", `${words(figure)} of training and validation`, both, [label], figure), numbersOf(label, "epochs", "overfitting", both.length > 0));
    if (both.length) {
      const name = (c) => c.figure.startsWith("validation_") ? "validation" : "training";
      drawCurves("overfitting", both, { against: now.against, figure, log: now.log, pick, marks, name });
    }
  },
};
