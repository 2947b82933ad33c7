"""Carrying an experiment out with the simulated apparatus. Its tests stand in a file for each part of the catalogue, so that they run at once."""

import re

from playwright.sync_api import Page, expect

from cavrel import catalogue
from cavrel.core.logbook import run as runs
from cavrel.core.logbook.run import trials
from cavrel.core.simulate import simulate
from tests.browser.conftest import Server
from tests.browser.robot import agreed, begin
from tests.thorough import THOROUGH

ROWS = 3
"""Of each table: enough for every line. A decay is followed longer, and so is what scatters by more than its instruments declare."""
MORE_ROWS = 6


def settings_of(experiment: str) -> dict[str, str]:
    """What a bench sets: the columns that are set, and the quantities that are decided."""
    program = catalogue.program_of(catalogue.experiments()[experiment])
    definition = program.definition
    run = runs.load(simulate(program, 0))
    found: dict[str, str] = {}
    scatters = definition.simulate is not None and definition.simulate.noise
    rows = MORE_ROWS if scatters or experiment == "half-life" else ROWS
    for spec in program.inputs:
        if spec.series is None:
            if spec.gauge is not None and spec.gauge.dial:
                found[f"quantities.{spec.name}.1"] = trials(run.quantities[spec.name])[0]
            continue
        if definition.series[spec.series].columns[spec.name].column_role.chosen and not _called(definition, spec.key):
            for row, cell in enumerate(run.series[spec.series][spec.name][:rows], 1):
                found[f"{spec.key}.{row}.1"] = trials(cell)[0]
    return found


def _called(definition: object, key: str) -> bool:
    """Whether the caller fills it."""
    return any(s.timer and s.timer.kind == "interval" and key in s.fills for s in definition.steps)  # type: ignore[attr-defined]


SPEEDS = {"pendulum": "1", "oscillating-mass": "1", "conical-pendulum": "1"}
"""Where a thumb or a pen has to keep up; everything else runs 300 times as fast as it would."""
BY_POINTER = {"balanced-rule", "spring", "charge-to-mass", "block-density", "current-balance", "speed-of-sound"}
"""Carried out with a real pointer and real keys, cell by cell."""
FEWER = {
    "pendulum": {"quantities.N.1": "5"},
    "oscillating-mass": {"quantities.N.1": "10"},
}


ALWAYS = {"hydrogen-lines"}
"""Carried out in every test run; all the others in a thorough one, for each takes up to half a minute."""


def of_fields(*fields: str) -> list[str]:
    """The experiments of some parts of the catalogue."""
    known = (name for name, definition in catalogue.experiments().items() if definition.field in fields)
    return sorted(name for name in known if THOROUGH or name in ALWAYS)


def carry_out(page: Page, server: Server, experiment: str) -> None:
    """From an empty table to results that agree with what the run hides."""
    robot, run = begin(page, server, experiment, SPEEDS.get(experiment, "300"))
    robot.hand = "pointer" if experiment in BY_POINTER else "quick"
    robot.carry_out(settings_of(experiment) | FEWER.get(experiment, {}))
    robot.saved()
    found = agreed(page, server, run)
    # The rail follows every save: the result stands there without leaving the sheet.
    said = "|".join(re.escape(text.partition("\u2009")[0]) for _, text in found.values())
    expect(page.locator('.stage[data-stage="4"]')).to_contain_text(re.compile(said))
    expect(page.locator(".on-screen")).to_have_text("simulated apparatus")
