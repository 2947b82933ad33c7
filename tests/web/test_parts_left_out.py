"""A part that a run does not do: it is asked for nowhere, what rests on it goes with it, and its readings come back with it."""

from flask.testing import FlaskClient

from cavrel import catalogue
from tests.web.http import entry, save, start, text


def without(client: FlaskClient, run: int, part: str, on: bool = True) -> str:
    return " ".join(save(client, run, entry("without", f"without:{part}", on=on)).get_json()["refused"].values())


def names(client: FlaskClient, run: int) -> set[str]:
    return set(client.get(f"/runs/{run}/result.json").get_json()["results"])


def test_the_series_law_alone_at_the_bridge(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Lantern", "Series only")
    whole = names(client, run)
    assert "R_p" in whole
    for i, balance in enumerate(("48.2", "51.7"), 1):
        save(client, run, entry("reading", f"side.l.{i}.1", text=balance))
    assert not without(client, run, "side")
    assert names(client, run) == whole - {"R_p"}
    part, law = (
        getattr(catalogue.experiments()["metre-bridge"], t)[n] for t, n in (("series", "side"), ("results", "R_p"))
    )
    for page in ("measure", "fit", "result", "report"):
        shown = text(client, f"/runs/{run}/{page}")
        assert part.label not in shown and law.label not in shown, page
    plan = client.get(f"/runs/{run}/plan").text
    assert 'data-without="side"' in plan
    assert client.get(f"/runs/{run}/blank.pdf").status_code == 200
    assert not without(client, run, "side", on=False)
    assert names(client, run) == whole and 'value="51.7"' in client.get(f"/runs/{run}/measure").text


def test_quantities_that_only_the_part_asked_for_go_with_it(client: FlaskClient) -> None:
    run = start(client, "rotating-rod", "Fresnel", "Axis only")
    assert 'data-slot="quantities.M_s.1"' in client.get(f"/runs/{run}/measure").text
    assert not without(client, run, "sliders")
    page = client.get(f"/runs/{run}/measure").text
    assert 'data-slot="quantities.M_s.1"' not in page and 'data-series="axis"' in page
    assert client.get(f"/runs/{run}/forecast").status_code in (200, 404)


def test_a_mean_of_two_parts_is_the_other_part(client: FlaskClient) -> None:
    run = start(client, "current-balance", "Beacon", "Currents only")
    assert not without(client, run, "lengths")
    assert names(client, run) == {"B", "B_A"}
    run_document = client.get(f"/runs/{run}/measure.json").get_json()["run"]
    assert run_document["plan"]["without"] == ["lengths"]


def test_what_would_leave_nothing_is_refused(client: FlaskClient) -> None:
    run = start(client, "specific-heat", "Prism", "Half of it")
    assert "no result would be left" in without(client, run, "before")
    run = start(client, "metre-bridge", "Prism", "None of it")
    for part in ("first", "second", "both"):
        assert not without(client, run, part)
    assert "one part at least" in without(client, run, "side")
    assert "names no table" in without(client, start(client, "pendulum", "Wick", "One table"), "swings")
