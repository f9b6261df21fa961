// Elements made from data; texts are always texts, never markup.
export function h(tag, attributes = {}, ...children) {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (name.startsWith("on")) element.addEventListener(name.slice(2), value);
    else if (value === true) element.setAttribute(name, "");
    else if (value !== false && value !== null && value !== undefined) element.setAttribute(name, value);
  }
  add(element, ...children);
  return element;
}

const there = (children) => children.flat().filter((child) => child !== null && child !== undefined && child !== false && child !== "");

const named = (details) => details.querySelector("summary")?.textContent;

export function fill(element, ...children) {
  const open = [...element.querySelectorAll("details[open]")].map(named);
  element.replaceChildren(...there(children));
  for (const details of element.querySelectorAll("details")) if (open.includes(named(details))) details.open = true;
}

export function add(element, ...children) {
  element.append(...there(children));
}

export function number(value, digits = 4) {
  if (value === null || value === undefined || value === "") return "";
  if (typeof value !== "number") return String(value);
  if (Number.isInteger(value)) return value.toLocaleString("en");
  const size = Math.abs(value);
  return size !== 0 && (size < 1e-3 || size >= 1e6) ? value.toExponential(digits - 2) : String(Number(value.toPrecision(digits)));
}

// Seconds, as somebody would say them.
export function duration(seconds) {
  if (seconds < 120) return `${number(seconds, seconds < 10 ? 2 : 3)} s`;
  if (seconds < 7200) return `${Math.round(seconds / 60)} min`;
  return seconds < 172800 ? `${number(seconds / 3600, 3)} h` : `${number(seconds / 86400, 3)} days`;
}

export function table(caption, head, rows) {
  if (!rows.length) return null;
  const cell = (value) => h("td", { class: typeof value === "number" ? "n" : "" }, value instanceof Node ? value : number(value));
  return h("div", { class: "wide" }, h("table", {},
    h("caption", {}, caption),
    h("thead", {}, h("tr", {}, head.map((name, i) => h("th", { scope: "col", class: i && typeof rows[0][i] === "number" ? "n" : "" }, name)))),
    h("tbody", {}, rows.map((row) => h("tr", {}, row.map(cell))))));
}

export function words(name) {
  return String(name).replaceAll("_", " ");
}

export function save(name, content, kind) {
  const link = h("a", { download: name, href: URL.createObjectURL(content instanceof Blob ? content : new Blob([content], { type: kind })) });
  document.body.append(link);
  link.click();
  link.remove();
  setTimeout(() => URL.revokeObjectURL(link.href), 10000);
}
