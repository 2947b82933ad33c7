"""Addresses and documents of earlier versions: they lead to the page of today, and are read as they were."""

import io
import json
import zipfile

import pytest
from flask.testing import FlaskClient

from cavrel.core import laboratory as laboratories
from cavrel.core.document.unpack import unpack
from tests.web.http import start


@pytest.mark.parametrize(
    ("before", "now"),
    [
        ("/runs/1/judge", "/runs/1/result"),
        ("/runs/1/straighten?fit=line&at=2", "/runs/1/fit?fit=line&at=2"),
        ("/runs/1/judge.json", "/runs/1/result.json"),
        ("/cupboard", "/laboratory"),
        ("/shelf.json?q=bob", "/experiments.json?q=bob"),
        ("/bring", "/import"),
    ],
)
def test_an_old_address_leads_to_the_page_of_today(client: FlaskClient, before: str, now: str) -> None:
    start(client, "pendulum", "Wick", "A bob")
    answer = client.get(before)
    assert answer.status_code == 308
    assert answer.headers["Location"] == now
    assert client.get(now).status_code == 200


@pytest.mark.parametrize("path", ["/judge", "/runs/1/cupboards", "/nowhere?judge=/runs/1/judge"])
def test_an_address_that_never_was_stays_unknown(client: FlaskClient, path: str) -> None:
    assert client.get(path, follow_redirects=True).status_code == 404


def test_nothing_is_written_through_an_old_address(client: FlaskClient) -> None:
    assert client.post("/cupboard/rules", data={}).status_code in (400, 404)


def test_a_laboratory_of_an_earlier_version_is_read() -> None:
    old = {"format": "cavrel-cupboard/1", "rules": {"stated": "limit"}}
    read = laboratories.load(json.loads(json.dumps(old)))
    assert read.format == "cavrel-laboratory/1"
    assert read.house_rules().stated == "limit"
    assert old["format"] == "cavrel-cupboard/1"


def test_a_package_of_an_earlier_version_is_imported_with_its_laboratory(client: FlaskClient) -> None:
    run = start(client, "pendulum", "Wick", "A bob")
    sent = client.get(f"/runs/{run}/package.zip").data
    with zipfile.ZipFile(io.BytesIO(sent)) as packed:
        files = {name: packed.read(name) for name in packed.namelist()}
    laboratory = json.loads(files.pop("laboratory.json")) | {
        "format": "cavrel-cupboard/1",
        "rules": {"stated": "limit"},
    }
    files["cupboard.json"] = json.dumps(laboratory).encode()
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as packed:
        for name, body in files.items():
            packed.writestr(name, body)
    parcel = unpack(made.getvalue())
    assert parcel.laboratory.house_rules().stated == "limit"
