import { get } from "../api.js";
import { fill, h, table } from "../dom.js";
import { go, state } from "../state.js";

export const models = {
  place: 80,
  question: "Where do the best models come from?",
  tab: "Models",
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
