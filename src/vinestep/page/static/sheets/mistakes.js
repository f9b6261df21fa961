import { get, run as at } from "../api.js";
import { add, fill, h, number, table } from "../dom.js";
import { go, state } from "../state.js";
import { said, option, first } from "./controls.js";

export const mistakes = {
  place: 50,
  question: "What does it get wrong?",
  tab: "Mistakes",
  async controls(root) {
    const found = await get(`${at(first())}/looks`), now = state();
    if (found.steps.length < 2) return;
    add(root, h("label", {}, "Look at step", h("select", { id: "look", onchange: (e) => go({ look: e.target.value }) },
      option("", `${found.steps.at(-1)}, the latest`, now.look || ""), found.steps.slice(0, -1).reverse().map((s) => option(String(s), String(s), now.look || "")))));
  },
  async evidence(root) {
    const now = state(), label = first();
    const { answers } = await get(`${at(label)}/answers`);
    const found = await get(`${at(label)}/looks`);
    if (!found.steps.length) {
      fill(root, said(answers, "mistakes"), ...others(label, found));
      return;
    }
    const chosen = now.look || String(found.steps.at(-1)), before = Object.fromEntries(found.looks[found.steps[0]].map((row) => [row.example, row]));
    const rows = [...found.looks[chosen]].sort((a, b) => (b.error ?? 0) - (a.error ?? 0));
    const short = (text) => String(text ?? "").split(" (")[0];
    const cards = rows.map((row) => h("li", { class: row.truth !== null && / \([\d.]+\)$/.test(row.output ?? "") && short(row.output) !== String(row.truth) && (row.error ?? 0) > 0.5 ? "off" : "" },
      found.pictures[row.example] ? h("img", { alt: `example ${row.example}`, src: `/api/${at(label)}/files/${encodeURIComponent(found.pictures[row.example])}` }) : null,
      h("div", {}, `example ${row.example}`), row.truth === null ? null : h("div", {}, "truth: ", h("strong", {}, String(row.truth))),
      h("div", {}, `then: ${short(before[row.example]?.output)}`), h("div", {}, "now: ", h("strong", {}, short(row.output))),
      row.error === undefined || row.error === null ? null : h("div", { class: "hint" }, `error ${number(before[row.example]?.error, 3)} then, ${number(row.error, 3)} now`)));
    const fields = found.inputs.length ? Object.keys(found.inputs[0]) : [];
    fill(root, said(answers, "mistakes"),
      h("p", { class: "hint" }, `The same ${rows.length} examples, most wrong first; "then" is at step ${found.steps[0]}, "now" at step ${chosen}.`),
      h("ul", { class: "examples" }, cards),
      fields.length ? h("details", {}, h("summary", {}, "What went into the network"), table("Inputs", fields, found.inputs.map((row) => fields.map((f) => row[f])))) : null,
      ...others(label, found));
  },
};

function others(label, found) {
  const pictures = found.others.filter((name) => name.endsWith(".png"));
  return pictures.length ? [h("h2", {}, "Other pictures of the record"), h("p", {}, pictures.slice(-12).map((name) =>
    h("img", { alt: name, style: "max-width: 100%", loading: "lazy", src: `/api/${at(label)}/files/${encodeURIComponent(name)}` })))] : [];
}
