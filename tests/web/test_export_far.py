"""Sheets far from any that was meant, exported in every format: nothing breaks, whatever was typed."""

import contextlib
import io
import json
import random
import warnings

import pytest

from cavrel import catalogue
from cavrel.core.definition import Definition
from cavrel.core.laboratory import EMPTY
from cavrel.present import report
from cavrel.service.run_view import unstarted
from cavrel.web import files
from cavrel.web.app import plain_app
from tests.thorough import some

STRANGE = [
    "0",
    "1e80",
    "-1e80",
    "1e-80",
    "1.7e9",
    "1700000000.5",
    "abc",
    "5",
    "5.0",
    "0.000001",
    "1e200",
    "3 ± 1",
    "nan",
]
STRANGE += ["-3", "12:30.5", "7 kg", "<b>&", "=1+1"]


def typed(definition: Definition, rows: int, draw: random.Random) -> list[tuple[str, str]]:
    found = [(f"quantities.{q}.1", draw.choice(STRANGE)) for q, b in definition.quantities.items() if b.formula is None]
    for series, body in definition.series.items():
        for row in range(1, rows + 1):
            for name, column in body.columns.items():
                if column.column_role.typed and not column.extract:
                    found.append((f"{series}.{name}.{row}.1", draw.choice(STRANGE)))
    return found


@pytest.mark.parametrize("experiment", some(list(catalogue.experiments())))
def test_nothing_breaks(experiment: str) -> None:
    definition = catalogue.experiments()[experiment]
    draw = random.Random(experiment)
    for rows in (1, 2, 5):
        opened = unstarted(definition, EMPTY, {}, typed(definition, rows, draw))
        with plain_app().app_context(), warnings.catch_warnings():
            warnings.simplefilter("error", RuntimeWarning)
            for kind in ("xlsx", "tex", "package", "html", "json"):
                assert files.made(opened, kind, files.Wish())
            json.dumps(report.frozen(opened), allow_nan=False)
            made = json.loads(files.made(opened, "notebook", files.Wish()))
        code = "\n\n".join("".join(cell["source"]) for cell in made["cells"] if cell["cell_type"] == "code")
        with contextlib.redirect_stdout(io.StringIO()), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            exec(compile(code, "notebook", "exec"), {})


def test_a_slope_below_zero_in_another_unit_is_computed() -> None:
    reads = [("quantities.m.1", "50"), *((f"loads.n.{i}.1", str(i)) for i in (1, 2, 3, 4))]
    reads += [(f"loads.l.{i}.1", f"{30 - 2.1 * i:.1f}") for i in (1, 2, 3, 4)]
    opened = unstarted(catalogue.experiments()["spring"], EMPTY, {}, reads)
    steps = report.content(opened)["figures"][0]["steps"]
    assert any("−" in text for _, text in steps)
