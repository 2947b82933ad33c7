"""Plan over HTTP: of every experiment, with odd questions, and what a save there sends back."""

import io
import re
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.logbook import run as runs
from tests.conforms import conform
from tests.thorough import some
from tests.web.http import entry, save, start, text, token


@pytest.mark.parametrize(
    "experiment", some(sorted(catalogue.experiments()), ("pendulum", "half-life", "balanced-rule"))
)
def test_every_experiment_can_be_planned(client: FlaskClient, experiment: str) -> None:
    run = start(client, experiment, "Wick", "Planned")
    page = text(client, f"/runs/{run}/plan")
    assert "Expected result" in page
    assert "Nothing can be predicted" not in page
    assert "nan" not in page.lower().replace("resonan", "").replace("inan", "")
    twin = client.get(f"/runs/{run}/plan.json").json
    conform(twin["forecast"], "cavrel-forecast-1")
    runs.load(twin["run"])


@pytest.fixture
def run(client: FlaskClient) -> int:
    return start(client, "pendulum", "Beacon", "Planned here")


@pytest.mark.parametrize(
    ("query", "said"),
    [
        ("percent=1", "this plan already gives"),
        ("percent=0,12", "photogate timer instead"),
        ("percent=0.0001", "is not possible with these instruments"),
        ("percent=none", "not a number"),
        ("percent=-1", "Ask for percent from"),
        ("percent=1e300", "too large"),
        ("percent=5000", "Ask for percent from"),
        ("minutes=40", "In 40 minutes"),
        ("minutes=40 min", "In 40 minutes"),
        ("minutes=2", "in less than"),
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


def test_a_plan_that_cannot_be_computed_says_so_and_keeps_everything(client: FlaskClient, run: int) -> None:
    save(
        client,
        run,
        entry("reading", "quantities.N.1", text="none"),
        entry("words", "words:reason.step", text="why not"),
        page="plan",
    )
    page = client.get(f"/runs/{run}/plan").text
    assert "Nothing can be predicted" in page
    assert 'value="why not"' in page


def test_readings_never_move_a_forecast(client: FlaskClient, run: int) -> None:
    before = client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"]
    save(client, run, *[entry("reading", f"swings.t.{i}.1", text=f"{20 + i}.5") for i in range(1, 9)])
    assert client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"] == before


def test_headings_marks_and_hidden_columns_stand_over_the_table(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "In other words")
    sent = [
        entry("heading", "heading:swings.L", label="Length, pivot to bob", symbol="Z", unit="m"),
        entry("heading", "heading:swings.T", hidden=True),
        entry("heading", "heading:swings", label="landing"),
    ]
    assert not save(client, run, *sent, page="plan").json["refused"]
    answer = save(
        client, run, entry("mark", "mark:swings.1", text="upper"), entry("reading", "swings.L.1.1", text="1.20")
    )
    assert not answer.json["refused"]
    page = client.get(f"/runs/{run}/measure").text
    assert "Length, pivot to bob" in page and 'value="upper"' in page and re.search(r">\s*landing", page)
    assert 'id="c-swings-1-T"' not in page
    late = save(client, run, entry("heading", "heading:swings.L", unit="cm"))
    assert "readings were typed in this unit" in next(iter(late.json["refused"].values()))
    assert not save(client, run, entry("heading", "heading:swings.L", unit="m", label="Length")).json["refused"]
    found = client.get(f"/runs/{run}/measure.json").json
    assert found["result"]["series"]["swings"]["L"] == {
        "unit": "m",
        "values": [1.2],
        "u": found["result"]["series"]["swings"]["L"]["u"],
    }
    assert "called Length" in text(client, f"/runs/{run}/logbook")
    for stage in ("plan", "fit", "result", "logbook"):
        assert client.get(f"/runs/{run}/{stage}").status_code == 200


def test_a_plan_goes_out_as_a_file_and_starts_another_run(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "First of two")
    sent = [
        entry("heading", "heading:swings.L", unit="m"),
        entry("settings", "settings:swings.L", texts=["0.6", "1.2", "1.8"]),
        entry("trials", "trials:swings.t", count=3, planned=True),
        entry("reading", "quantities.N.1", text="30"),
        entry("reading", "swings.t.1.1", text="46.6"),
        entry("rule", "rule:rounding", value="two"),
        entry("words", "words:reason.range", text="the stairs"),
    ]
    assert not save(client, run, *sent, page="plan").json["refused"]
    answer = client.get(f"/runs/{run}/plan/document.json")
    assert "attachment" in answer.headers["Content-Disposition"]
    plan = answer.json
    assert "series" not in plan and plan["quantities"] == {"N": "30"} and plan["rules"] == {"rounding": "two"}
    assert "Start another run with this plan" in text(client, f"/runs/{run}/plan/again")
    page = client.get("/experiments/pendulum").text
    bench = re.search(r'<option value="(\d+)">Wick', page)
    assert bench
    form = {
        "bench": bench[1],
        "title": "Second of two",
        "key": str(uuid4()),
        "csrf_token": token(client),
        "another": "yes",
        "first": "plan",
    }
    for how in ({"plan": answer.text}, {"plan-file": (io.BytesIO(answer.data), "plan.json")}):
        made = client.post("/experiments/pendulum/runs", data=form | how | {"key": str(uuid4())})
        assert made.status_code == 303
        there = int(re.search(r"/runs/(\d+)/plan", made.location)[1])  # type: ignore[index]
        assert client.get(f"/runs/{there}/plan/document.json").json == plan
        assert (
            client.get(f"/runs/{there}/plan.json").json["forecast"]["results"]
            == client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]
        )
    for odd, said in (
        ("{", "cannot be read as JSON"),
        ('{"format": "cavrel-run/1", "experiment": "spring"}', "not for"),
        ("[]", "one JSON object"),
    ):
        refused = client.post("/experiments/pendulum/runs", data=form | {"plan": odd, "key": str(uuid4())})
        assert refused.status_code == 422 and said in refused.text
        assert "Second of two" in refused.text


def test_out_of_order_on_purpose_and_in_order_again(client: FlaskClient, run: int) -> None:
    save(client, run, entry("settings", "settings:swings.L", texts=["50", "80", "110", "140", "170"]), page="plan")
    page = client.get(f"/runs/{run}/plan").text
    assert 'data-points="50 140 80 170 110"' in page and "in random order" in page
    assert ">in order<" not in page
    save(client, run, entry("settings", "settings:swings.L", texts=["50", "140", "80", "170", "110"]), page="plan")
    page = client.get(f"/runs/{run}/plan").text
    assert 'data-points="50 80 110 140 170"' in page and ">in order<" in page
    assert client.get(f"/runs/{run}/plan.json").json["run"]["plan"]["settings"]["swings.L"] == [
        "50",
        "140",
        "80",
        "170",
        "110",
    ]


def test_an_instrument_as_its_maker_printed_it(client: FlaskClient) -> None:
    run = start(client, "led-threshold", "Wick", "With our own meter")
    before = client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["h"]["u"]
    printed = {"label": "old needle meter", "class": "5", "full_scale": "3 V"}
    assert not save(client, run, entry("instrument", "instrument:meter", **printed), page="plan").json["refused"]
    page = text(client, f"/runs/{run}/plan")
    assert "enter your instrument’s specification" in page
    assert client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["h"]["u"] > before
    odd = save(client, run, entry("instrument", "instrument:meter", accuracy="quite good"), page="plan").json["refused"]
    assert "0.5 % + 2 digits" in next(iter(odd.values()))


def test_a_single_quantity_is_read_as_often_as_the_plan_says(client: FlaskClient) -> None:
    run = start(client, "young-modulus", "Wick", "Three diameters", material="steel")
    page = text(client, f"/runs/{run}/plan")
    assert "8+ readings of diameter, in many places" in page.replace(
        " +", "+"
    ) and "1 + reading of length" in page.replace("1+", "1 +")
    save(
        client,
        run,
        entry("trials", "trials:d", count=3, planned=True),
        entry("trials", "trials:l0", count=2, planned=True),
    )
    page = client.get(f"/runs/{run}/measure").text
    assert 'data-slot="quantities.d.3"' in page and 'data-slot="quantities.d.4"' not in page
    assert 'data-slot="quantities.l0.2"' in page
