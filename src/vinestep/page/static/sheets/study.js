import { get, run as at } from "../api.js";
import { chart, drawEffects, picture } from "../charts.js";
import { fill, h, number, save, table, words } from "../dom.js";
import { go } from "../state.js";
import { first } from "./controls.js";

const open = (label) => h("button", { onclick: () => go({ runs: [label], sheet: "learning", low: "", high: "" }), "aria-label": `Open ${label}` }, label);
const percent = (share) => `${Math.round(100 * share)} %`;

function told(found) {
  const state = [found.running ? `${found.running} still train` : "", found.failed ? `${found.failed} failed` : ""].filter(Boolean).join(", ");
  const whole = `The ${found.kind} ${found.name} has ${found.rows.length} runs${state ? `: ${state}` : ""}.`;
  if (found.kind === "search") {
    const best = found.rows[0], names = found.columns.filter((name) => !["run", "status", "epochs", found.by].includes(name));
    const score = best?.[found.columns.indexOf(found.by)];
    if (score === null || score === undefined) return `${whole} None has a score yet.`;
    const chosen = names.map((name) => `${name} ${number(best[found.columns.indexOf(name)])}`).join(", ");
    const sure = found.importance.filter((row) => row.matters).map((row) => `${row.setting} (${percent(row.share)} of the differences)`);
    const why = !found.importance.length ? "Fewer than 6 whole trials do not tell which settings mattered."
      : sure.length ? `What mattered: ${sure.join(", ")}.` : "No setting mattered more than chance, as far as these trials tell.";
    return `${whole} Best ${words(found.by)}: ${number(score)}, with ${chosen}. ${why}`;
  }
  const one = found.summary.find((row) => row.score === "loss") || found.summary[0];
  return one ? `${whole} Held-out ${words(one.score)}: ${number(one.mean)}, 95 % interval ${number(one.low)} to ${number(one.high)}, over ${one.folds} folds.` : `${whole} No fold is scored yet.`;
}

export const study = {
  place: 65,
  question: "What did the whole study find?",
  tab: "Study",
  async controls() {},
  async evidence(root, facts) {
    if (!facts.about.study) {
      fill(root, h("p", { class: "none" }, "This run is part of no study. A study is a search, ", h("code", {}, "vinestep search"), ", or a cross-validation, ", h("code", {}, "vinestep cross-validate"), "."));
      return;
    }
    const found = await get(`${at(first())}/study`), key = "study";
    const rows = found.rows.map((row) => [open(row[0]), ...row.slice(1).map((value) => value ?? "")]);
    const cells = (row) => row.map((value) => `"${String(value ?? "").replaceAll('"', '""')}"`).join(",");
    fill(root, h("p", { class: "answer", id: "study" }, told(found)),
      found.importance.length ? [h("h2", {}, "Share of the differences between trials that a setting explains"), chart(key, "shares of settings, with intervals"),
        h("p", { class: "controls" }, h("button", { class: "png", onclick: async () => save(`${found.name}.png`, await picture(key)) }, "The chart as PNG")),
        table("", ["setting", "share", "from", "to", "p", "it matters"], found.importance.map((r) => [r.setting, r.share, r.low, r.high, r.p, r.matters ? "yes" : "not more than chance"]))] : null,
      found.summary.length ? table("Over the folds", ["score", "mean", "deviation", "from", "to", "folds"], found.summary.map((r) => [words(r.score), r.mean, r.deviation, r.low, r.high, r.folds])) : null,
      h("h2", {}, found.kind === "search" ? "Trials, the best first" : "Folds, scored on what was held out"), table("", found.columns.map(words), rows) || "",
      h("p", { class: "controls" }, h("button", { class: "csv", onclick: () => save(`${found.name}.csv`, `${[found.columns, ...found.rows].map(cells).join("\n")}\n`, "text/csv") }, "This table as CSV"),
        h("button", { id: "tick-study", onclick: () => go({ runs: found.rows.slice(0, 12).map((row) => row[0]), sheet: "compare" }) }, "Hold the first 12 against one another")));
    if (found.importance.length) {
      drawEffects(key, found.importance.map((r) => ({ setting: r.setting, effect: r.share, low: r.low, high: r.high })), { along: "share, with its 95 % interval" });
    }
  },
};
