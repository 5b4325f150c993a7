"""The curves on the page: a table for each, and one picture of them all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

Point = dict[str, float]

HEADS: Mapping[str, str] = {
    "devices": "devices", "kinds": "kinds of machines, 10,000 devices", "days": "days of readings, 5,000 devices",
    "classes": "classes", "import": "import, µs a reading", "counts": "counts, ms", "bytes": "records, bytes a device",
}  # fmt: skip


def markdown(found: Mapping[str, Sequence[Point]]) -> str:
    """A table for each curve."""
    return "\n\n".join(_table(points) for points in found.values())


def _table(points: Sequence[Point]) -> str:
    heads = [HEADS[name] for name in points[0]]
    lines = [heads, ["---:"] * len(heads), *(list(map(_cell, point.values())) for point in points)]
    return "\n".join(f"| {' | '.join(cells)} |" for cells in lines)


def _cell(value: float) -> str:
    return f"{value:,.3g}" if value < 100 else f"{value:,.0f}"


def draw(found: Mapping[str, Sequence[Point]], path: Path) -> None:
    """Import, counts and records, one above the other, against what each curve follows."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    shown = ("import", "counts", "bytes")
    figure, grid = pyplot.subplots(3, len(found), figsize=(11, 7), layout="constrained", sharex="col", sharey="row")
    for column, (along, points) in enumerate(found.items()):
        for row, name in enumerate(shown):
            axes = grid[row][column]
            axes.plot([p[along] for p in points], [p[name] for p in points], marker="o", linewidth=1.6, color="#2f5d50")
            axes.grid(visible=True, which="major", alpha=0.25)
            if along != "days":
                axes.set_xscale("log")
                axes.set_xticks([p[along] for p in points], [f"{p[along]:,.0f}" for p in points])
                axes.minorticks_off()
            if column == 0:
                axes.set_ylabel(HEADS[name])
            if row == len(shown) - 1:
                axes.set_xlabel(HEADS[along])
            for side in ("top", "right"):
                axes.spines[side].set_visible(False)
    for row in grid:
        row[0].set_ylim(bottom=0)
    figure.savefig(path, dpi=110)
