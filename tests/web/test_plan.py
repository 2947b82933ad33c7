"""Plan over HTTP: of every experiment, with odd questions, and what a save there sends back."""

import jsonschema
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.document.formats import schemas
from cavrel.core.logbook import run as runs
from tests.web.http import entry, save, start, text


@pytest.mark.parametrize("experiment", sorted(catalogue.experiments()))
def test_every_experiment_can_be_planned(client: FlaskClient, experiment: str) -> None:
    run = start(client, experiment, "Wick", "Planned")
    page = text(client, f"/runs/{run}/plan")
    assert "What this plan promises" in page
    assert "Nothing can be foretold" not in page
    assert "nan" not in page.lower().replace("resonan", "").replace("inan", "")
    twin = client.get(f"/runs/{run}/plan.json").json
    jsonschema.validate(twin["forecast"], schemas()["cavrel-forecast-1"])
    runs.load(twin["run"])


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Beacon", "Planned here")


@pytest.mark.parametrize(
    ("query", "said"),
    [
        ("percent=1", "this plan gives"),
        ("percent=0,12", "photogate timer instead"),
        ("percent=0.0001", "cannot be reached with these instruments"),
        ("percent=none", "not a number"),
        ("percent=-1", "Ask for percent from"),
        ("percent=1e300", "too large"),
        ("percent=5000", "Ask for percent from"),
        ("minutes=40", "In 40 minutes"),
        ("minutes=40 min", "In 40 minutes"),
        ("minutes=2", "Shorter than"),
        ("minutes=", "not a number"),
        ("", "not a number"),
    ],
)
def test_questions_backwards(client: FlaskClient, run: int, query: str, said: str) -> None:
    assert said in text(client, f"/runs/{run}/plan/asked?{query}")


def test_a_save_brings_what_the_plan_promises_now(client: FlaskClient, run: int) -> None:
    answer = save(client, run, entry("settings", "settings:swings.L", texts=["50", "100"]), page="plan")
    html = answer.json["html"]
    assert 'id="promises"' in html
    assert "2 lengths × 5" in html
    assert 'id="words-constant"' not in html, "what is typed is never replaced"
    odd = save(client, run, entry("settings", "settings:swings.L", texts=["100", "100"]), page="plan")
    assert odd.status_code == 200
    assert "all points stand at the same x" in odd.json["html"]


def test_a_plan_that_cannot_be_worked_out_says_so_and_keeps_everything(client: FlaskClient, run: int) -> None:
    save(
        client,
        run,
        entry("reading", "quantities.N.1", text="none"),
        entry("words", "words:reason.step", text="why not"),
        page="plan",
    )
    page = client.get(f"/runs/{run}/plan").text
    assert "Nothing can be foretold" in page
    assert 'value="why not"' in page


def test_readings_never_move_a_forecast(client: FlaskClient, run: int) -> None:
    before = client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"]
    save(client, run, *[entry("reading", f"swings.t.{i}.1", text=f"{20 + i}.5") for i in range(1, 9)])
    assert client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"] == before
