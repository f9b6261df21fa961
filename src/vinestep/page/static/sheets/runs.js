// All runs as a table: only the rows in sight are drawn, so that thousands scroll at once.
import { get, post, run as at } from "../api.js";
import { add, fill, h, number, words } from "../dom.js";
import { completions, listing } from "../listing.js";
import { go, state } from "../state.js";

const HEIGHT = 31; // pixels of a row
const AHEAD = 12; // rows that are drawn above and below those in sight
const PART = 100; // runs that one request changes
const MOST_COMPARED = 60;
const USUAL = ["run", "status"], MORE = ["epoch", "step", "best validation_loss", "best loss", "loss", "begun", "tags"];
const chosen = new Set();

const columns = () => {
  const { columns: added, hidden } = state();
  const there = new Set(listing.runs.flatMap((run, i) => i < 50 || i % 97 === 0 ? Object.keys(run) : []));
  return [...new Set([...USUAL, ...added, ...MORE.filter((name) => there.has(name))])].filter((name) => !hidden.includes(name));
};

const shown = (run, name) => {
  if (name === "epoch") return run.epochs ? `${run.epoch}/${run.epochs}` : "";
  if (name === "begun") return String(run.begun ?? "").slice(0, 16).replace("T", " ");
  return number(run[name]);
};

function sorted() {
  const order = state().order;
  if (!order) return [...listing.runs].reverse();
  const down = order.startsWith("-"), name = order.replace(/^-/, ""), none = (value) => value === null || value === undefined || value === "";
  return [...listing.runs].sort((a, b) => {
    const [x, y] = [a[name], b[name]];
    if (none(x) || none(y)) return none(x) - none(y);
    const less = typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y), "en", { numeric: true });
    return down ? -less : less;
  });
}

function order(name) {
  const now = state().order;
  go({ order: now === name ? `-${name}` : now === `-${name}` ? "" : name });
}

async function each(action, body, told) {
  const labels = [...chosen], refused = [];
  for (let i = 0; i < labels.length; i += PART) {
    told.textContent = `${Math.min(i + PART, labels.length)} of ${labels.length}`;
    const found = await post(`selected/${action}`, { labels: labels.slice(i, i + PART), ...body });
    refused.push(...found.refused);
    if (action === "remove") found.done.forEach((key) => chosen.delete(key));
  }
  told.textContent = refused.length ? `${labels.length - refused.length} done; ${refused.length} refused: ${refused.slice(0, 3).join(" ")}` : `${labels.length} done.`;
  dispatchEvent(new Event("relist"));
}

const trying = (told, act) => async (event) => {
  event?.preventDefault();
  try {
    await act();
  } catch (error) {
    told.textContent = error.message;
  }
};

function actions(told) {
  const tag = h("input", { id: "tag", "aria-label": "Tag", placeholder: "tag", size: 10 });
  const name = h("input", { id: "keep-as", "aria-label": "Name in the catalogue", placeholder: "model's name", size: 12 });
  const sure = h("dialog", { id: "sure", "aria-label": "Remove runs" });
  const remove = () => {
    fill(sure, h("p", {}, `Remove ${chosen.size} runs with all that they recorded? This cannot be undone.`),
      h("button", { id: "remove-now", onclick: trying(told, async () => { sure.close(); await each("remove", {}, told); }) }, `Remove ${chosen.size} runs`), " ",
      h("button", { autofocus: true, onclick: () => sure.close() }, "Leave them"));
    sure.showModal();
  };
  const few = () => [...chosen].slice(0, MOST_COMPARED);
  const clean = () => tag.value.trim() ? [tag.value.trim()] : [];
  return h("div", { class: "controls", id: "chosen", hidden: !chosen.size },
    h("strong", { id: "chosen-count" }, ""),
    h("button", { id: "compare-chosen", onclick: () => go({ runs: few(), sheet: "compare" }) }, "Compare"),
    h("button", { id: "report-chosen", onclick: () => location.assign(`/api/report?runs=${encodeURIComponent(few().join(","))}`) }, "Report"),
    h("span", {}, tag, h("button", { id: "tag-chosen", onclick: trying(told, () => each("tags", { add: clean() }, told)) }, "Tag"), h("button", { onclick: trying(told, () => each("tags", { remove: clean() }, told)) }, "Untag")),
    h("span", { id: "keep-one" }, name, h("button", { id: "keep-chosen", onclick: trying(told, async () => {
      const { model } = await post(`${at([...chosen][0])}/keep`, { name: name.value.trim() });
      told.textContent = `Kept as ${model}.`;
    }) }, "Keep its model")),
    h("button", { id: "remove-chosen", onclick: remove }, "Remove"), h("button", { onclick: () => { chosen.clear(); dispatchEvent(new Event("redraw")); } }, "Choose none"), sure);
}

async function viewControl(told) {
  const { views } = await get("views");
  const name = h("input", { id: "view-name", "aria-label": "Name of this view", placeholder: "name", size: 10 });
  const query = () => {
    const asked = new URLSearchParams(location.search);
    asked.delete("runs");
    asked.delete("view");
    return asked.toString();
  };
  const now = state().view || "";
  const open = (event) => {
    const found = views[event.target.value];
    if (found === undefined) go({ view: "" });
    else go({ columns: "", hidden: "", order: "", where: "", sort: "", ...Object.fromEntries(new URLSearchParams(found)), view: event.target.value });
  };
  return [
    h("label", {}, "View", h("select", { id: "view", onchange: open }, h("option", { value: "" }, "choose"), Object.keys(views).map((one) => h("option", { value: one, selected: one === now }, one)))),
    h("form", { onsubmit: trying(told, async () => {
      await post("views", { name: name.value, query: query() });
      go({ view: name.value.trim() });
    }) }, name, h("button", { id: "keep-view" }, "Keep this view")),
    now && views[now] !== undefined ? h("button", { id: "remove-view", onclick: trying(told, async () => { await post("views/remove", { name: now }); go({ view: "" }); }) }, "Remove view") : null,
  ];
}

export const runs = {
  place: 5,
  question: "Which runs are there?",
  tab: "Runs",
  always: true,
  async controls(root) {
    const told = h("span", { id: "told", role: "status" });
    const column = h("input", { id: "column", list: "names", placeholder: "optimiser.rate", onchange: (event) => {
      const name = event.target.value.trim();
      if (!name) return;
      const { columns: added, hidden } = state();
      go({ columns: [...new Set([...added, name])], hidden: hidden.filter((one) => one !== name) });
    } });
    add(root, h("label", {}, "Add a column", column), ...await viewControl(told), told);
  },
  async evidence(root) {
    const told = document.getElementById("told"), rows = sorted(), names = columns();
    const there = new Set(listing.runs.map((run) => run.key));
    for (const key of [...chosen]) if (!there.has(key)) chosen.delete(key);
    if (!rows.length) {
      fill(root, h("p", { class: "none" }, state().where ? "No run is so." : "There is no run yet. Make one: vinestep demo"));
      return;
    }
    if (!root.querySelector("#chosen")) root.replaceChildren(actions(told), h("div", { id: "table" }));
    const old = root.querySelector(".rows"), top = old?.scrollTop ?? 0, left = old?.scrollLeft ?? 0, held = document.activeElement?.closest?.(".rows") ? document.activeElement.dataset.key : null;
    const now = state().order || "", body = h("tbody");
    const width = (name) => Math.min(34, Math.max(name.length + 3, ...rows.slice(0, 200).map((run) => shown(run, name).length)) + 1);
    const all = h("input", { type: "checkbox", id: "choose-all", "aria-label": `Choose all ${rows.length} runs`, checked: rows.every((run) => chosen.has(run.key)), onchange: (event) => {
      rows.forEach((run) => event.target.checked ? chosen.add(run.key) : chosen.delete(run.key));
      draw();
    } });
    const head = names.map((name) => h("th", { scope: "col", class: rows.some((run) => typeof run[name] === "number") && name !== "epoch" ? "n" : "", "aria-sort": now === name ? "ascending" : now === `-${name}` ? "descending" : "none" },
      h("button", { class: "sort", "data-sort": name, title: `Sort by ${words(name)}`, onclick: () => order(name) }, words(name), now === name ? " ▲" : now === `-${name}` ? " ▼" : ""),
      name === "run" ? null : h("button", { class: "drop", "aria-label": `Hide ${words(name)}`, title: "Hide", onclick: () => {
        const { columns: added, hidden } = state();
        go({ columns: added.filter((one) => one !== name), hidden: [...USUAL, ...MORE].includes(name) ? [...hidden, name] : hidden });
      } }, "×")));
    const grid = h("table", { "aria-rowcount": rows.length + 1, style: `width:${3 + names.reduce((sum, name) => sum + width(name), 0)}ch` }, h("caption", { class: "hidden" }, "Runs"),
      h("colgroup", {}, h("col", { style: "width:3ch" }), names.map((name) => h("col", { style: `width:${width(name)}ch` }))),
      h("thead", {}, h("tr", {}, h("th", { scope: "col" }, all), head)), body);
    const box = h("div", { class: "rows", tabindex: "0", role: "region", "aria-label": `${rows.length} runs` }, grid);
    const spare = (count) => h("tr", { "aria-hidden": "true", style: `height:${count * HEIGHT}px` }, h("td", { colspan: names.length + 1 }));
    const focusOn = (key) => key && [...body.querySelectorAll("[data-key]")].find((one) => one.dataset.key === key)?.focus({ preventScroll: true });
    function draw() {
      const first = Math.max(0, Math.floor(box.scrollTop / HEIGHT) - AHEAD), last = Math.min(rows.length, Math.ceil((box.scrollTop + (box.clientHeight || 600)) / HEIGHT) + AHEAD);
      const line = (run, i) => h("tr", { "aria-rowindex": first + i + 2, class: chosen.has(run.key) ? "chosen" : "" },
        h("td", {}, h("input", { type: "checkbox", checked: chosen.has(run.key), "aria-label": `Choose ${run.run}`, "data-key": `tick ${run.key}`, onchange: (event) => {
          event.target.checked ? chosen.add(run.key) : chosen.delete(run.key);
          draw();
        } })),
        names.map((name) => h("td", { class: typeof run[name] === "number" ? "n" : "", title: shown(run, name) }, name === "run" ? h("button", { class: "open", "data-key": run.key, onclick: () => go({ runs: [run.key], sheet: "learning", low: "", high: "" }) }, run.run)
          : name === "status" ? h("span", { class: `state ${run.status}` }, run.status) : shown(run, name))));
      const focused = document.activeElement?.dataset?.key;
      body.replaceChildren(...[spare(first), ...rows.slice(first, last).map(line), spare(rows.length - last)].filter((row, i, every) => (i && i < every.length - 1) || row.style.height !== "0px"));
      focusOn(focused);
      root.querySelector("#chosen").hidden = !chosen.size;
      root.querySelector("#chosen-count").textContent = `${chosen.size} chosen`;
      root.querySelector("#keep-one").hidden = chosen.size !== 1;
    }
    box.addEventListener("scroll", draw, { passive: true });
    root.querySelector("#table").replaceChildren(box);
    [box.scrollTop, box.scrollLeft] = [top, left];
    draw();
    focusOn(held);
  },
};

document.getElementById("where").addEventListener("input", (event) => {
  document.getElementById("conditions").replaceChildren(...completions(event.target.value).map((value) => h("option", { value })));
});
