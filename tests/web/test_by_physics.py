"""Two experiments of each field carried out at the page with readings of the independent models: what the pages say of them."""

import pytest
from flask.testing import FlaskClient

from cavrel.core.definition.steps import ResultStep
from cavrel.core.logbook import run as runs
from cavrel.core.logbook import slots_of
from tests.physics import MODELS
from tests.physics.bench import Bench
from tests.web.http import entry, save, start, text

CARRIED_OUT = [
    ("free-fall", {}, {"g"}),
    ("collisions", {"kind": "bounce"}, {"q", "s"}),
    ("block-density", {}, set()),
    ("density-buoyancy", {"liquid": "ethanol", "cube": "brass"}, {"rho_x", "rho_b", "rho_e", "V_e"}),
    ("thin-lens", {}, {"q"}),
    ("polarisers", {}, set()),
    ("cell", {}, {"E"}),
    ("wire-resistivity", {"metal": "nichrome"}, {"rho"}),
    ("specific-heat", {"metal": "iron"}, {"c"}),
    ("stefan-constant", {"metal": "brass"}, {"sigma"}),
    ("gas-excitation", {}, {"E"}),
    ("half-life", {"nuclide": "barium"}, {"T_half"}),
]


@pytest.mark.parametrize(("experiment", "options", "compared"), CARRIED_OUT, ids=[one[0] for one in CARRIED_OUT])
def test_what_the_pages_say(client: FlaskClient, experiment: str, options: dict[str, str], compared: set[str]) -> None:
    bench = Bench(experiment, 5, options)
    truth = MODELS[experiment](bench)
    run = start(client, experiment, "Prism", f"By physics: {experiment}", **options)
    slots = slots_of(runs.load(bench.document()))
    assert save(client, run, *(entry("reading", slot, text=read) for slot, read in slots)).json["refused"] == {}
    judged = client.get(f"/runs/{run}/result.json").json
    units = {step.key: step.unit for step in bench.program.steps if isinstance(step, ResultStep)}
    for name, true in truth.items():
        low, high = judged["results"][name]["interval95"]
        beyond = (high - low) / 2  # one run in twenty misses; none by as much again
        assert low - beyond <= units[name].from_si(true) <= high + beyond, name
    for name in compared:
        assert judged["results"][name]["verdict"]["kind"] in ("agrees", "doubtful"), name
    report = text(client, f"/runs/{run}/report")
    assert bench.program.definition.title in report
