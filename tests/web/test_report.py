"""The report: every number that of the analysis, drafts marked as drafts, gaps said, texts kept like readings."""

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from tests.web.http import entry, save, start, text
from tests.web.test_suspects import typed


def parts(client: FlaskClient, run: int) -> dict[str, dict[str, object]]:
    return {p["name"]: p for p in client.get(f"/runs/{run}/report.json").json["parts"]}


def test_a_bare_run_has_a_report_of_gaps(client: FlaskClient) -> None:
    run = start(client, "spring", "Foghorn", "A spring")
    seen = text(client, f"/runs/{run}/report")
    assert "Missing: no reading was taken yet." in seen
    assert "it waits for" in seen
    assert "Missing: The result in one sentence" in seen
    assert parts(client, run)["conclusion"]["text"] == ""


def test_its_numbers_are_those_of_the_result(client: FlaskClient) -> None:
    run = typed(client)
    judged = client.get(f"/runs/{run}/result.json").json["results"]["g"]
    seen = text(client, f"/runs/{run}/report")
    value = f"{judged['value']:.2f}"
    assert f"is {value}" in seen
    assert "Table 1. Timed swings" in seen
    assert "31.08" in seen
    assert "Figure 1. period squared against length" in seen


def test_a_draft_is_marked_until_somebody_takes_or_rewrites_it(client: FlaskClient) -> None:
    run = typed(client)
    draft = parts(client, run)["aim"]
    assert not draft["own"]
    assert draft["text"] == catalogue.experiments()["pendulum"].aim
    assert "Automatic draft" in text(client, f"/runs/{run}/report")
    assert save(client, run, entry("report", "report:aim", text=draft["text"])).json["refused"] == {}
    assert parts(client, run)["aim"]["own"]
    assert save(client, run, entry("report", "report:aim", text="To weigh the Earth.")).json["refused"] == {}
    assert parts(client, run)["aim"]["text"] == "To weigh the Earth."
    assert "To weigh the Earth." in text(client, f"/runs/{run}/report")
    assert save(client, run, entry("report", "report:aim", text="")).json["refused"] == {}
    assert not parts(client, run)["aim"]["own"]


def test_what_was_written_stands_in_the_run_document_and_the_logbook(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("report", "report:conclusion", text="g is what it ought to be."))
    assert client.get(f"/runs/{run}/measure.json").json["run"]["report"] == {"conclusion": "g is what it ought to be."}
    logged = text(client, f"/runs/{run}/logbook")
    assert "Report, conclusion" in logged
    assert "g is what it ought to be." in logged


def test_departures_are_told_as_they_were(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("leave-out", "out:swings.3", reason="a draught"))
    save(client, run, entry("correction", "swings.t.1.1", text="31.10", was="31.08", reason="typing slip"))
    told = client.get(f"/runs/{run}/report.json").json["departures"]
    assert told == ["row 3 left out (a draught)", "row 1, trial 1 corrected to 31.10 (typing slip)"]
    assert "Departures from the plan: row 3 left out (a draught)" in text(client, f"/runs/{run}/report")


def test_questions_are_answered_by_the_bench_alone(client: FlaskClient) -> None:
    run = typed(client)
    answers = [p for name, p in parts(client, run).items() if name.startswith("answer.")]
    assert len(answers) == len(catalogue.experiments()["pendulum"].questions)
    assert all(p["text"] == "" and p["draft"] == "" for p in answers)


@pytest.mark.parametrize(
    ("slot", "body", "what"),
    [
        ("report:nothing", {"text": "x"}, "is no part of a report"),
        ("report:answer.99", {"text": "x"}, "is no part of a report"),
        ("aim", {"text": "x"}, "is no part of a report"),
        ("report:aim", {"text": 3}, "must be a text"),
        ("report:aim", {"text": "x" * 4001}, "4000 characters"),
    ],
)
def test_what_is_no_part_is_refused_with_its_reason(client: FlaskClient, slot: str, body: dict, what: str) -> None:
    run = typed(client)
    refused = save(client, run, entry("report", slot, **body)).json["refused"]
    assert len(refused) == 1
    assert what in next(iter(refused.values()))


def test_the_rail_counts_what_is_left(client: FlaskClient) -> None:
    run = typed(client)
    assert "Reportnot started" in text(client, f"/runs/{run}/measure")
    for name, part in parts(client, run).items():
        save(client, run, entry("report", f"report:{name}", text=str(part["text"]) or "Because it is so."))
    assert "Reportwritten" in text(client, f"/runs/{run}/measure")


@pytest.mark.parametrize(
    "name", ["conical-pendulum", "metre-bridge", "half-life", "rule-equilibrium", "stefan-constant"]
)
def test_every_kind_of_experiment_has_a_report(client: FlaskClient, name: str) -> None:
    run = start(client, name, "Prism", f"Report of {name}")
    assert client.get(f"/runs/{run}/report").status_code == 200


def longer(client: FlaskClient, run: int) -> None:
    """Both timings of the last row longer: g moves in its second decimal."""
    moved = [
        entry("reading", f"swings.t.5.{j}", text=text, reason="read again") for j, text in ((1, "54.10"), (2, "54.14"))
    ]
    assert save(client, run, *moved).status_code == 200


def test_a_draft_that_was_taken_goes_on_following_the_result(client: FlaskClient) -> None:
    run = typed(client)
    draft = parts(client, run)["conclusion"]["draft"]
    assert "{g}" in draft
    save(client, run, entry("report", "report:conclusion", text=draft))
    taken = parts(client, run)["conclusion"]
    value = f"{client.get(f'/runs/{run}/result.json').json['results']['g']['value']:.2f}"
    assert taken["own"]
    assert f"is {value}" in taken["text"]
    longer(client, run)
    now = f"{client.get(f'/runs/{run}/result.json').json['results']['g']['value']:.2f}"
    assert now != value
    followed = parts(client, run)["conclusion"]
    assert f"is {now}" in followed["text"]
    assert followed["source"] == draft
    assert followed["moved"] == []


def test_a_number_of_ones_own_is_marked_when_its_result_moves(client: FlaskClient) -> None:
    run = typed(client)
    value = f"{client.get(f'/runs/{run}/result.json').json['results']['g']['value']:.2f}"
    save(
        client,
        run,
        entry("report", "report:conclusion", text=f"Here g is {value} m/s² by 8 lengths, {{g.percent}} off."),
    )
    assert parts(client, run)["conclusion"]["moved"] == []
    longer(client, run)
    now = f"{client.get(f'/runs/{run}/result.json').json['results']['g']['value']:.2f}"
    seen = parts(client, run)["conclusion"]
    assert seen["moved"] == [{"number": value, "says": f"Free-fall acceleration: {now} now"}]
    assert "{" not in seen["text"]
    page = text(client, f"/runs/{run}/report")
    assert (
        f"Numbers that have changed since they were written: Conclusion: {value} (Free-fall acceleration: {now} now)"
        in page
    )
    # Written anew, it agrees again.
    save(client, run, entry("report", "report:conclusion", text=f"Here g is {now} m/s²."))
    assert parts(client, run)["conclusion"]["moved"] == []


def test_braces_that_are_no_field_stay_as_they_were_typed(client: FlaskClient) -> None:
    run = typed(client)
    said = "A set {1, 2} and {nothing} and {g.nothing} and {g"
    save(client, run, entry("report", "report:aim", text=said))
    assert parts(client, run)["aim"]["text"] == said
