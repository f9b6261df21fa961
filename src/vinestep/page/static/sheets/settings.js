import { get } from "../api.js";
import { chart, drawPaths, drawPoints } from "../charts.js";
import { add, fill, h, number, table, words } from "../dom.js";
import { conditions, listing } from "../listing.js";
import { go, state } from "../state.js";
import { option } from "./controls.js";

const MOST_ROWS = 40; // of a table
let fetched = null; // what the controls asked for, which the evidence shows

const fetchScores = (figure) => get("settings", { figure, ...conditions(state().where) });

const scores = () => [...new Set(listing.runs.flatMap(Object.keys))].filter((name) => listing.runs.some((run) => typeof run[name] === "number") && !["epoch", "epochs", "step"].includes(name));
const figureOf = () => state().score || scores().find((name) => name === "best validation_loss") || scores().find((name) => name === "best loss") || scores()[0];

export const settings = {
  place: 62,
  question: "How do scores go with settings?",
  tab: "Settings",
  always: true,
  async controls(root) {
    const now = state(), figure = figureOf();
    if (!figure) return;
    const found = fetched = await fetchScores(figure);
    const setting = now.setting || found.settings[0] || "";
    add(root, h("label", {}, "Score", h("select", { id: "score", onchange: (e) => go({ score: e.target.value }) }, scores().map((name) => option(name, words(name), figure)))),
      found.settings.length ? h("label", {}, "Setting", h("select", { id: "setting", onchange: (e) => go({ setting: e.target.value }) }, found.settings.map((name) => option(name, name, setting)))) : null,
      found.settings.length ? h("label", {}, "Values", h("select", { id: "scale", onchange: (e) => go({ log: e.target.value }) }, option("", "as they are", now.log || ""), option("1", "logarithmic", now.log || ""))) : null);
  },
  async evidence(root) {
    const now = state(), figure = figureOf();
    const found = fetched ?? (figure ? await fetchScores(figure) : { rows: [], reason: "No run has a score yet." });
    fetched = null;
    if (!found.rows.length || !found.settings.length) {
      fill(root, h("p", { class: "none" }, found.reason || "The runs do not differ in any setting but the seed."));
      return;
    }
    const setting = found.settings.includes(now.setting) ? now.setting : found.settings[0], lower = /loss|error/.test(figure);
    const ranked = [...found.means].sort((a, b) => lower ? a.mean - b.mean : b.mean - a.mean);
    const best = ranked[0], several = ranked.filter((row) => row.runs > 1).length;
    const way = found.settings.map((name) => `${name} ${number(best[name])}`).slice(0, 4).join(", ");
    const interval = best.runs > 1 ? `, 95 % interval ${number(best.low)} to ${number(best.high)} over ${best.runs} seeds` : ", of one seed";
    fill(root, h("p", { class: "answer", id: "best-way" }, `${found.rows.length} runs in ${found.means.length} ways. ${lower ? "Lowest" : "Highest"} mean of ${words(figure)}: ${number(best.mean)}${interval}, with ${way}.${several ? "" : " One seed a way does not tell a better way from a lucky seed."}`),
      h("h2", {}, `${words(figure)} by ${setting}`), chart("by-setting", `${words(figure)} of ${found.rows.length} runs by ${setting}`),
      h("h2", {}, "All settings side by side, each run a line"), h("p", { class: "hint" }, "Green: the lowest quarter of the scores. Orange: the highest."), chart("side-by-side", `settings and ${words(figure)} of ${found.rows.length} runs, side by side`),
      table(`Means over seeds, ${lower ? "lowest" : "highest"} first${ranked.length > MOST_ROWS ? `; ${MOST_ROWS} of ${ranked.length}` : ""}`, [...found.settings, "runs", "mean", "from", "to"],
        ranked.slice(0, MOST_ROWS).map((row) => [...found.settings.map((name) => row[name] ?? ""), row.runs, row.mean, row.low ?? "", row.high ?? ""])));
    drawPoints("by-setting", found.rows, found.means, { setting, figure, log: now.log, open: (row) => go({ runs: [row.uid], sheet: "learning" }) });
    drawPaths("side-by-side", found.rows, { settings: found.settings.slice(0, 8), figure });
  },
};
