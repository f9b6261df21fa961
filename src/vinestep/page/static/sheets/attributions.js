import { get, run as at } from "../api.js";
import { chart, drawEffects, picture } from "../charts.js";
import { fill, h, number, save, table } from "../dom.js";
import { first } from "./controls.js";

const TITLES = {
  dependence: "The mean answer, if a column had one value throughout", parts: "What raises and lowers the highest output of single pictures",
  times: "What each time of single sequences adds or takes away", attention: "Which places look at which", map: "How the network sees the examples",
  "feature maps": "What layers put out for one picture",
};

export const attributions = {
  place: 55,
  question: "What mattered to it?",
  tab: "Mattered",
  async controls() {},
  async evidence(root) {
    const label = first(), found = await get(`${at(label)}/attributions`);
    if (found.step === null) {
      fill(root, h("p", { class: "none" }, "Nobody looked yet. To look now: ", h("code", {}, `vinestep attribute ${label}`),
        ". To look at the end of each run: the observer Attributions, in a plan ", h("code", {}, "[[observers]] kind = \"attributions\""), "."));
      return;
    }
    const rows = found.importances, key = "importances";
    const shown = Object.entries(found.pictures).map(([name, file]) => {
      const title = TITLES[name] || TITLES[name.split(" of ")[0]] || name;
      return [h("h2", {}, title), h("p", {}, h("img", { alt: `${title}, ${label}`, style: "max-width: 100%", loading: "lazy", src: `/api/${at(label)}/files/${encodeURIComponent(file)}` }))];
    });
    const csv = `column,importance,low,high\n${rows.map((r) => `"${String(r.column).replaceAll('"', '""')}",${r.importance},${r.low},${r.high}`).join("\n")}\n`;
    const head = found.nearest.length ? Object.keys(found.nearest[0]) : [];
    fill(root, found.sentence ? h("p", { class: "answer", id: "attributions" }, found.sentence) : null,
      h("p", { class: "hint" }, `Of the best state, at step ${number(found.step)}, on rows that it was not trained on.`),
      rows.length ? [chart(key, "by how much the loss rises without each column"), h("p", { class: "controls" },
        h("button", { class: "csv", onclick: () => save(`${label}-importances.csv`, csv, "text/csv") }, "These numbers as CSV"),
        h("button", { class: "png", onclick: async () => save(`${label}-importances.png`, await picture(key)) }, "The chart as PNG"))] : null,
      ...shown.flat(),
      head.length ? [h("h2", {}, "Examples decided worst, and the nearest that were trained on"), table("", head, found.nearest.map((row) => head.map((name) => row[name])))] : null);
    if (rows.length) {
      drawEffects(key, rows.map((r) => ({ setting: r.column, effect: r.importance, low: r.low, high: r.high })),
        { along: "the loss rises by, with its 95 % interval" });
    }
  },
};
