// What is looked at stands in the address, so that it can be sent to somebody, and so that "back" goes back.
const LISTS = ["runs", "columns", "hidden"];
const listeners = [];

export function state() {
  const query = new URLSearchParams(location.search);
  const found = Object.fromEntries(query);
  for (const name of LISTS) found[name] = (found[name] || "").split(",").filter(Boolean);
  return { sheet: found.runs.length ? "learning" : "runs", against: "epoch", ...found };
}

export function go(changes, { replace = false } = {}) {
  const next = { ...state(), ...changes };
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(next)) {
    const text = Array.isArray(value) ? value.join(",") : value;
    if (text !== "" && text !== null && text !== undefined && text !== false) query.set(name, text);
  }
  history[replace ? "replaceState" : "pushState"](null, "", `/?${query}`);
  listeners.forEach((listener) => listener());
}

export function onMove(listener) {
  listeners.push(listener);
  addEventListener("popstate", listener);
}
