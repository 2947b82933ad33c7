"""The laboratory over HTTP: every change a version, nothing typed lost, old runs as they were."""

import json
import re
from datetime import date, timedelta

import psycopg
import pytest
from flask.testing import FlaskClient

from cavrel.core import laboratory as laboratories
from cavrel.store.pool import Pool, transaction
from tests.web.http import entry, save, start, text, token


def keep(client: FlaskClient, part: str, **fields):
    return client.post(f"/laboratory/{part}", data={"csrf_token": token(client), **fields})


def version(client: FlaskClient) -> int:
    found = re.search(r"Version (\d+) now", client.get("/laboratory").text)
    assert found
    return int(found[1])


def was(client: FlaskClient, part: str, name: str) -> str:
    return json.dumps(client.get("/laboratory.json").json[part][name], sort_keys=True)


def test_an_instrument_from_typed_to_taken_out(client: FlaskClient) -> None:
    before = version(client)
    made = keep(
        client, "instruments", label="brass rule", kind="metre rule", least_count="1 mm", count="3", author="Ines"
    )
    assert made.status_code == 303 and "saved=instruments:" in made.location
    assert version(client) == before + 1
    assert client.get("/laboratory.json").json["instruments"]["brass_rule"] == {
        "label": "brass rule", "kind": "metre rule", "count": 3, "least_count": "1 mm",
    }  # fmt: skip
    assert "brass rule added" in text(client, "/laboratory") and "Ines" in text(client, "/laboratory")
    seen = was(client, "instruments", "brass_rule")
    again = keep(client, "instruments", name="brass_rule", was=seen, label="brass rule", kind="metre rule", count="5")
    assert again.status_code == 303
    late = keep(client, "instruments", name="brass_rule", was=seen, label="brass rule", kind="metre rule", count="7")
    assert late.status_code == 422
    assert "changed it meanwhile" in late.text and 'value="7"' in late.text, "what was typed stands in the form"
    keep(client, "instruments", name="brass_rule", was=was(client, "instruments", "brass_rule"), drop="yes")
    assert "brass_rule" not in client.get("/laboratory.json").json["instruments"]


@pytest.mark.parametrize(
    ("part", "fields", "said"),
    [
        ("instruments", {"label": "scale", "kind": "digital balance", "least_count": "a gram"}, "a gram"),
        ("instruments", {"label": "scale", "kind": "digital balance", "count": "many"}, "count"),
        ("instruments", {"label": "", "kind": "tape"}, "label"),
        ("accepted", {"label": "spring", "value": "31 N/m", "results": "spring.nothing"}, "no experiment has a result"),
        ("accepted", {"label": "spring", "value": "31 kg", "results": "spring.l_0"}, "cannot be computed"),
        ("rules", {"repeats": '"guess"'}, "repeats"),
        ("rules", {"acceptable": "ten"}, "is not a number"),
        ("rules", {"repeats": "{"}, "Expecting"),
        ("document", {"document": "{"}, "cannot be read as JSON"),
        ("document", {"document": '{"instruments": {"a": {}}}'}, "label"),
        ("again", {"version": "999"}, "no version 999"),
        ("again", {"version": "soon"}, "is not a version"),
        ("again", {}, "version"),
    ],
)  # fmt: skip
def test_what_cannot_be_used_is_said_and_makes_no_version(
    client: FlaskClient, part: str, fields: dict, said: str
) -> None:
    before = version(client)
    answer = keep(client, part, **fields)
    assert answer.status_code == 422
    assert said in answer.text.replace("&#39;", "'")
    assert version(client) == before


def test_a_part_that_is_none(client: FlaskClient) -> None:
    assert keep(client, "curtains").status_code == 404


def test_sent_twice_it_is_one_version(client: FlaskClient) -> None:
    key = "5f4c2d0a-6a55-4a35-9d57-3f2ad8e1a001"
    keep(client, "instruments", label="lens", kind="lens", key=key)
    before = version(client)
    keep(client, "instruments", label="lens", kind="lens", key=key)
    assert version(client) == before


def test_an_old_run_stays_as_it_was_until_it_is_taken_to_the_new_version(client: FlaskClient) -> None:
    run = start(client, "spring", "Wick", "Before the change")
    plan = client.get(f"/runs/{run}/plan.json").json
    keep(client, "instruments", label="coarse rule", kind="metre rule", least_count="2 cm", usual="yes")
    keep(
        client, "accepted", label="spring of Wick", value="33.0 N/m", u="0.5 N/m", results="spring.l_0"
    )  # refused: a length
    assert (
        keep(
            client, "accepted", label="length of Wick's", value="13.0 cm", u="0.5 cm", results="spring.l_0"
        ).status_code
        == 303
    )
    assert client.get(f"/runs/{run}/plan.json").json == plan
    newer = start(client, "spring", "Wick", "After the change")
    with_new = client.get(f"/runs/{newer}/plan.json").json
    assert with_new["run"]["instruments"]["rule"]["least_count"] == "2 cm"
    assert with_new["forecast"]["results"]["k"]["u"] > 3 * plan["forecast"]["results"]["k"]["u"]
    assert with_new["run"]["accepted"]["length_of_wick_s"]["results"] == ["l_0"]
    house = text(client, f"/runs/{run}/plan/house")
    now = version(client)
    assert f"version {now} is the newest" in house and "coarse rule added" in house
    assert save(client, run, entry("run", "run:cupboard", value=now), page="plan").json["refused"] == {}
    assert client.get(f"/runs/{run}/plan.json").json["forecast"] == with_new["forecast"]
    assert f"by version {now} of the laboratory" in text(client, f"/runs/{run}/logbook")
    save(client, run, entry("undo", "run:cupboard"), page="plan")
    assert client.get(f"/runs/{run}/plan.json").json == plan


def test_a_version_that_there_is_not_leaves_the_run_open(client: FlaskClient) -> None:
    run = start(client, "spring", "Wick", "Taken too far")
    answer = save(client, run, entry("run", "run:cupboard", value=4000), page="plan")
    assert client.get(f"/runs/{run}/plan").status_code == 200
    assert answer.status_code == 200 and answer.json["refused"]


def test_a_rule_of_one_run(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "By its own rule")
    before = client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"]["u"]
    assert not save(client, run, entry("rule", "rule:origin", value="forced"), page="plan").json["refused"]
    after = client.get(f"/runs/{run}/plan.json").json
    assert after["run"]["rules"]["origin"] == "forced"
    assert after["forecast"]["results"]["g"]["u"] < before
    assert "in this run: is forced through it" in text(client, f"/runs/{run}/logbook")
    assert "for this run" in text(client, f"/runs/{run}/plan/house").replace("’", "'")
    save(client, run, entry("rule", "rule:origin", value=None), page="plan")
    assert client.get(f"/runs/{run}/plan.json").json["forecast"]["results"]["g"]["u"] == before
    for slot, value in (
        ("rule:taste", "sweet"),
        ("rule:repeats", "guess"),
        ("rule:acceptable", "ten"),
        ("repeats", "sem"),
    ):
        assert save(client, run, entry("rule", slot, value=value)).json["refused"], slot


def test_a_run_may_have_its_own_g_and_its_own_limit(client: FlaskClient) -> None:
    """Run 2 of the demonstration holds readings: what each would make of its g stands next to it before it is chosen."""
    house = text(client, "/runs/2/plan/house")
    assert "latitude 54.6°, height 12 m" in house and "9.80665 m/s²" in house
    assert "Percent error that passes as acceptable" in house and "% off: passes" in house
    save(client, 2, entry("rule", "rule:g", value=9.81), page="plan")
    assert client.get("/runs/2/measure.json").json["result"]["results"]["g"]["accepted"]["value"] == 9.81
    save(client, 2, entry("undo", "rule:g"), page="plan")


def test_rules_are_shown_before_they_are_kept(client: FlaskClient) -> None:
    before = version(client)
    shown = text(client, '/laboratory/rules?rounding="two"&acceptable=1&g-by=number&g-number=9.81')
    assert "9.8100 m/s²: 1.9 % off" in shown
    assert "not acceptable" in shown
    assert "is not a number" in text(client, "/laboratory/rules?acceptable=ten")
    assert version(client) == before


def test_the_document_goes_out_and_comes_in(client: FlaskClient) -> None:
    document = client.get("/laboratory.json").json
    laboratories.load(document)
    emptied = keep(client, "document", document=json.dumps({"format": "cavrel-laboratory/1"}))
    assert emptied.status_code == 303
    assert client.get("/laboratory.json").json == {"format": "cavrel-laboratory/1"}
    assert "None yet" in text(client, "/laboratory")
    keep(client, "again", version=str(version(client) - 1))
    assert client.get("/laboratory.json").json == document


def test_a_version_never_changes(client: FlaskClient, pool: Pool) -> None:
    with pytest.raises(psycopg.errors.RaiseException, match="stays as it is"), transaction(pool) as connection:
        connection.execute("update laboratory set author = 'nobody'")


def test_marks_in_a_label_stay_text(client: FlaskClient) -> None:
    keep(client, "instruments", label="<b>rule</b>' \"", kind="tape")
    page = client.get("/laboratory").text
    assert "<b>rule</b>" not in page and "&lt;b&gt;rule" in page
    run = start(client, "speed-of-sound", "Wick", "With an odd label")
    assert "<b>rule</b>" not in client.get(f"/runs/{run}/plan").text


@pytest.mark.parametrize(
    ("days", "said"), [(10, ""), (400, ", 1 year ago"), (800, ", 2 years ago"), (-3, ", which is in the future")]
)
def test_an_old_calibration_is_said_to_be_one(client: FlaskClient, days: int, said: str) -> None:
    day = date.today() - timedelta(days=days)
    keep(client, "instruments", label=f"meter {days}", kind="ammeter", calibrated=day.isoformat())
    page = text(client, "/laboratory")
    at = page.index(f"calibrated {day.isoformat()}")
    assert page[at:].startswith(f"calibrated {day.isoformat()}{said}") and (said or not page[at + 21 :].startswith(","))
