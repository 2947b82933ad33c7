"""A result of one run taken over into another, with its uncertainty: offered where there is one, written by a press, no guess."""

import html
import re

import numpy as np
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.logbook import run as runs
from cavrel.core.logbook import slots_of
from tests.physics import MODELS
from tests.physics.bench import Bench
from tests.web.http import entry, save, start

OFFER = re.compile(r'data-write="(quantities\.[kG]\.1)" data-text="([^"]+)" data-by="run (\d+)"')


def measured(client: FlaskClient, bench: str, seed: int) -> int:
    """A galvanometer tested by half deflection."""
    of = Bench("half-deflection", seed)
    MODELS["half-deflection"](of)
    run = start(client, "half-deflection", bench, f"Its coil, {bench}")
    saved = save(client, run, *(entry("reading", s, text=t) for s, t in slots_of(runs.load(of.document()))))
    assert saved.json["refused"] == {}
    return run


def test_a_result_is_carried_into_another_run_with_its_uncertainty(client: FlaskClient) -> None:
    conversion = start(client, "galvanometer-conversion", "Foghorn", "Made into a voltmeter")
    assert "From earlier runs" not in client.get(f"/runs/{conversion}/measure").text
    tested = measured(client, "Foghorn", 3)
    page = html.unescape(client.get(f"/runs/{conversion}/measure").text)
    offered = {slot: text for slot, text, run in OFFER.findall(page) if int(run) == tested}
    found = client.get(f"/runs/{tested}/result.json").json["results"]
    assert set(offered) == {"quantities.k.1", "quantities.G.1"}
    # Nothing is written before somebody presses.
    assert "k" not in client.get(f"/runs/{conversion}/measure.json").json["run"]["quantities"]
    for name, slot in (("G", "quantities.G.1"), ("k", "quantities.k.1")):
        value, u = (float(part) for part in offered[slot].split(" ± "))
        assert value == pytest.approx(found[name]["value"], abs=0.6 * u)
        assert u == pytest.approx(found[name]["u"], rel=0.06)
        by = f"run {tested}"
        assert save(client, conversion, entry("reading", slot, text=offered[slot], by=by)).json["refused"] == {}
    # What follows carries the uncertainty on: R = V/(n k) − G.
    (g, u_g), (k, u_k) = (
        [float(part) for part in offered[slot].split(" ± ")] for slot in ("quantities.G.1", "quantities.k.1")
    )
    needed = client.get(f"/runs/{conversion}/result.json").json["results"]["R"]
    assert needed["value"] == pytest.approx(3 / (30 * k * 1e-6) - g, rel=1e-9)
    assert needed["u"] == pytest.approx(
        np.hypot(3 / (30 * k * 1e-6) * u_k / k, u_g), rel=1e-3
    )  # and the last digits typed
    assert f"by run {tested}" in html.unescape(client.get(f"/runs/{conversion}/logbook").text)


def test_only_what_fits_is_offered(client: FlaskClient) -> None:
    measured(client, "Wick", 4)
    other = start(client, "pendulum", "Wick", "Nothing to take over")
    assert "From earlier runs" not in client.get(f"/runs/{other}/measure").text


def test_what_is_carried_is_a_result_that_there_is_and_of_one_kind() -> None:
    for definition in catalogue.experiments().values():
        program = catalogue.program_of(definition)
        for spec in program.inputs:
            if spec.from_result is None:
                continue
            experiment, _, name = spec.from_result.partition(".")
            other = catalogue.program_of(catalogue.experiments()[experiment])
            unit = next(step.unit for step in other.steps if getattr(step, "key", "") == name)
            assert unit.dimension == spec.unit.dimension
