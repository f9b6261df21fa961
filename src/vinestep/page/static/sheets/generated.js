import { get, run as at } from "../api.js";
import { chart, drawCurves } from "../charts.js";
import { fill, h, number } from "../dom.js";
import { first, said } from "./controls.js";

const SCORES = { distance: "distance of what is made from real examples", coverage: "share of real examples that have something made near them", precision: "share of what is made that lies among real examples" };

export const generated = {
  place: 45,
  question: "What does it make?",
  tab: "Made",
  async controls() {},
  async evidence(root) {
    const label = first(), [found, { answers }] = await Promise.all([get(`${at(label)}/generated`), get(`${at(label)}/answers`)]);
    if (!found.steps.length && !found.pictures.length && !found.tables.length) {
      fill(root, h("p", { class: "none" }, "This network makes no examples, or nobody looked. Networks that do are looked at by the observer GeneratedSamples, in a plan ",
        h("code", {}, "[[observers]] kind = \"generated_samples\""), "."));
      return;
    }
    const shown = (look, title) => h("figure", {}, h("figcaption", {}, title),
      h("img", { alt: `${title}, ${label}`, style: "width: 100%; max-width: 36rem; image-rendering: pixelated", loading: "lazy", src: `/api/${at(label)}/files/${encodeURIComponent(look.file)}` }));
    const wide = (look, title) => h("p", {}, h("img", { alt: `${title}, ${label}`, style: "max-width: 100%", loading: "lazy", src: `/api/${at(label)}/files/${encodeURIComponent(look.file)}` }));
    const looks = found.pictures, last = looks.length - 1;
    fill(root, said(answers, "generated"),
      looks.length ? h("div", { class: "beside" }, shown(looks[0], `first, step ${number(looks[0].step)}`),
        last > 0 ? shown(looks[last], `latest, step ${number(looks[last].step)}`) : null) : null,
      looks.length > 2 ? through(looks, label) : null,
      found.nearest ? [h("h2", {}, "The nearest examples of the training"), wide(found.nearest, `step ${number(found.nearest.step)}`)] : null,
      ...Object.entries(SCORES).filter(([name]) => found.scores[name]).map(([name, words]) => chart(name, words)),
      ...found.tables.map((one) => [h("h2", {}, `Made at step ${number(one.step)}`),
        h("table", {}, h("thead", {}, h("tr", {}, one.columns.map((name) => h("th", {}, name)))),
          h("tbody", {}, one.rows.map((row) => h("tr", {}, row.map((cell) => h("td", {}, typeof cell === "number" ? number(cell) : String(cell ?? "")))))))]).flat());
    for (const name of Object.keys(SCORES)) if (found.scores[name]) drawCurves(name, [{ run: label, x: found.steps, y: found.scores[name] }], { against: "step", figure: name, exact: true });
  },
};

// All looks in their order, one at a time: by hand, or one after another.
function through(looks, label) {
  const image = h("img", { alt: `looks, ${label}`, style: "width: 100%; max-width: 36rem; image-rendering: pixelated" });
  const told = h("span", { class: "hint" });
  const show = (place) => {
    image.src = `/api/${at(label)}/files/${encodeURIComponent(looks[place].file)}`;
    told.textContent = ` step ${number(looks[place].step)}`;
    range.value = place;
  };
  const range = h("input", { type: "range", min: 0, max: looks.length - 1, "aria-label": "which look", oninput: () => show(Number(range.value)) });
  let playing = null;
  const play = h("button", { id: "play", onclick: () => {
    if (playing) { clearInterval(playing); playing = null; play.textContent = "Play"; return; }
    play.textContent = "Stop";
    playing = setInterval(() => {
      if (!image.isConnected) { clearInterval(playing); return; }
      show((Number(range.value) + 1) % looks.length);
    }, 700);
  } }, "Play");
  show(looks.length - 1);
  return h("div", {}, h("h2", {}, "From the first to the latest"), h("p", { class: "controls" }, play, range, told), h("p", {}, image));
}
