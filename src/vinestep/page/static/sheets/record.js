import { get, post, run as at } from "../api.js";
import { add, fill, h, table } from "../dom.js";
import { first } from "./controls.js";

export const record = {
  place: 100,
  question: "What was asked of it, and what did it say?",
  tab: "Record",
  async controls(root, facts) {
    const ask = (what) => async () => {
      try {
        await post(`${at(first())}/ask`, { what, why: "asked on the page" });
        document.querySelector("#asked").textContent = `Asked to ${what}; it will after the present step.`;
      } catch (error) {
        document.querySelector("#asked").textContent = error.message;
      }
    };
    add(root, h("button", { id: "stop", hidden: !facts.running, onclick: ask("stop") }, "Stop this run, to be resumed"),
      h("button", { id: "finish", hidden: !facts.running, onclick: ask("finish") }, "Finish it as good enough"));
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
    for (const id of ["stop", "finish"]) document.getElementById(id).hidden = !facts.running; // it may have ended, or gone on
    if (!facts.running) document.getElementById("asked").textContent = "";
    const { console: printed } = await get(`${at(first())}/console`);
    const lines = [["status", `${facts.status}${facts.reason ? `: ${facts.reason}` : ""}`], ["done", facts.epochs ? `epoch ${facts.epoch} of ${facts.epochs}, step ${facts.step}` : `step ${facts.step}`], ["begun", facts.begun], ["tags", facts.tags.join(", ")],
      ["data", facts.about.data || ""], ["commit", facts.about.commit || ""], ["begun from", facts.about.parent?.run || facts.about.parent?.source || ""],
      ...Object.entries(facts.about.machine || {}), ...Object.entries(facts.about.versions || {}).map(([k, v]) => [`version of ${k}`, v])];
    fill(root, h("p", { class: `answer ${facts.status === "failed" ? "wrong" : "sound"}` }, `${facts.run} is ${facts.status}. ${facts.reason || ""}`),
      table("Notes", ["when", "note"], facts.notes.map((n) => [n.at, n.text])) || "", table("Facts", ["what", "is"], lines.filter(([, value]) => value).map(([what, is]) => [what, String(is)])),
      h("h2", {}, "What it printed"), h("pre", { tabindex: "0" }, printed), h("details", {}, h("summary", {}, "All settings"), table("", ["setting", "value"], Object.entries(facts.settings)) || ""));
  },
};
