// The list of runs, the questions, and the sheet that is open.
import { Refused, get, listen, run as at } from "./api.js";
import { forget } from "./charts.js";
import { h, number } from "./dom.js";
import { MOST_LISTED, fetchRuns, listing as fetched } from "./listing.js";
import * as sheets from "./sheets.js";
import { go, onMove, state } from "./state.js";

const SHEETS = Object.fromEntries(Object.entries(sheets).sort(([, a], [, b]) => a.place - b.place));
const $ = (id) => document.getElementById(id);
let listed = [], listing = 0, drawing = 0, shown = "", filtered = null, filled = null;

const asked = () => ["where", "sort", "columns"].map((name) => state()[name] || "").join("\n");

async function list() {
  const now = state(), mine = ++listing;
  if (filled !== `${now.where || ""} ${now.sort || ""}`) { // else somebody may be typing there
    $("where").value = now.where || "";
    $("sort").value = now.sort || "";
    filled = `${now.where || ""} ${now.sort || ""}`;
  }
  try {
    await fetchRuns();
    if (mine !== listing) return;
    listed = fetched.runs;
    filtered = asked();
    $("names").replaceChildren(...fetched.names.map((name) => h("option", { value: name })));
    $("filter-trouble").textContent = "";
  } catch (error) {
    if (mine !== listing) return;
    $("filter-trouble").textContent = error.message;
    if (!(error instanceof Refused)) return; // the server is away: what was listed stays
    listed = fetched.runs = [];
  }
  ticks();
}

function ticks() {
  const now = state();
  const ordered = now.sort ? listed : [...listed].reverse();
  const newest = ordered.filter((run, i) => i < MOST_LISTED || now.runs.includes(run.key));
  const all = newest.length < listed.length ? `${newest.length} of ${listed.length.toLocaleString("en")} runs; the table has all.` : `${listed.length} runs.`;
  $("runs-hint").textContent = listed.length ? `${all} Open one; tick several to compare.` : now.where ? "No run is so." : "No runs yet. Make one: vinestep demo";
  const focused = document.activeElement?.dataset?.label, kind = document.activeElement?.tagName;
  $("runs").replaceChildren(...newest.map(entry));
  if (focused) [...$("runs").querySelectorAll(`${kind.toLowerCase()}[data-label]`)].find((e) => e.dataset.label === focused)?.focus();
}

function entry(run) {
  const now = state(), ticked = now.runs.includes(run.key);
  const toggle = (event) => {
    const others = state().runs.filter((key) => key !== run.key);
    go({ runs: event.target.checked ? [...others, run.key] : others });
  };
  const best = run["best validation_loss"] ?? run["best loss"] ?? run.loss;
  const done = run.epochs ? `epoch ${run.epoch}/${run.epochs}` : `step ${number(run.step)}`;
  return h("li", { class: now.runs[0] === run.key ? "asked" : "" },
    h("input", { type: "checkbox", checked: ticked, onchange: toggle, "aria-label": `Compare ${run.run}`, "data-label": run.key }),
    h("button", { onclick: () => go({ runs: [run.key], low: "", high: "", layer: "", look: "", sheet: ["compare", "runs", "settings"].includes(now.sheet) ? "learning" : now.sheet }), "data-label": run.key },
      run.run, h("span", { class: `state ${run.status}` }, `${run.status}, ${done}${best === undefined || best === null ? "" : `, ${number(best, 3)}`}`)));
}

const labelOf = (key) => listed.find((run) => run.key === key)?.run ?? key;

function questions() {
  const now = state();
  $("questions").replaceChildren(...Object.entries(SHEETS).map(([name, sheet]) => h("li", {},
    h("button", { "aria-current": name === now.sheet ? "page" : false, "aria-label": sheet.question, title: sheet.question, "data-sheet": name,
      onclick: () => go({ sheet: name, low: "", high: "" }) }, sheet.tab))));
}

async function draw({ live = false } = {}) {
  const mine = ++drawing, now = state(), sheet = SHEETS[now.sheet] || SHEETS.learning, root = $("sheet");
  const moved = shown !== location.search;
  if (!live || moved) questions();
  if (!now.runs.length && !sheet.always) {
    root.replaceChildren(h("h1", {}, sheet.question), h("p", { class: "none" }, listed.length ? "Open a run on the left." : "There is no run yet. Make one: vinestep demo"));
    shown = location.search;
    return;
  }
  if (!live && moved) root.replaceChildren(h("h1", {}, sheet.question), h("p", { class: "hint fetching", role: "status" }, "Fetching the numbers…"));
  try {
    const facts = now.runs.length ? await get(at(now.runs[0])) : null;
    if (mine !== drawing) return;
    if (facts && now.against === "epoch" && !facts.series.includes("epochs") && facts.series.includes("steps")) {
      go({ against: "step" }, { replace: true }); // a loop of one's own has no epochs
      return;
    }
    if (!live || moved || !root.querySelector(".evidence")) {
      const controls = h("div", { class: "controls" }), evidence = h("div", { class: "evidence" }), about = sheet.always ? "" : now.runs.map(labelOf).join(", ");
      await sheet.controls(controls, facts);
      if (mine !== drawing) return;
      root.replaceChildren(h("div", { class: "headline" }, h("h1", {}, sheet.question), h("p", { class: "hint" }, about)), controls, evidence);
      shown = location.search;
    }
    await sheet.evidence(root.querySelector(".evidence"), facts);
    forget((key) => root.querySelector(`[data-chart="${CSS.escape(key)}"]`));
    root.dataset.ready = now.sheet;
    root.dataset.drawn = String(Number(root.dataset.drawn || 0) + 1);
  } catch (error) {
    if (mine !== drawing) return;
    if (live && !(error instanceof Refused)) return; // the server is away: what was drawn stays
    root.replaceChildren(h("h1", {}, sheet.question), h("p", { class: "trouble", role: "alert" }, error.message));
    shown = "";
  }
}

let waiting = null, took = 0;
function soon() {
  waiting ??= setTimeout(async () => {
    waiting = null;
    const begun = performance.now();
    await list();
    await draw({ live: true });
    took = performance.now() - begun;
  }, Math.max(300, 3 * took)); // where it takes long, it is done less often
}

$("filter").addEventListener("submit", (event) => {
  event.preventDefault();
  go({ where: $("where").value.trim(), sort: $("sort").value.trim() });
});
onMove(async () => {
  if (filtered === asked()) ticks();
  else await list();
  await draw();
});
addEventListener("redraw", () => draw({ live: true }));
addEventListener("relist", soon);
addEventListener("keydown", (event) => {
  if (event.altKey || event.ctrlKey || event.metaKey || /^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName)) return;
  const names = Object.keys(SHEETS), at = names.indexOf(state().sheet);
  if (event.key >= "0" && event.key <= "9") go({ sheet: names[(Number(event.key) + 9) % 10], low: "", high: "" });
  else if (event.key === "]") go({ sheet: names[(at + 1) % names.length], low: "", high: "" });
  else if (event.key === "[") go({ sheet: names[(at + names.length - 1) % names.length], low: "", high: "" });
});

await list();
await draw();
$("line").textContent = "live";
listen({
  changed: (news) => {
    $("line").classList.toggle("gone", Boolean(news.trouble));
    $("line").textContent = news.trouble || "live";
    if (!news.trouble) soon();
  },
  gone: () => { $("line").className = "gone"; $("line").textContent = "The server does not answer; trying again."; },
  back: () => { $("line").className = ""; $("line").textContent = "live"; soon(); },
});
