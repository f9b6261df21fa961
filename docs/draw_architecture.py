"""Draw the rooms and their rows: python docs/draw_architecture.py."""

import sys
from pathlib import Path

import matplotlib

matplotlib.use("svg")
import matplotlib.pyplot as plt

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))
from tests.test_architecture import ARROWS  # noqa: E402

ROWS = [
    ["cli", "page"],
    ["catalogue", "runs"],
    ["training/plans", "training/tuning"],
    ["training"],
    ["training/observers", "training/rehearsal"],
    ["training/run"],
    ["training/step"],
    ["_model", "figures"],
    ["networks", "generation", "demo"],
    ["layers", "losses", "optimisers", "schedules", "initialisers", "evaluation", "distributed"],
    ["data/checks", "data/text", "data/tabular", "data/pictures", "data/sequences"],
    ["data/sources", "data/encoding", "data/batches"],
    ["parts", "storage"],
    ["autodiff", "kernels"],
    ["errors", "_findings", "_public_names"],
]
TINTS = {"training": "#5b2a86", "data": "#2e7d4f", "runs": "#b3401b", "cli": "#1f5a8a"}
INK = "#2b2b2b"


def check() -> None:
    """Whether every arrow of the table leads downwards in the drawing, or stays in its row."""
    row = {room: i for i, rooms in enumerate(ROWS) for room in rooms}
    for room, allowed in ARROWS.items():
        for other in allowed.split():
            if room in row and other in row and room != other:
                assert row[other] >= row[room], f"{room} -> {other} leads upwards"


def draw() -> None:
    """Write architecture.svg."""
    figure, axis = plt.subplots(figsize=(11, 8.2))
    axis.set_axis_off()
    axis.set_xlim(0, 12)
    axis.set_ylim(len(ROWS), -0.3)
    for i, rooms in enumerate(ROWS):
        width = 11.4 / len(rooms)
        for j, room in enumerate(rooms):
            tint = TINTS.get(room.partition("/")[0], "#6b6256")
            corner = (0.3 + j * width + 0.06, i + 0.1)
            box = plt.Rectangle(corner, width - 0.12, 0.72, color=tint, alpha=0.14, linewidth=0)
            axis.add_patch(box)
            middle = (corner[0] + (width - 0.12) / 2, i + 0.46)
            axis.text(*middle, room, ha="center", va="center", color=INK, fontsize=11)
    axis.annotate(
        "", (0.1, len(ROWS) - 0.3), (0.1, 0.1), arrowprops={"arrowstyle": "->", "color": INK}
    )
    axis.text(0.0, len(ROWS) / 2, "may import", rotation=90, ha="right", va="center", color=INK)
    figure.savefig(HERE / "architecture.svg", bbox_inches="tight")


if __name__ == "__main__":
    check()
    draw()
