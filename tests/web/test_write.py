"""Writing an experiment of one's own: judged line by line, kept as versions, runs pinned to theirs."""

from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.catalogue.places import line_of, read_text
from tests.thorough import some
from tests.web.http import entry, save, start, text, token

BLANK = (catalogue.HERE / "blank.toml").read_text(encoding="utf-8")


def source(experiment: str) -> str:
    return (catalogue.HERE / "experiments" / f"{experiment}.toml").read_text(encoding="utf-8")


def keep(client: FlaskClient, body: str, key: str | None = None):
    form = {"text": body, "key": key or str(uuid4()), "csrf_token": token(client)}
    return client.post("/write", data=form)


@pytest.mark.parametrize("experiment", some(list(catalogue.experiments())))
def test_every_experiment_can_be_duplicated(client: FlaskClient, experiment: str) -> None:
    page = client.get(f"/write?like={experiment}").text
    assert f"own-{experiment}" in page
    assert "Valid definition" in page


@pytest.mark.parametrize(
    ("old", "new", "line", "word"),
    [
        (
            'formula = "2*line.slope"',
            'formula = "3*line.slope"',
            'formula = "3*line.slope"',
            "does not follow from the law",
        ),
        ("rows = 6", 'rows = "many"', 'rows = "many"', "integer"),
        ('unit = "cm"', 'unit = "furlongs/"', 'unit = "furlongs/"', "unit"),
        ("minutes = 45", "minutes 45", "minutes 45", "not readable as TOML"),
        ('x = "t^2"', 'x = "q^2"', 'x = "q^2"', "unknown name 'q'"),
        ('title = "A new experiment"', 'titel = "A new experiment"', 'titel = "A new experiment"', "unknown key"),
        ('for = "falls.s"', 'for = "falls.z"', 'for = "falls.z"', "unknown column"),
        ('kind = "laps", laps = "1"', 'kind = "wait"', 'timer = { kind = "wait"', "says 'for'"),
    ],
)
def test_a_fault_is_said_at_its_line(client: FlaskClient, old: str, new: str, line: str, word: str) -> None:
    body = BLANK.replace(old, new)
    wanted = next(i for i, written in enumerate(body.split("\n"), 1) if written.startswith(line))
    answer = client.post("/write/check.json", data={"text": body, "csrf_token": token(client)}).json
    assert not answer["good"]
    found = [fault for fault in answer["faults"] if word in fault["what"]]
    assert found, answer
    assert found[0]["line"] == wanted


def test_every_fault_of_the_keys_is_said_at_once() -> None:
    found = read_text(BLANK.replace("rows = 6", "rows = -1").replace('role = "set"', 'role = "sett"')).faults
    assert [fault.place for fault in found] == ["series.falls.rows", "series.falls.columns.s.role"]


def test_lines_of_tables_in_lists_and_of_keys_inside_texts() -> None:
    body = 'a = """\nformula = "no key"\n"""\n[[steps]]\ndo = "x"\n[[steps]]\ndo = "y"\nfills = []\n'
    assert line_of(body, "steps.1.fills") == 8
    assert line_of(body, "steps.1.timer") == 6
    assert line_of(body, "formula") == 1


def test_versions_and_the_runs_pinned_to_them(client: FlaskClient) -> None:
    body = BLANK.replace("own-experiment", "ramp").replace("A new experiment", "Ball on a ramp")
    assert keep(client, body).status_code == 303
    assert "Ball on a ramp" in text(client, "/?q=ramp")
    first = start(client, "ramp", "Prism", "First evening")
    save(client, first, entry("reading", "falls.s.1.1", text="40"), entry("reading", "falls.t.1.1", text="1.6"))
    changed = body.replace('label = "Distance"', 'label = "Way along the ramp"')
    key = str(uuid4())
    assert keep(client, changed, key).status_code == 303
    assert keep(client, changed, key).status_code == 303  # sent twice, kept once
    kept = client.get("/write/ramp.json").json["versions"]
    assert [k["version"] for k in kept] == [2, 1]
    assert kept[1]["text"] == body
    second = start(client, "ramp", "Wick", "Second evening")
    assert "Way along the ramp" in client.get(f"/runs/{second}/measure").text
    assert "Way along the ramp" not in client.get(f"/runs/{first}/measure").text
    document = client.get(f"/runs/{first}/measure.json").json["run"]
    assert document["experiment"]["title"] == "Ball on a ramp"
    assert client.get("/write/ramp?version=1").status_code == 200
    assert client.get("/write/ramp?version=7").status_code == 404


def test_nothing_typed_is_lost_when_a_text_is_refused(client: FlaskClient) -> None:
    body = BLANK.replace("rows = 6", "rows = six  # still thinking")
    answer = keep(client, body)
    assert answer.status_code == 422
    assert "still thinking" in answer.text
    taken = keep(client, source("pendulum"))
    assert taken.status_code == 422
    assert "give yours an id of its own" in taken.text


def test_a_hostile_text_costs_nothing(client: FlaskClient) -> None:
    for body in ("", "\x00", "a" * 250_000, "[" * 5000, 'format = "cavrel-experiment/1"\n' + "x = {" * 400):
        answer = client.post("/write/check.json", data={"text": body, "csrf_token": token(client)})
        assert answer.status_code == 200
        assert not answer.json["good"]


@pytest.mark.parametrize(
    "law",
    [
        "s = sin(a*t + cos(s*t)) + tan(s^3*t^5 + a)",
        "s = a^t*sin(t*a) + exp(t*s)*ln(t) + s^t",
        "s = (a*t^7 + t^3 + s^5*t)^(1/3) + sqrt(t + sqrt(a + sqrt(t + s)))",
        "s = " + " + ".join(f"sin({i}*a*t)" for i in range(1, 16)),
    ],
)
def test_a_law_that_algebra_cannot_turn_round_is_passed_over(law: str) -> None:
    """Solved without bounds, such laws kept a request busy for minutes while the instructor typed."""
    assert read_text(BLANK.replace('law = "s = a*t^2/2"', f'law = "{law}"')).faults == ()


def test_a_law_that_was_not_solved_in_time_is_said(client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    def checked() -> str:
        return client.post("/write/check", data={"text": BLANK, "csrf_token": token(client)}).text

    assert "not solved in time" not in checked()
    monkeypatch.setattr(catalogue, "solved_in_time", lambda definition: False)
    assert "The law was not solved in time" in checked()
