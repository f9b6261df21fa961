// The JSON interface, and what is new as it comes.
export class Refused extends Error {}

export async function get(path, query = {}) {
  const given = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) {
    for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== null && one !== "") given.append(name, one);
  }
  return read(await fetch(`/api/${path}${given.size ? `?${given}` : ""}`));
}

export async function post(path, body) {
  const headers = { "Content-Type": "application/json", "X-Vinestep-Token": document.body.dataset.token };
  return read(await fetch(`/api/${path}`, { method: "POST", headers, body: JSON.stringify(body) }));
}

async function read(response) {
  if (response.ok) return response.json();
  const text = await response.text();
  let told = text;
  try {
    const detail = JSON.parse(text).detail;
    told = typeof detail === "string" ? detail : JSON.stringify(detail);
  } catch { /* plain text */ }
  throw new Refused(told || `${response.status}`);
}

export function run(label) {
  return `runs/${encodeURIComponent(label)}`;
}

export function listen({ changed, gone, back }) {
  const source = new EventSource("/api/events");
  let away = false;
  source.addEventListener("hello", () => { if (away) back(); away = false; });
  source.addEventListener("changed", (event) => changed(JSON.parse(event.data)));
  source.addEventListener("error", () => {
    away = true;
    gone();
    if (source.readyState === EventSource.CLOSED) setTimeout(() => listen({ changed, gone, back }), 1500);
  });
}
