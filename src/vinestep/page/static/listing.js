// The runs that meet the conditions, fetched once for the list and for the sheets.
import { get } from "./api.js";
import { state } from "./state.js";

export const MOST_LISTED = 200; // in the list on the left; the table shows all
export const listing = { runs: [], names: [] };

// A part with a comparison is a condition; any other is a text to be found.
export function conditions(text) {
  const parts = (text || "").split(";").map((one) => one.trim()).filter(Boolean);
  return { where: parts.filter((one) => /[<>=]/.test(one)), text: parts.filter((one) => !/[<>=]/.test(one)) };
}

export async function fetchRuns() {
  const now = state();
  const found = await get("runs", { ...conditions(now.where), sort: now.sort, columns: now.columns.join(",") });
  Object.assign(listing, found);
}

// What may stand at the end of a condition: names, and after one of them values that runs have.
export function completions(text) {
  const at = text.lastIndexOf(";") + 1, before = text.slice(0, at) + (at ? " " : ""), last = text.slice(at).trimStart();
  const named = /^(.*?)(<=|>=|!=|=|<|>)/.exec(last);
  if (!named) return [...listing.names, "tag"].flatMap((name) => [`${before}${name}=`, `${before}${name}<`, `${before}${name}>`]).filter((one) => one.startsWith(before + last)).slice(0, 300);
  const column = named[1].trim();
  const values = column === "tag" ? listing.runs.flatMap((run) => run.tags.split(" ")) : listing.runs.map((run) => run[column]);
  return [...new Set(values)].filter((value) => value !== null && value !== undefined && value !== "").slice(0, 100).map((value) => before + named[1] + named[2] + value);
}
