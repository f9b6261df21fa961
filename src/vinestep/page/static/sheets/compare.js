import { get, run as at } from "../api.js";
import { chart, drawCurves, drawEffects, picture } from "../charts.js";
import { add, fill, h, number, save, table, words } from "../dom.js";
import { go, state } from "../state.js";
import { chartOf, pick, axisControl, stretchControl, figureControl, curvesOf } from "./controls.js";

export const compare = {
  place: 60,
  question: "Which run is better, and what made the difference?",
  tab: "Compare",
  several: true,
  async controls(root, facts) {
    const figures = facts.scores.map((score) => score.name);
    add(root, figureControl(figures, state().figure || figures.find((f) => f === "validation_loss") || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), names = facts.scores.map((s) => s.name);
    const figure = now.figure || names.find((f) => f === "validation_loss") || "loss";
    if (now.runs.length < 2) {
      fill(root, h("p", { class: "none" }, "Tick at least two runs on the left."));
      return;
    }
    const found = await get("compare", { runs: now.runs.join(","), figure, against: now.against });
    const curves = await curvesOf(now.runs, figure);
    const lead = found.leader, chance = found.difference;
    const named = !chance || !chance.of_seeds; // among seeds of one way, which is ahead is chance
    const sentences = !named ? [] : [lead ? `${lead.run} has the best ${words(figure)} as far as all of them go, ${now.against} ${number(lead.end)}: it left the others for good at ${now.against} ${number(lead.at)}, with ${number(lead.value)}.` : "None left the others for good."];
    const judged = chance ? h("p", { class: `answer ${chance.verdict.replace(" ", "-")}`, id: "difference" }, h("span", { class: "verdict" }, `${chance.verdict}: ${chance.subject}`), chance.evidence, chance.cure ? h("span", { class: "cure" }, chance.cure) : null) : null;
    const { step, seconds } = found.per_axis;
    if (named && step && seconds) {
      sentences.push(step.run === seconds.run ? `${step.run} wins per step and per second of training.`
        : `Per step ${step.run} wins (${number(step.value)} by step ${number(step.at)}); per second ${seconds.run} does (${number(seconds.value)} by ${number(seconds.at)} s).`);
    }
    sentences.push(found.settings.length ? `What differs: ${found.settings.map((row) => row[0]).slice(0, 6).join(", ")}.` : "Their settings are equal.");
    const head = ["", ...found.runs];
    fill(root, judged, h("p", { class: "answer", id: "leader" }, sentences.join(" ")), ...chartOf("compare", `${words(figure)} of ${found.runs.join(", ")}`, curves, now.runs, figure),
      h("p", { class: "controls" },
        h("a", { class: "csv", download: true, href: `/api/curves.csv?${new URLSearchParams({ runs: now.runs.join(","), figure, against: now.against })}` }, "These numbers as CSV"),
        curves.length && h("button", { class: "png", onclick: async () => save(`${figure}.png`, await picture("compare")) }, "The chart as PNG")),
      table("Settings that differ", head, found.settings) || h("p", {}, ""), table("Scores", head, found.scores.map((r) => [words(r[0]), ...r.slice(1)])),
      table("Scores of the best states, with 95 % intervals", head, found.assessments) || "", table("Time, memory, origin", head, found.facts),
      h("h2", {}, "Which settings matter, over all runs"), h("div", { id: "effects" }));
    const several = (run) => curves.filter((c) => c.run === run).length > 1; // as runs of a team's members may be called
    const name = (c) => several(c.run) ? `${c.run} (${c.uid.slice(0, 6)})` : c.run;
    if (curves.length) drawCurves("compare", curves, { against: now.against, figure, log: now.log, pick, name });
    const place = root.querySelector("#effects");
    try {
      const { effects, reason } = await get("effects", { figure: `best ${figure}` });
      if (!effects.length) add(place, h("p", { class: "none" }, reason || "No setting has several values."));
      else {
        const shown = effects.filter((e) => e.matters).map((e) => e.setting);
        add(place, h("p", { class: "hint", id: "shown" }, shown.length ? `Shown to matter, beyond chance: ${shown.join(", ")}.` : "None is shown to matter beyond chance."),
          chart("effects", "effects of settings, ranked"), table("", ["setting", "values", "change", "from", "to", "p", "it matters"], effects.map((e) => [e.setting, e.values, e.effect, e.low, e.high, e.p, e.matters ? "yes" : "not shown"])));
        drawEffects("effects", effects);
      }
    } catch (error) {
      add(place, h("p", { class: "none" }, error.message));
    }
  },
};
