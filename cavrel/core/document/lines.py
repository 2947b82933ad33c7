"""The sheet of one fit: its points, and a straight line three times: by the spreadsheet, weighted by hand, and as Cavrel has it."""

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from cavrel.core.analysis.fitted import FitAnalysis
from cavrel.core.definition.steps import FitStep
from cavrel.core.document.live import Live, NotLive, Part, Ref, checked
from cavrel.core.document.page import Cell, Page, finite
from cavrel.core.formula.nodes import Node
from cavrel.core.formula.text import unparse

if TYPE_CHECKING:
    from cavrel.core.document.workbook import Book

Array = NDArray[np.float64]


def page(book: "Book", step: FitStep, fit: FitAnalysis, sheet: str) -> Page:
    """The points of a fit; for a straight line LINEST, the weighted line of the same cells, and Cavrel's own."""
    assert step.x is not None
    body = book.definition.fits[step.name]
    head: list[Cell] = ["row", f"x = {unparse(step.x)}", f"y = {unparse(step.y)}", "u(x)", "u(y)", "weight"]
    rows: list[list[Cell]] = [
        head,
        ["", step.x_unit.text, step.y_unit.text, step.x_unit.text, step.y_unit.text, None],
    ]
    x, y = fit.x[fit.rows], fit.y[fit.rows]
    for i, row in enumerate(fit.rows):
        rows.append(
            [
                float(row + 1),
                _point(book, step.x, step.series, int(row), float(x[i])),
                _point(book, step.y, step.series, int(row), float(y[i])),
                finite(float(fit.u_x[row])),
                finite(float(fit.u_y[row])),
                float(fit.weights[i]) if fit.weights.size else 1.0,
            ]
        )
    rows += [[None], ["Cavrel", "value", "u", "unit"]]
    for name, parameter in fit.parameters.items():
        value = parameter.unit.from_si(parameter.value)
        if math.isfinite(value):
            book.lines[step.name, name] = Ref(sheet=sheet, row=len(rows) + 1, column=2)
        rows.append([name, finite(value), finite(parameter.u / parameter.unit.factor), parameter.unit.text or None])
    if body.model == "line" and len(x) > 2:
        rows += _by_sheet(book, step, fit, sheet, len(rows))
    return Page(sheet, rows, 2)


def _point(book: "Book", node: Node, series: str, row: int, value: float) -> Cell:
    try:
        return checked(book.formula(node, series, row), value)
    except NotLive:
        return finite(value)


def _by_sheet(book: "Book", step: FitStep, fit: FitAnalysis, sheet: str, done: int) -> list[list[Cell]]:
    """The same line by the spreadsheet's own function, all points alike, and weighted by hand as the column says."""

    def block(column: int) -> Ref:
        return Ref(sheet=sheet, row=3, column=column, to_row=2 + len(x), to_column=column)

    x, y, w = fit.x[fit.rows], fit.y[fit.rows], fit.weights
    rows: list[list[Cell]] = [[None], ["LINEST, all points alike", "value", "u", "unit, SI"]]
    free = len(fit.parameters) > 1 and not (step.origin and book.analysis.rules.origin == "forced")
    names = list(fit.parameters)
    slope, intercept, u_slope, u_intercept = _plain_line(x, y, free)
    flag = "TRUE" if free else "FALSE"
    for column, (value, u, unit) in enumerate(
        ((slope, u_slope, _slope_unit(step)), (intercept, u_intercept, step.y_unit.text)), 1
    ):
        if column == 2 and not free:
            continue
        start: tuple[Part, ...] = ("INDEX(LINEST(", block(3), ",", block(2), ",", flag, ",", "TRUE", ")", ",")
        rows.append(
            [
                names[column - 1] if column <= len(names) else "intercept",
                Live((*start, "1", ",", str(column), ")"), value),
                Live((*start, "2", ",", str(column), ")"), u),
                unit,
            ]
        )
    if free and w.size:
        rows += _weighted(block, (x, y, w), done + len(rows), sheet, step)
    return rows


def _weighted(
    block: Callable[[int], Ref], points: tuple[Array, Array, Array], at: int, sheet: str, step: FitStep
) -> list[list[Cell]]:
    x, y, w = points
    centre, height = float((w * x).sum() / w.sum()), float((w * y).sum() / w.sum())
    slope = float((w * (x - centre) * (y - height)).sum() / (w * (x - centre) ** 2).sum())
    mean_x, mean_y = (Ref(sheet=sheet, row=at + 3 + i, column=2) for i in range(2))
    gradient = Ref(sheet=sheet, row=at + 5, column=2)
    over: tuple[Part, ...] = (")/SUM(", block(6), ")")
    return [
        [None],
        ["Weighted by the column on the right", "value", None, "unit, SI"],
        ["centre of x", Live(("SUMPRODUCT(", block(6), ",", block(2), *over), centre), None, step.x_unit.text],
        ["centre of y", Live(("SUMPRODUCT(", block(6), ",", block(3), *over), height), None, step.y_unit.text],
        [
            "slope",
            Live(
                (
                    "SUMPRODUCT(", block(6), "*(", block(2), "-", mean_x, ")*(", block(3), "-", mean_y, "))/SUMPRODUCT(",
                    block(6), "*(", block(2), "-", mean_x, ")^2)",
                ),
                slope,
            ),
            None,
            _slope_unit(step),
        ],
        ["intercept", Live((mean_y, "-", gradient, "*", mean_x), height - slope * centre), None, step.y_unit.text],
    ]  # fmt: skip


def _slope_unit(step: FitStep) -> str:
    y, x = step.y_unit.text or "1", step.x_unit.text
    return f"({y})/({x})" if x else step.y_unit.text


def _plain_line(x: Array, y: Array, free: bool) -> tuple[float, float, float, float]:
    """Ordinary least squares: slope, intercept and their standard errors."""
    if not free:
        slope = float((x * y).sum() / (x * x).sum())
        rest = float(((y - slope * x) ** 2).sum()) / (len(x) - 1)
        return slope, 0.0, math.sqrt(rest / float((x * x).sum())), math.nan
    about = x - x.mean()
    squares = float((about**2).sum())
    slope = float((about * (y - y.mean())).sum()) / squares
    intercept = float(y.mean()) - slope * float(x.mean())
    rest = float(((y - intercept - slope * x) ** 2).sum()) / (len(x) - 2)
    return slope, intercept, math.sqrt(rest / squares), math.sqrt(rest * (1 / len(x) + float(x.mean()) ** 2 / squares))
