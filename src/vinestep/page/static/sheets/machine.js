import { get, run as at } from "../api.js";
import { chart, drawCurves } from "../charts.js";
import { add, fill, h } from "../dom.js";
import { said, first, curvesOf } from "./controls.js";

export const machine = {
  place: 90,
  question: "How is the machine?",
  tab: "Machine",
  async controls() {},
  async evidence(root, facts) {
    const label = first();
    const { answers } = await get(`${at(label)}/answers`);
    const figures = ["memory megabytes", "processor percent", "threads", "temperature"];
    fill(root, said(answers, "machine"));
    for (const figure of figures) {
      const curves = facts.series.includes("machine") ? await curvesOf([label], figure, { of: "machine", against: "seconds", low: "", high: "" }) : [];
      if (!curves.length) continue;
      add(root, h("h2", {}, figure), chart(`machine ${figure}`, figure, { low: true }));
      drawCurves(`machine ${figure}`, curves, { against: "seconds", figure });
    }
  },
};
