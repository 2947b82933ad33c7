"""Every experiment that ships: opened among the experiments, and a simulated run of it carried through the stages by the pages' own saves."""

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.definition import choose
from cavrel.core.document import result_text
from cavrel.core.logbook import run as runs
from cavrel.core.logbook import slots_of
from cavrel.core.simulate import simulate
from tests.thorough import some
from tests.web.http import entry, save, start, text

EVERY = some(list(catalogue.experiments()))
CONVENTIONS = [(e, o, c) for e in EVERY for o, b in catalogue.experiments()[e].options.items() for c in b.choices]


@pytest.mark.parametrize("experiment", EVERY)
def test_a_run_of_every_experiment_from_first_reading_to_judged_result(client: FlaskClient, experiment: str) -> None:
    definition = choose(catalogue.experiments()[experiment], {})
    page = text(client, f"/experiments/{experiment}")
    for words in (definition.aim, definition.cautions[0].say, definition.steps[0].do, definition.precautions[0].say):
        assert words in page
    program = catalogue.program_of(definition)
    simulated = runs.load(simulate(program, 11))
    number = start(client, experiment, "Foghorn", f"Simulated {experiment}")
    early = text(client, f"/runs/{number}/result")
    assert "Not yet" in early
    answer = save(client, number, *(entry("reading", slot, text=t) for slot, t in slots_of(simulated)))
    assert answer.status_code == 200
    wanted = analyse(
        program, simulated, runs.load(client.get(f"/runs/{number}/measure.json").json["run"]).house_rules()
    )
    judged = text(client, f"/runs/{number}/result")
    for result in wanted.results.values():
        assert not result.reason
        assert result_text(wanted, result).partition("\u2009")[0] in judged
    for fit in definition.fits:
        straight = text(client, f"/runs/{number}/fit?fit={fit}")
        assert "No line yet" not in straight
    assert "No graph" not in text(client, f"/runs/{number}/measure")
    assert (
        simulated.model_dump()["quantities"]
        == runs.load(client.get(f"/runs/{number}/measure.json").json["run"]).quantities
    )
    assert "Foghorn" in text(client, f"/runs/{number}/logbook")


@pytest.mark.parametrize("experiment", EVERY)
def test_parts_not_measured_yet(client: FlaskClient, experiment: str) -> None:
    """With only half of its readings every page of a run still opens."""
    program = catalogue.program_of(catalogue.experiments()[experiment])
    slots = slots_of(runs.load(simulate(program, 12)))
    number = start(client, experiment, "Wick", "Half of it")
    for part in (slots[: len(slots) // 2], slots[len(slots) // 2 :: 2]):
        assert save(client, number, *(entry("reading", slot, text=t) for slot, t in part)).status_code == 200
        for stage in ("measure", "fit", "result", "logbook"):
            assert client.get(f"/runs/{number}/{stage}").status_code == 200
            assert client.get(f"/runs/{number}/{stage}.json").status_code == 200


@pytest.mark.parametrize(("experiment", "option", "choice"), CONVENTIONS)
def test_every_convention(client: FlaskClient, experiment: str, option: str, choice: str) -> None:
    definition = catalogue.experiments()[experiment]
    program = catalogue.program_of(definition, options={option: choice})
    simulated = runs.load(simulate(program, 13, options={option: choice}))
    number = start(client, experiment, "Beacon", "By convention", **{option: choice})
    assert save(client, number, *(entry("reading", slot, text=t) for slot, t in slots_of(simulated))).status_code == 200
    twin = client.get(f"/runs/{number}/result.json").json
    wanted = analyse(
        program, simulated, runs.load(client.get(f"/runs/{number}/measure.json").json["run"]).house_rules()
    )
    for name, result in wanted.results.items():
        assert twin["results"][name]["value"] == pytest.approx(result.unit.from_si(result.value), rel=1e-9)
    assert client.get(f"/runs/{number}/measure").status_code == 200


def test_a_convention_changed_later_keeps_every_reading(client: FlaskClient) -> None:
    number = start(client, "metre-bridge", "Prism", "Which gap", gap="swapped")
    save(client, number, entry("reading", "first.K.1.1", text="5"), entry("reading", "first.w.1.1", text="46.5"))
    changed = save(client, number, entry("option", "option:gap", choice="left"))
    assert changed.status_code == 200
    assert "w" not in client.get(f"/runs/{number}/measure.json").json["run"]["series"]["first"]
    assert "left gap" in text(client, f"/runs/{number}/logbook")
    save(client, number, entry("option", "option:gap", choice="swapped"))
    assert client.get(f"/runs/{number}/measure.json").json["run"]["series"]["first"]["w"] == [["46.5"]]
    refused = save(client, number, entry("option", "option:gap", choice="upside-down"))
    assert "is none of right, left, swapped" in str(refused.json["refused"])
