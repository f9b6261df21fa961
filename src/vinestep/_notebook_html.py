"""HTML forms: tables and small curves for notebooks and reports. All texts are escaped."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from typing import Any

import numpy as np

__all__ = ["html_curve", "html_findings", "html_table"]

WIDTH, HEIGHT, MARGIN = 560, 160, 8
COLOURS = ("#5b2a86", "#2e7d4f", "#d1602f", "#1f78a4")
VERDICTS = {
    "sound": "#2e7d4f",
    "not tested": "#6b6b6b",
    "unclear": "#6b6b6b",
    "suspicious": "#a3820f",
    "wrong": "#b84e1c",
}


def html_table(caption: str, head: Sequence[str], rows: Sequence[Sequence[Any]]) -> str:
    """Rows as a table; empty if there are none.

    Examples
    --------
    >>> html_table("", ["a"], [["<b>"]])
    '<table><thead><tr><th scope="col">a</th></tr></thead><tbody><tr><td>&lt;b&gt;</td></tr></tbody></table>'
    """  # noqa: E501
    if not rows:
        return ""
    top = "".join(f'<th scope="col">{escape(str(name))}</th>' for name in head)
    lines = "".join("<tr>" + "".join(_cell(value) for value in row) + "</tr>" for row in rows)
    title = f"<caption>{escape(caption)}</caption>" if caption else ""
    return f"<table>{title}<thead><tr>{top}</tr></thead><tbody>{lines}</tbody></table>"


def _cell(value: Any) -> str:
    if isinstance(value, float):
        return f'<td class="n">{"" if value != value else format(value, ".5g")}</td>'
    return f"<td>{escape('' if value is None else str(value))}</td>"


def html_findings(findings: Sequence[Any], caption: str = "") -> str:
    """Findings as a table, their verdicts coloured and in words."""
    rows = [
        f'<tr><td style="color:{VERDICTS[one.verdict]}"><b>{one.verdict}</b></td>'
        f"<td>{escape(one.subject)}</td>"
        f"<td>{escape(one.evidence)} <b>{escape(one.cure)}</b></td></tr>"
        for one in findings
    ]
    return (
        f"<table><caption>{escape(caption)}</caption><tbody>{''.join(rows)}</tbody></table>"
        if rows
        else ""
    )


def html_curve(
    rows: Sequence[dict[str, float]], names: Sequence[str], against: str = "epoch"
) -> str:
    """Small curves as SVG, with their names and last values.

    Parameters
    ----------
    rows : sequence of dict
        As ``Outcome.rows``.
    names : sequence of str
        At most four columns.

    Examples
    --------
    >>> html_curve([{"epoch": 1, "loss": 2.0}, {"epoch": 2, "loss": 1.0}], ["loss"]).count(
    ...     "<polyline"
    ... )
    1
    """
    shown = [name for name in names if sum(_is_finite(row.get(name)) for row in rows) > 1][
        : len(COLOURS)
    ]
    if not shown:
        return ""
    values = [row[name] for row in rows for name in shown if _is_finite(row.get(name))]
    low, high = min(values), max(values)
    first, last = rows[0].get(against, 0), rows[-1].get(against, len(rows))

    def place(row: dict[str, float], name: str) -> str:
        x = MARGIN + (row.get(against, 0) - first) / ((last - first) or 1) * (WIDTH - 2 * MARGIN)
        y = HEIGHT - MARGIN - (row[name] - low) / ((high - low) or 1) * (HEIGHT - 2 * MARGIN)
        return f"{x:.1f},{y:.1f}"

    lines, words = [], []
    for name, colour in zip(shown, COLOURS, strict=False):
        points = " ".join(place(row, name) for row in rows if _is_finite(row.get(name)))
        lines.append(
            f'<polyline fill="none" stroke="{colour}" stroke-width="2" points="{points}"/>'
        )
        newest = next(row[name] for row in reversed(rows) if _is_finite(row.get(name)))
        words.append(
            f'<span style="color:{colour}">{escape(name.replace("_", " "))} {newest:.4g}</span>'
        )
    title = (
        f"{', '.join(shown)} from {against} {first:g} to {last:g}, between {low:.4g} and {high:.4g}"
    )
    return (
        f'<div>{" &nbsp; ".join(words)}</div><svg role="img" aria-label="{escape(title)}" '
        f'width="{WIDTH}" height="{HEIGHT}" '
        f'viewBox="0 0 {WIDTH} {HEIGHT}">{"".join(lines)}</svg><div>{against} {first:g} to '
        f"{last:g}; {low:.4g} to {high:.4g}</div>"
    )


def _is_finite(value: Any) -> bool:
    return isinstance(value, int | float | np.number) and bool(np.isfinite(value))
