"""A run exported and imported again: exactly back, or not at all."""

import io
import json
import zipfile
from collections.abc import Callable
from typing import Any

import pytest
from flask.testing import FlaskClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cavrel import catalogue
from cavrel.core.document import unpack
from cavrel.core.errors import CavrelError
from cavrel.core.logbook import assemble
from cavrel.core.logbook import run as runs
from cavrel.core.simulate import simulate
from cavrel.service import run_import
from tests.thorough import TIMES
from tests.web.http import entry, save, text
from tests.web.test_suspects import typed

Files = dict[str, Any]


def package(client: FlaskClient, run: int) -> Files:
    with zipfile.ZipFile(io.BytesIO(client.get(f"/runs/{run}/package.zip").data)) as packed:
        found: Files = {}
        for name in packed.namelist():
            body = packed.read(name).decode()
            found[name] = json.loads(body) if name.endswith(".json") else body
        return found


def zipped(files: Files) -> bytes:
    sink = io.BytesIO()
    with zipfile.ZipFile(sink, "w") as packed:
        for name, body in files.items():
            packed.writestr(name, body if isinstance(body, str | bytes) else json.dumps(body))
    return sink.getvalue()


def send(client: FlaskClient, body: bytes, **fields: str) -> Any:
    page = client.get("/import").text
    token = page.split('name="csrf_token" value="')[1].split('"')[0]
    data = {"csrf_token": token, "file": (io.BytesIO(body), "a file.zip"), **fields}
    return client.post("/import", data=data, content_type="multipart/form-data")


def imported(client: FlaskClient, body: bytes, **fields: str) -> int:
    answer = send(client, body, **fields)
    assert answer.status_code == 303, answer.text
    return int(answer.headers["Location"].split("/")[2])


def without_times(files: Files) -> Files:
    """What of a package does not bear the moment or number of its making."""
    found = json.loads(json.dumps(files))
    found["logbook.json"].pop("made_at")
    return found


def untidy(client: FlaskClient) -> int:
    """A run with a bit of everything in its logbook."""
    run = typed(client)
    save(client, run, entry("reading", "swings.t.1.1", text="31.9"))
    save(client, run, entry("undo", "swings.t.1.1"))
    save(client, run, entry("leave-out", "out:swings.3", reason="a draught, =2+2"))
    save(client, run, entry("take-back", "out:swings.3"))
    save(client, run, entry("rule", "rule:rounding", value="one"))
    save(client, run, entry("report", "report:aim", text="Find out what g is – here."))
    save(client, run, entry("note", "note:0a1b2c3d-0000", text="A gull sat on the rail."))
    save(client, run, entry("run", "run:title", value="Swings, Thursday"))
    save(client, run, entry("run", "run:cupboard", value=1))
    return run


def test_a_package_comes_back_exactly(client: FlaskClient) -> None:
    first = package(client, untidy(client))
    again = package(client, imported(client, zipped(first)))
    assert without_times(again) == without_times(first)
    third = package(client, imported(client, zipped(again)))
    assert without_times(third) == without_times(first)


@pytest.mark.parametrize("run", [1, 3, 6, 9, 12, 14])
def test_the_demonstration_comes_back_exactly(client: FlaskClient, run: int) -> None:
    first = package(client, run)
    assert without_times(package(client, imported(client, zipped(first)))) == without_times(first)


def test_a_run_brought_in_can_be_undone_where_it_was_left(client: FlaskClient) -> None:
    run = imported(client, zipped(package(client, untidy(client))))
    save(client, run, entry("undo", "swings.t.1.1"))
    assert client.get(f"/runs/{run}/measure.json").json["run"]["series"]["swings"]["t"][0][0] == "31.9"


def test_its_laboratory_counts_until_another_is_chosen(client: FlaskClient) -> None:
    files = package(client, typed(client))
    files["laboratory.json"]["rules"] = {"rounding": "one"}
    run = imported(client, zipped(files))
    rules = client.get(f"/runs/{run}/measure.json").json["run"].get("rules", {})
    assert rules["rounding"] == "one"
    assert "imported with" in text(client, f"/runs/{run}/plan")
    save(client, run, entry("run", "run:cupboard", value=1))
    assert client.get(f"/runs/{run}/measure.json").json["run"].get("rules", {}).get("rounding") != "one"


@pytest.mark.parametrize("experiment", list(catalogue.experiments()))
def test_a_run_document_alone_begins_a_logbook_that_amounts_to_it(experiment: str) -> None:
    definition = catalogue.experiments()[experiment]
    document = simulate(catalogue.program_of(definition), 4)
    run = runs.load(document)
    body = json.dumps(document).encode()
    ready = run_import.read(body, "Wick")
    state = assemble(definition, ready.entries)
    for field in ("options", "quantities", "series", "traces", "excluded", "expected"):
        assert getattr(state.run, field) == getattr(run, field), field


def test_a_run_document_is_brought_in(client: FlaskClient) -> None:
    document = simulate(catalogue.program_of(catalogue.experiments()["spring"]), 4)
    run = imported(client, json.dumps(document).encode(), bench="Prism")
    twin = client.get(f"/runs/{run}/measure.json").json
    assert twin["run"]["series"] == document["series"]
    assert "Prism" in text(client, "/runs")


def test_the_same_form_twice_brings_one(client: FlaskClient) -> None:
    body = zipped(package(client, 1))
    key = "7d0e2a54-3c1f-4b7e-9a55-0d6c1f3b2a11"
    assert imported(client, body, key=key) == imported(client, body, key=key)


def broken(change: Callable[[Files], object]) -> Callable[[Files], Files]:
    def make(files: Files) -> Files:
        change(files)
        return files

    return make


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (broken(lambda f: f.pop("run.json")), "run.json: is missing"),
        (broken(lambda f: f.update({"run.json": '{"format": '})), "run.json: line 1, column 12"),
        (broken(lambda f: f["run.json"].update(colour="red")), "run.json: colour"),
        (broken(lambda f: f["logbook.json"]["entries"][0].update(kind="spell")), "entries.1: unknown kind"),
        (broken(lambda f: f["logbook.json"]["entries"][0].update(slot="swings.q.1.1")), "swings.q.1.1: the experiment"),
        (broken(lambda f: f["logbook.json"]["entries"][0].update(made_at="noon")), "entries.0.made_at"),
        (broken(lambda f: f["definition.json"].update(law="T = ")), "law"),
        (broken(lambda f: f["laboratory.json"].update(rules={"rounding": "nine"})), "laboratory.json"),
    ],
)
def test_a_bad_file_says_where_and_brings_nothing(
    client: FlaskClient, change: Callable[[Files], Files], says: str
) -> None:
    files = change(package(client, typed(client)))
    before = client.get("/runs.json").json["many"]
    answer = send(client, zipped(files))
    assert answer.status_code == 422
    assert says in answer.text
    assert "Nothing was imported" in answer.text
    assert client.get("/runs.json").json["many"] == before


def test_an_archive_that_swells_is_refused() -> None:
    sink = io.BytesIO()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("run.json", b" " * (unpack.MOST_UNPACKED + 1))
    with pytest.raises(CavrelError, match="unpacks to more"):
        unpack.unpack(sink.getvalue())
    many = zipped({f"{i}.csv": "" for i in range(unpack.MOST_FILES + 1)})
    with pytest.raises(CavrelError, match="holds 201 files"):
        unpack.unpack(many)


def test_a_file_too_large_is_refused(client: FlaskClient) -> None:
    answer = send(client, b"x" * (unpack.MOST_BYTES + 200_000))
    assert answer.status_code == 413
    assert "twenty" in answer.text


WHOLE: dict[str, bytes] = {}


@settings(max_examples=60 * TIMES, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_mangled_files_are_refused_or_read_never_worse(client: FlaskClient, data: st.DataObject) -> None:
    if not WHOLE:
        WHOLE["zip"] = client.get("/runs/1/package.zip").data
        WHOLE["json"] = json.dumps(client.get("/runs/1/measure.json").json["run"]).encode()
    body = bytearray(WHOLE[data.draw(st.sampled_from(["zip", "json"]))])
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(body) - 1))
        way = data.draw(st.sampled_from(["byte", "cut", "drop", "twice"]))
        if way == "byte":
            body[at] = data.draw(st.integers(0, 255))
        elif way == "cut":
            del body[max(at, 1) :]
        elif way == "drop":
            del body[at : at + data.draw(st.integers(1, 40))]
        else:
            body[at:at] = body[at : at + 60]
        if not body:
            body += b"{"
    try:
        ready = run_import.read(bytes(body), "Wick")
    except CavrelError:
        return
    assert ready.title
