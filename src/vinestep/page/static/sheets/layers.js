import { get, run as at } from "../api.js";
import { chart, drawBands, drawCurves } from "../charts.js";
import { add, fill, h, table } from "../dom.js";
import { go, state } from "../state.js";
import { said, option, numbersOf, first, curvesOf } from "./controls.js";

export const layers = {
  place: 30,
  question: "Which layer is in trouble?",
  tab: "Layers",
  async controls(root) {
    const now = state(), kinds = { gradient: "gradient", norm: "weights", update: "update", ratio: "update by weight" };
    add(root, h("label", {}, "Norm of", h("select", { id: "what", onchange: (e) => go({ what: e.target.value }) },
      Object.entries(kinds).map(([value, text]) => option(value, text, now.what || "gradient")))));
  },
  async evidence(root) {
    const now = state(), label = first(), what = now.what || "gradient";
    const { answers } = await get(`${at(label)}/answers`);
    const found = await get(`${at(label)}/layers`);
    if (!found.parameters.length) {
      fill(root, said(answers, "layers"));
      return;
    }
    const troubled = answers.filter((a) => a.question === "layers" && a.layer !== "").map((a) => a.layer);
    const bad = (path) => troubled.some((layer) => path === layer || path.startsWith(`${layer}/`));
    const rows = [...found.parameters].sort((a, b) => bad(b.path) - bad(a.path));
    const look = (path) => h("button", { onclick: () => go({ layer: path }), "aria-label": `Look at ${path}` }, path);
    const listed = rows.map((r) => [look(r.path), bad(r.path) ? "in trouble" : "", r.norm, r["first gradient"], r.gradient, r.update, r.ratio]);
    const paths = found.parameters.map((p) => p.path).filter((path) => !path.endsWith("bias")).slice(0, 12);
    const curves = (await Promise.all(paths.map((path) => curvesOf([label], `${path} ${what}`, { of: "norms", low: "", high: "" })))).flat();
    const chosen = now.layer || rows[0].path;
    const spreads = found.distributions.filter((name) => name.endsWith(` ${chosen}`) || name === `activations ${chosen.split("/").slice(0, -1).join("/")}`);
    const boxes = spreads.map((name) => [h("h3", {}, name), chart(`spread ${name}`, `${name}: quantiles over time`, { low: true })]);
    fill(root, said(answers, "layers"),
      table("Parameters, those in trouble first", ["parameter", "", "norm of weights", "gradient, first", "gradient, now", "update", "update by weight"], listed),
      h("h2", {}, `Norm of the ${what === "norm" ? "weights" : what}, by parameter`), chart("norms", `${what} by parameter over time`),
      numbersOf(label, "norms", "norms"), h("h2", {}, `How ${chosen} is spread over time`), ...boxes.flat(),
      boxes.length ? null : h("p", { class: "none" }, "Its distributions were not recorded; see the observer Distributions."));
    drawCurves("norms", curves, { against: now.against, figure: what, log: true, name: (c) => c.figure.slice(0, -what.length - 1) });
    for (const name of spreads) {
      const quantiles = await Promise.all(["5%", "25%", "50%", "75%", "95%"].map((q) => curvesOf([label], `${name} ${q}`, { of: "distributions", low: "", high: "" })));
      if (quantiles.every((q) => q.length)) drawBands(`spread ${name}`, quantiles.flat(), { against: now.against, figure: name });
    }
  },
};
