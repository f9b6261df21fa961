import { get, run as at } from "../api.js";
import { fill, h, number } from "../dom.js";
import { first } from "./controls.js";

export const network = {
  place: 70,
  question: "What is the network?",
  tab: "Network",
  async controls() {},
  async evidence(root, facts) {
    const found = await get(`${at(first())}/layers`), rows = found.network;
    if (!rows.length) {
      fill(root, h("p", { class: "none" }, "The layers of this run were not recorded."));
      return;
    }
    const total = rows.reduce((sum, row) => sum + row.parameters, 0), most = Math.max(...rows.map((r) => r.multiply_adds), 1), memory = Math.max(...rows.map((r) => r.activation_bytes), 1);
    const line = (row) => h("li", {}, h("div", {}, h("strong", {}, row.layer), h("div", { class: "hint" }, row.path || "the network")),
      h("div", {}, `gives ${row.output.slice(1).join(" × ") || 1}`, row.parameters ? `, ${number(row.parameters)} parameters` : ""),
      h("div", {}, h("div", { class: "bar", style: `width:${100 * row.multiply_adds / most}%`, title: `${number(row.multiply_adds)} multiply-adds` }),
        h("div", { class: "bar", style: `width:${100 * row.activation_bytes / memory}%;background:var(--plum)`, title: `${number(row.activation_bytes)} bytes of activations` })));
    const groups = new Map();
    rows.forEach((row) => {
      const top = row.path.split("/")[0];
      groups.set(top, [...(groups.get(top) || []), row]);
    });
    const listed = [...groups].map(([name, own]) => own.length === 1 ? line(own[0])
      : h("li", { style: "display:block" }, h("details", {}, h("summary", {}, `${name}: ${own.length} layers, ${number(own.reduce((s, r) => s + r.parameters, 0))} parameters, gives ${own.at(-1).output.slice(1).join(" × ") || 1}`), h("ul", { class: "layers" }, own.map(line)))));
    fill(root, h("p", { class: "answer sound" }, `${rows.length} layers with ${number(total)} parameters, ${number(rows.reduce((s, r) => s + r.multiply_adds, 0))} multiply-adds an example.`),
      h("p", { class: "hint" }, "From the input on. Bars: share of the computation, and of the memory of the activations."), h("ol", { class: "layers" }, listed));
  },
};
