"""The pictures of a report, as SVG that stands in the page itself."""

import io
from collections.abc import Callable
from typing import Any

import numpy as np
from matplotlib import rc_context
from matplotlib.figure import Figure

from proteron.core.judge import Board, Breakdown
from proteron.services.report.content import Example

_INK, _PALE, _BETTER, _WORSE, _CUTOFF = "#1b2126", "#9aa0a1", "#1f7a6c", "#a8711f", "#d9481c"
_COLOURS = ("#1f7a6c", "#6f47b0", "#2a62b8", "#b23a5f", "#5f7f1a", "#8a5a2b", "#3b8aa0", "#9a4fa0")
_STYLE: Any = {
    "font.size": 9, "font.family": "DejaVu Sans", "axes.edgecolor": _PALE, "axes.spines.top": False,
    "axes.spines.right": False, "axes.labelcolor": _INK, "xtick.color": _INK, "ytick.color": _INK,
    "svg.hashsalt": "proteron", "text.parse_math": False, "svg.fonttype": "none", "lines.linewidth": 1.4,
}  # fmt: skip


def skill_picture(board: Board) -> str:
    """Skill of every entrant with its interval, the best on top."""
    rows = sorted((row for row in board if row.skill is not None), key=lambda row: row.skill or 0.0)

    def draw(axes: Any) -> None:
        low = max(min([row.skill or 0.0 for row in rows], default=0.0), -1.5) - 0.1
        for place, row in enumerate(rows):
            skill = max(row.skill or 0.0, low)
            axes.barh(place, skill, 0.6, color=_BETTER if skill >= 0 else _WORSE)
            if row.skill_low is not None and row.skill_high is not None and not row.baseline:
                axes.plot([max(row.skill_low, low), max(row.skill_high, low)], [place, place], color=_INK)
        axes.axvline(0, color=_PALE, linewidth=0.8)
        axes.set_yticks(range(len(rows)), [row.contender for row in rows])
        axes.set_xlim(left=low)
        axes.set_xlabel("share of the baseline's error saved")

    return _svg(draw, 7.2, 0.5 + 0.3 * max(len(rows), 2))


def step_picture(by_step: Breakdown, title: str) -> str:
    """The error of every entrant by steps ahead."""

    def draw(axes: Any) -> None:
        ahead = [int(label) for label in by_step.labels]
        for place, (name, values) in enumerate(zip(by_step.names, by_step.values, strict=True)):
            axes.plot(
                ahead, values, label=name, color=_COLOURS[place % len(_COLOURS)], marker="." if len(ahead) < 3 else ""
            )
        axes.set_xlabel("steps ahead")
        axes.set_ylabel(title)
        axes.set_ylim(bottom=0)
        axes.legend(frameon=False, fontsize=8, ncols=3, loc="upper left", bbox_to_anchor=(0, -0.2))

    return _svg(draw, 7.2, 2.6)


def example_picture(example: Example) -> str:
    """What happened, and what was forecast, with the range of the best."""

    def draw(axes: Any) -> None:
        axes.plot(example.times, example.truth, color=_INK, linewidth=1.1, label="observed")
        if example.low is not None and example.high is not None:
            axes.fill_between(example.ahead, example.low, example.high, color=_BETTER, alpha=0.18, linewidth=0)
        for place, (name, mean) in enumerate(example.means.items()):
            axes.plot(example.ahead, mean, label=name, color=_COLOURS[place % len(_COLOURS)])
        axes.axvline(example.ahead[0], color=_CUTOFF, linewidth=1)
        axes.tick_params(axis="x", labelrotation=20)
        axes.legend(frameon=False, fontsize=8, ncols=3, loc="upper left", bbox_to_anchor=(0, -0.25))

    return _svg(draw, 7.2, 2.8)


def _svg(draw: Callable[[Any], None], width: float, height: float) -> str:
    """What `draw` puts on a plot of so many inches, as an element of a page; the same to the byte every time."""
    with rc_context(_STYLE):
        figure = Figure(figsize=(width, height))
        draw(figure.add_subplot())
        out = io.StringIO()
        figure.savefig(
            out, format="svg", bbox_inches="tight", transparent=True, metadata={"Date": None, "Creator": None}
        )
    text = out.getvalue()
    return text[text.index("<svg") :]


def heat(value: float | None) -> str:
    """The background of a cell of skill."""
    if value is None or not np.isfinite(value):
        return ""
    strength = min(abs(value) / 0.5, 1.0) * 0.6
    red, green, blue = (31, 122, 108) if value >= 0 else (168, 113, 31)
    return f"background: rgba({red}, {green}, {blue}, {strength:.2f})"
