"""One HTML file on one or several runs, which needs nothing else to be read."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from html import escape
from typing import TYPE_CHECKING, Any

from .._notebook_html import html_findings, html_table
from ._comparison import compare
from ._difference import difference

if TYPE_CHECKING:
    from ._query import RunRecord

__all__ = ["report"]

STYLE = """
:root { color-scheme: light dark; --ink: #2b2b2b; --paper: #fffdf8; --rule: #d9d2c3;
  --must: #5b2a86; --good: #2e7d4f; --bad: #b3401b; }
@media (prefers-color-scheme: dark) { :root { --ink: #e9e4da; --paper: #1d1a20; --rule: #4a4450;
  --must: #c7a5e8; --good: #86cfa3;
  --bad: #f0a582; } }
body { font: 16px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper);
  max-width: 70rem;
  margin: 2rem auto; padding: 0 1rem; }
h1, h2 { color: var(--must); } table { border-collapse: collapse; margin: 1rem 0; } caption {
  text-align: left; font-weight: bold; }
td, th { border-bottom: 1px solid var(--rule); padding: .2rem .8rem .2rem 0; text-align: left;
  vertical-align: top; }
td.n { text-align: right; font-variant-numeric: tabular-nums; } img { max-width: 100%;
  background: white; }
.wrong { color: var(--bad); font-weight: bold; } .suspicious { color: var(--bad); } .sound {
  color: var(--good); }
@media print { :root { --ink: black; --paper: white; } body { max-width: none; margin: 0; }
section { break-before: page; }
  section:first-of-type { break-before: auto; } }
"""


def report(runs: Sequence[RunRecord]) -> str:
    """The HTML.

    Parameters
    ----------
    runs : sequence of RunRecord
    """
    title = ", ".join(run.label for run in runs)
    parts = [_run(run) for run in runs]
    if len(runs) > 1:
        parts.insert(0, _comparison(runs))
    body = "\n".join(f"<section>{part}</section>" for part in parts)
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><meta name="viewport" '
        'content="width=device-width">'
        f"<title>{escape(title)}</title><style>{STYLE}</style></head><body>\n{body}\n</body></html>\n"
    )


def _figure(made: Any, what: str) -> str:
    from ..figures._style import as_png

    return (
        f'<p><img alt="{escape(what)}" '
        f'src="data:image/png;base64,{base64.b64encode(as_png(made)).decode()}"></p>'
    )


def _run(run: RunRecord) -> str:
    from ..figures._curves import curves

    parts = [f"<h1>{escape(run.label)}</h1>", f"<p>{escape(run.status)}: {escape(run.reason)}</p>"]
    parts.append(html_findings(run.diagnose(), "What the record says"))
    frame = run.series("epochs")
    if len(frame):
        parts.append(
            _figure(curves(frame, title=run.label, better=run.better), f"Curves of {run.label}")
        )
    where = "epoch" if run.epochs else "step"
    shown = run.scores[["last", "best", f"best_{where}"]].to_numpy().tolist()
    scores = [[name, *row] for name, row in zip(run.scores.index, shown, strict=True)]
    parts.append(html_table("Scores", ("figure", "last", "best", f"at {where}"), scores))
    parts.append(
        html_table("Notes", ("when", "note"), [[note["at"], note["text"]] for note in run.notes])
    )
    about = run.about
    facts = [
        ["begun", run.begun],
        ["tags", ", ".join(run.tags)],
        ["data", about.get("data", "")],
        ["commit", about.get("commit", "")],
    ]
    facts += [
        [f"version of {name}", value] for name, value in (about.get("versions") or {}).items()
    ]
    facts += [[name, value] for name, value in (about.get("machine") or {}).items()]
    parts.append(html_table("Where it comes from", ("what", "is"), facts))
    parts.append(
        html_table(
            "Settings",
            ("setting", "value"),
            [[name, value] for name, value in run.settings.items()],
        )
    )
    return "\n".join(parts)


def _comparison(runs: Sequence[RunRecord]) -> str:
    from ..figures._runs import compared

    found = compare(runs)
    labels = [run.label for run in runs]
    parts = [f"<h1>{len(runs)} runs</h1>"]
    for frame, caption in (
        (found.settings, "Settings that differ"),
        (found.scores, "Scores"),
        (found.facts, "Time, memory, origin"),
    ):
        parts.append(
            html_table(
                caption,
                ("", *labels),
                [
                    [name, *row]
                    for name, row in zip(frame.index, frame.to_numpy().tolist(), strict=True)
                ],
            )
        )
    for quantity in ("validation_loss", "loss"):
        drawn = found.curves(quantity)
        if drawn:
            if len(drawn) == len(runs):
                parts.insert(1, html_findings([difference(runs, quantity)], "Which is better"))
            parts.append(_figure(compared(drawn, quantity=quantity), f"{quantity} of all runs"))
            break
    return "\n".join(parts)
