// One sheet a question: the answer in words on top, the evidence below.
import { get, post, run as at } from "./api.js";
import { chart, drawBands, drawCurves, drawEffects, picture } from "./charts.js";
import { add, fill, h, number, save, table, words } from "./dom.js";
import { go, state } from "./state.js";

const AXES = { epoch: "epochs", step: "steps", examples: "examples", seconds: "seconds of training" };

function said(answers, question) {
  const found = answers.filter((answer) => answer.question === question);
  if (!found.length) return h("p", { class: "none" }, "The record does not support an answer yet.");
  const order = ["wrong", "suspicious", "sound"];
  found.sort((a, b) => order.indexOf(a.verdict) - order.indexOf(b.verdict));
  return h("div", {}, found.map((a) => h("p", { class: `answer ${a.verdict}` },
    h("span", { class: "verdict" }, `${a.verdict}: ${a.subject}`), a.evidence, a.cure ? h("span", { class: "cure" }, a.cure) : null)));
}

const pick = (low, high) => go({ low: low.toPrecision(6), high: high.toPrecision(6) });
const option = (value, text, chosen) => h("option", { value, selected: value === chosen }, text);

function axisControl() {
  const now = state();
  return h("label", {}, "Against", h("select", { id: "against", onchange: (e) => go({ against: e.target.value, low: "", high: "" }) },
    Object.entries(AXES).map(([value, text]) => option(value, text, now.against))));
}

function stretchControl() {
  const now = state();
  const low = h("input", { type: "number", step: "any", id: "low", value: now.low || "" }), high = h("input", { type: "number", step: "any", id: "high", value: now.high || "" });
  return [
    h("label", {}, "From", low), h("label", {}, "to", high),
    h("button", { id: "closer", onclick: () => go({ low: low.value, high: high.value }) }, "Look closer"),
    now.low || now.high ? h("button", { id: "whole", onclick: () => go({ low: "", high: "" }) }, "Whole run") : null,
    h("label", {}, "Values", h("select", { id: "log", onchange: (e) => go({ log: e.target.value }) },
      option("", "as they are", now.log || ""), option("1", "logarithmic", now.log || ""))),
  ];
}

function figureControl(figures, chosen) {
  return h("label", {}, "Figure", h("select", { id: "figure", onchange: (e) => go({ figure: e.target.value }) }, figures.map((f) => option(f, words(f), chosen))));
}

function numbersOf(label, series, key) {
  const name = `${label}-${key}`;
  const address = (form) => `/api/${at(label)}/series/${encodeURIComponent(series)}?form=${form}`;
  return h("p", { class: "controls" },
    h("a", { href: address("csv"), download: true, class: "csv" }, "These numbers as CSV"),
    h("a", { href: address("json"), download: true, class: "json" }, "as JSON"),
    h("button", { class: "png", onclick: async () => save(`${name}.png`, await picture(key)) }, "The chart as PNG"),
    h("button", { class: "copy", onclick: async (e) => {
      const told = e.target;
      await navigator.clipboard.writeText(location.href);
      told.textContent = "Address copied";
    } }, "Copy the address of this view"));
}

function figuresOf(facts) {
  return facts.scores.map((score) => score.name).filter((name) => !name.startsWith("validation_"));
}

const first = () => state().runs[0];
const steps = (facts) => facts.series.includes("steps");

async function curvesOf(labels, figure, more = {}) {
  const now = state();
  const { curves } = await get("curves", { runs: labels.join(","), figure, against: now.against, low: now.low, high: now.high, ...more });
  return curves;
}

function trendWords(curve) {
  if (!curve || !curve.slope_error) return "";
  const sure = Math.abs(curve.slope) / curve.slope_error;
  const way = curve.slope < 0 ? "falls" : "rises";
  const near = sure > 3 ? `${way}, by ${number(Math.abs(curve.slope), 3)} a unit, ${number(sure, 2)} times its uncertainty`
    : `is level: a slope of ${number(curve.slope, 3)} is ${number(sure, 2)} times its uncertainty, which is noise`;
  return `In the last quarter of what is shown the trend of ${words(curve.figure)} ${near}.`;
}

const learning = {
  question: "Is it learning?",
  async controls(root, facts) {
    add(root, figureControl(figuresOf(facts), state().figure || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), label = first(), figure = now.figure || "loss";
    const { answers } = await get(`${at(label)}/answers`);
    const some = await curvesOf([label], figure, steps(facts) ? { of: "steps" } : {});
    const epochs = await curvesOf([label], figure, facts.series.includes("epochs") ? { of: "epochs" } : {});
    const curves = (some.length ? some : epochs).map((c) => ({ ...c, title: steps(facts) ? "training, by step" : "training" }));
    const held = facts.series.includes("epochs") ? await curvesOf([label], `validation_${figure}`, { of: "epochs" }) : [];
    const all = [...curves, ...held.map((c) => ({ ...c, title: "validation" }))];
    const box = chart("learning", `${words(figure)} of ${label} against ${AXES[now.against]}`);
    fill(root, said(answers, "learning"), h("p", { id: "trend" }, trendWords(all[0])), box,
      h("p", { class: "hint" }, "Drag over the chart, or give from and to, to look closer. Points as recorded; the line is a local fit with its 95 % band."),
      numbersOf(label, steps(facts) ? "steps" : "epochs", "learning"));
    if (all.length) drawCurves("learning", all, { against: now.against, figure, log: now.log, pick, name: (c) => c.title });
  },
};

const overfitting = {
  question: "Is it overfitting, and since when?",
  async controls(root, facts) {
    add(root, figureControl(figuresOf(facts), state().figure || "loss"), axisControl(), ...stretchControl());
  },
  async evidence(root, facts) {
    const now = state(), label = first(), figure = now.figure || "loss";
    const { answers } = await get(`${at(label)}/answers`);
    const both = [...await curvesOf([label], figure, { of: "epochs" }), ...await curvesOf([label], `validation_${figure}`, { of: "epochs" })];
    const since = answers.find((a) => a.trouble === "overfitting");
    const marks = since && now.against === "epoch" ? [{ at: since.epoch, name: `since epoch ${Math.round(since.epoch)}` }] : [];
    fill(root, said(answers, "overfitting"), chart("overfitting", `${words(figure)} of training and validation`), numbersOf(label, "epochs", "overfitting"));
    if (both.length) {
      const name = (c) => c.figure.startsWith("validation_") ? "validation" : "training";
      drawCurves("overfitting", both, { against: now.against, figure, log: now.log, pick, marks, name });
    }
  },
};

const layers = {
  question: "Which layer is in trouble?",
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

const optimiser = {
  question: "What does the optimiser do?",
  async controls(root) { add(root, axisControl(), ...stretchControl()); },
  async evidence(root, facts) {
    const now = state(), label = first();
    const { answers } = await get(`${at(label)}/answers`);
    const rate = await curvesOf([label], "rate", { of: steps(facts) ? "steps" : "epochs" });
    const norm = steps(facts) ? await curvesOf([label], "norm", { of: "steps" }) : [];
    const settings = Object.entries(facts.settings).filter(([name]) => /^(optimiser|schedule|clip)/.test(name));
    fill(root, said(answers, "optimiser"), h("h2", {}, "Rate"), chart("rate", "the rate", { low: true }),
      h("h2", {}, "Norm of all gradients"), chart("norm", "norm of all gradients", { low: true }),
      numbersOf(label, steps(facts) ? "steps" : "epochs", "rate"), table("Its settings", ["setting", "value"], settings));
    if (rate.length) drawCurves("rate", rate, { against: now.against, figure: "rate", log: now.log, pick, exact: true });
    if (norm.length) drawCurves("norm", norm, { against: now.against, figure: "norm", log: now.log, pick });
  },
};

const mistakes = {
  question: "What does it get wrong?",
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
    const cards = rows.map((row) => h("li", { class: row.truth !== null && short(row.output) !== String(row.truth) && (row.error ?? 0) > 0.5 ? "off" : "" },
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

const compare = {
  question: "Which run is better, and what made the difference?",
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
    const lead = found.leader;
    const sentences = [lead ? `${lead.run} has the best ${words(figure)} as far as all of them go, ${now.against} ${number(lead.end)}: it left the others for good at ${now.against} ${number(lead.at)}, with ${number(lead.value)}.` : "None left the others for good."];
    const { step, seconds } = found.per_axis;
    if (step && seconds) {
      sentences.push(step.run === seconds.run ? `${step.run} wins per step and per second of training.`
        : `Per step ${step.run} wins (${number(step.value)} by step ${number(step.at)}); per second ${seconds.run} does (${number(seconds.value)} by ${number(seconds.at)} s).`);
    }
    sentences.push(found.settings.length ? `What differs: ${found.settings.map((row) => row[0]).slice(0, 6).join(", ")}.` : "Their settings are equal.");
    const head = ["", ...found.runs];
    fill(root, h("p", { class: "answer", id: "leader" }, sentences.join(" ")), chart("compare", `${words(figure)} of ${now.runs.join(", ")}`),
      h("p", { class: "controls" },
        h("button", { class: "csv", onclick: () => save(`${figure}.csv`, `run,${now.against},${figure}\n${curves.flatMap((c) => c.x.map((x, i) => `${c.run},${x},${c.y[i]}`)).join("\n")}\n`, "text/csv") }, "These numbers as CSV"),
        h("button", { class: "png", onclick: async () => save(`${figure}.png`, await picture("compare")) }, "The chart as PNG")),
      table("Settings that differ", head, found.settings) || h("p", {}, ""), table("Scores", head, found.scores.map((r) => [words(r[0]), ...r.slice(1)])),
      table("Scores of the best states, with 95 % intervals", head, found.assessments) || "", table("Time, memory, origin", head, found.facts),
      h("h2", {}, "Which settings matter, over all runs"), h("div", { id: "effects" }));
    if (curves.length) drawCurves("compare", curves, { against: now.against, figure, log: now.log, pick });
    const place = root.querySelector("#effects");
    try {
      const { effects, reason } = await get("effects", { figure: `best ${figure}` });
      if (!effects.length) add(place, h("p", { class: "none" }, reason || "No setting has several values."));
      else {
        add(place, chart("effects", "effects of settings, ranked"), table("", ["setting", "values", "change", "from", "to"], effects.map((e) => [e.setting, e.values, e.effect, e.low, e.high])));
        drawEffects("effects", effects);
      }
    } catch (error) {
      add(place, h("p", { class: "none" }, error.message));
    }
  },
};

const network = {
  question: "What is the network?",
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

const models = {
  question: "Where do the best models come from?",
  always: true,
  async controls() {},
  async evidence(root) {
    const { models: kept } = await get("models");
    if (!kept.length) {
      fill(root, h("p", { class: "none" }, "The catalogue is empty. Keep a model: vinestep keep RUN --as NAME"));
      return;
    }
    const used = kept.filter((m) => m.in_use);
    const now = state();
    const difference = h("div", {});
    const against = (m) => now.runs.length ? h("button", { "aria-label": `What differs between ${m.name} ${m.version} and ${now.runs[0]}`, onclick: async () => {
      const found = await get(`models/${encodeURIComponent(m.name)}/${m.version}/differences`, { run: now.runs[0] });
      fill(difference, table(`${found.model} against ${found.run}`, ["setting", found.model, found.run], found.settings) || h("p", {}, `${found.model} and ${found.run} have equal settings.`));
    } }, `against ${now.runs[0]}`) : "";
    fill(root, 
      h("p", { class: "answer sound" }, used.length ? `In use: ${used.map((m) => `${m.name} ${m.version}, from ${m.about.run}, since ${m.used_since.slice(0, 10)} (${m.used_by})`).join("; ")}.` : "No version is marked as the one in use."),
      table("Kept models", ["model", "version", "in use", "from run", "step", "kept", "by", "data", "commit", "begun from", "note", ""], kept.map((m) => [m.name, String(m.version), m.in_use ? "in use" : "",
        m.about.run ? h("button", { onclick: () => go({ runs: [m.about.run], sheet: "learning" }) }, m.about.run) : "", m.about.step, m.kept.slice(0, 16).replace("T", " "), m.kept_by, String(m.about.data || "").slice(0, 10),
        String(m.about.commit || "").slice(0, 10), m.about.parent?.run || m.about.parent?.source || "", m.note, against(m)])), difference);
  },
};

const machine = {
  question: "How is the machine?",
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

const record = {
  question: "What was asked of it, and what did it say?",
  async controls(root, facts) {
    if (facts.running) {
      const ask = (what) => async () => {
        try {
          await post(`${at(first())}/ask`, { what, why: "asked on the page" });
          document.querySelector("#asked").textContent = `Asked to ${what}; it will after the present step.`;
        } catch (error) {
          document.querySelector("#asked").textContent = error.message;
        }
      };
      add(root, h("button", { id: "stop", onclick: ask("stop") }, "Stop this run, to be resumed"), h("button", { id: "finish", onclick: ask("finish") }, "Finish it as good enough"));
    }
    add(root, h("span", { id: "asked", role: "status" }));
    const text = h("input", { id: "note", "aria-label": "Note", placeholder: "A note for the record", size: 40 });
    add(root, h("form", { onsubmit: async (event) => {
      event.preventDefault();
      if (text.value) await post(`${at(first())}/notes`, { text: text.value });
      text.value = "";
      dispatchEvent(new Event("redraw"));
    } }, text, " ", h("button", { id: "add-note" }, "Write it down")));
  },
  async evidence(root, facts) {
    const { console: printed } = await get(`${at(first())}/console`);
    const lines = [["status", `${facts.status}${facts.reason ? `: ${facts.reason}` : ""}`], ["done", `epoch ${facts.epoch} of ${facts.epochs}, step ${facts.step}`], ["begun", facts.begun], ["tags", facts.tags.join(", ")],
      ["data", facts.about.data || ""], ["commit", facts.about.commit || ""], ["begun from", facts.about.parent?.run || facts.about.parent?.source || ""],
      ...Object.entries(facts.about.machine || {}), ...Object.entries(facts.about.versions || {}).map(([k, v]) => [`version of ${k}`, v])];
    fill(root, h("p", { class: `answer ${facts.status === "failed" ? "wrong" : "sound"}` }, `${facts.run} is ${facts.status}. ${facts.reason || ""}`),
      table("Notes", ["when", "note"], facts.notes.map((n) => [n.at, n.text])) || "", table("Facts", ["what", "is"], lines.filter(([, value]) => value).map(([what, is]) => [what, String(is)])),
      h("h2", {}, "What it printed"), h("pre", { tabindex: "0" }, printed), h("details", {}, h("summary", {}, "All settings"), table("", ["setting", "value"], Object.entries(facts.settings)) || ""));
  },
};

export const SHEETS = { learning, overfitting, layers, optimiser, mistakes, compare, network, models, machine, record };
