"""The page of a report, filled in."""

from importlib.resources import files

import numpy as np
from jinja2 import Environment, select_autoescape
from markupsafe import Markup

from proteron.core.judge import metric_of
from proteron.core.judge.evidence.verdict import signed
from proteron.services.report.content import ReportContent


def report_page(content: ReportContent) -> str:
    """HTML that asks for nothing from anywhere."""
    from proteron.services.report import pictures as drawn  # the library that draws takes a second to load

    environment = Environment(autoescape=select_autoescape(default=True), trim_blocks=True, lstrip_blocks=True)
    environment.filters["signed"] = lambda value: "–" if value is None else signed(value)
    environment.filters["figure"] = lambda value: "–" if value is None else f"{value:.4g}"
    environment.filters["heat"] = drawn.heat
    template = environment.from_string(files(__package__).joinpath("page.html").read_text("utf-8"))
    metrics = [metric for name in content.board.metrics if (metric := metric_of(name)) is not None]
    told_by = metric_of(content.board.skill_metric)
    title = told_by.title if told_by else content.board.skill_metric
    pictures = {
        "skill": Markup(drawn.skill_picture(content.board)),  # our own drawing; names in it are escaped
        "steps": Markup(drawn.step_picture(content.by_step, title)),
        "example": None if content.example is None else Markup(drawn.example_picture(content.example)),
    }
    rows = sorted(content.board, key=lambda row: -np.inf if row.skill is None else row.skill, reverse=True)
    return template.render(
        content=content, board=content.board, rows=rows, metrics=metrics, told_by=title, pictures=pictures
    )
