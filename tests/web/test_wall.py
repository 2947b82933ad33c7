"""A wall round each run: what cannot be computed in one costs that part of that run, is said, and takes no other page with it."""

import importlib
from datetime import datetime, timezone
from uuid import UUID

import pytest
from flask.testing import FlaskClient

from cavrel.core.logbook.entry import text_in_force
from cavrel.service import run_view as service
from cavrel.store import entries as entry_store
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Pool, transaction
from tests.web.http import entry, save, start, text, token
from tests.web.test_suspects import typed

PAGES = ("plan", "measure", "fit", "result", "report", "logbook", "export", "import")
TWINS = ("measure.json", "result.json", "fit.json", "report.json", "logbook.json")

PARTS = [
    ("cavrel.present.axes", "candidates", "fit", "other axes"),
    ("cavrel.present.setpoints", "set_point_scale", "plan", "set points"),
    ("cavrel.present.standard_check", "counted", "result", ""),
    ("cavrel.present.row_comparison", "otherwise", "result", "rows compared with the line"),
    ("cavrel.present.suspects", "_card", "result", ""),
    ("cavrel.present.derivation_steps", "mathml", "fit", "worked steps"),
    ("cavrel.present.expected_result", "planner_of", "plan", "the expected result"),
    ("cavrel.present.plan", "counted", "plan", "how the plan stands"),
    ("cavrel.present.plan", "offer", "plan", "ways to improve this plan"),
    ("cavrel.present.conventions", "_differences", "plan", "what conventions change"),
    ("cavrel.present.result", "drawn", "result?shape=g", "the distribution"),
    ("cavrel.present.stages", "drafts", "report", ""),
    ("cavrel.present.stages", "one_line", "fit", "the state of Fit"),
    ("cavrel.present.stages", "progress", "measure", "the state of Measure"),
]


class Broken:
    """Raises whatever is done with it."""

    def __call__(self, *_: object, **__: object) -> object:
        raise ZeroDivisionError("nothing can be divided by nothing")

    def __getattr__(self, name: str) -> object:
        raise ZeroDivisionError(f"nothing has no {name}")


@pytest.mark.parametrize(("module", "name", "page", "said"), PARTS)
def test_an_error_in_a_part_costs_that_part_alone(
    client: FlaskClient, monkeypatch: pytest.MonkeyPatch, module: str, name: str, page: str, said: str
) -> None:
    run = typed(client)
    monkeypatch.setattr(importlib.import_module(module), name, Broken())
    assert save(client, run, entry("report", "report:aim", text="To weigh the Earth.")).status_code == 200
    for path in (page, *PAGES):
        assert client.get(f"/runs/{run}/{path}").status_code == 200, path
    if said:
        assert f"Cannot be computed: {said}" in text(client, f"/runs/{run}/{page}")
    for twin in TWINS:
        assert client.get(f"/runs/{run}/{twin}").status_code in (200, 422), twin
    assert client.get("/runs").status_code == 200


def test_entries_that_make_no_sheet_leave_their_logbook_and_every_other_run_standing(
    client: FlaskClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    bad, good = typed(client), typed(client)
    own = service.sheet_of

    def sheet_of(definition: object, book: object, *more: object) -> object:
        latest = book.latest.get("swings.t.9.1")  # type: ignore[attr-defined]
        if latest is not None and text_in_force(latest):
            raise ValueError("no sheet can be made of this")
        return own(definition, book, *more)  # type: ignore[arg-type]

    monkeypatch.setattr(service, "sheet_of", sheet_of)
    saved = save(client, bad, entry("reading", "swings.t.9.1", text="40.00"))
    assert saved.status_code == 200
    for path in (*PAGES, *TWINS):
        assert client.get(f"/runs/{bad}/{path}").status_code in (200, 422), path
        assert client.get(f"/runs/{good}/{path}").status_code == 200, path
    assert "These entries cannot be read as a table" in text(client, f"/runs/{bad}/measure")
    assert "40.00" in text(client, f"/runs/{bad}/logbook")
    assert client.get("/runs").status_code == 200
    # What was entered last is taken back, and the run is whole again.
    assert save(client, bad, entry("undo", "swings.t.9.1")).status_code == 200
    assert "These entries cannot be read as a table" not in text(client, f"/runs/{bad}/measure")


def test_two_trials_in_the_second_row_and_none_in_the_first(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "From the second on")
    save(client, run, entry("reading", "swings.t.2.1", text="31.1"), entry("reading", "swings.t.2.2", text="31.2"))
    for path in (*PAGES, *TWINS, "plan.json"):
        assert client.get(f"/runs/{run}/{path}").status_code == 200, path


def test_no_place_beyond_a_tables_end_is_accepted(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "Too far")
    for slot in ("quantities.N.31", "quantities.N.61", "swings.t.1.31", "swings.t.1000.1"):
        answer = save(client, run, entry("reading", slot, text="20"))
        assert list(answer.json["refused"]), slot
    assert "at most" in str(answer.json["refused"]) or "no place" in str(answer.json["refused"])
    assert client.get(f"/runs/{run}/measure").status_code == 200


def test_one_that_an_older_version_accepted_stands_nowhere_and_takes_nothing_down(
    client: FlaskClient, pool: Pool
) -> None:
    run, other = typed(client), typed(client)
    made = entry("reading", "quantities.N.61", text="20")
    with transaction(pool) as connection:
        kept = NewEntry(
            kind="reading", slot="quantities.N.61", body={"text": "20"}, author="Wick",
            made_at=datetime.now(timezone.utc), client_key=UUID(made["key"]),
        )  # fmt: skip
        entry_store.append(connection, run, [kept])
    for path in (*PAGES, *TWINS):
        assert client.get(f"/runs/{run}/{path}").status_code == 200, path
        assert client.get(f"/runs/{other}/{path}").status_code == 200, path
    assert client.get("/runs").status_code == 200


@pytest.mark.parametrize(
    ("method", "path", "sent"),
    [
        ("get", "/write?like=%00", {}),
        ("get", "/experiments/%00", {}),
        ("get", "/lessons/%00", {}),
        ("get", "/runs?words=%00&bench=%00&page=-5", {}),
        ("get", "/runs/{run}/report?form=%00", {}),
        ("get", "/runs/{run}/fit?series=%00&x=%00&y=1", {}),
        ("get", "/runs/-1/plan", {}),
        ("get", "/runs/99999999999999999999/plan", {}),
        ("post", "/live/%00", {}),
        ("post", "/live/-", {}),
        ("post", "/runs/{run}/import/back", {"import": "-" * 36}),
        ("post", "/runs/{run}/import/back", {"import": "\x00"}),
        ("post", "/course/work", {"kind": "\x00", "key": "-" * 36}),
        ("post", "/runs/{run}/report/sign", {"key": "-" * 36, "last": "\x00", "author": "a\x00"}),
        ("post", "/laboratory/rules", {"key": "\x00", "rule-origin": "\x00"}),
    ],
)
def test_no_address_and_no_form_is_a_fault_of_ours(
    client: FlaskClient, method: str, path: str, sent: dict[str, str]
) -> None:
    run = start(client, "pendulum", "Wick", "Strange addresses")
    data = {"csrf_token": token(client), **sent} if method == "post" else None
    answer = getattr(client, method)(path.format(run=run), **({"data": data} if data else {}))
    assert answer.status_code in (200, 303, 400, 404, 405, 409, 422), (path, answer.status_code)
