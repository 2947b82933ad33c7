"""Help: every page is served, its links lead somewhere, its examples are run."""

import re

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.core.analysis import analyse
from cavrel.core.logbook.run import load
from cavrel.present.keys import keys, taught
from cavrel.web.help import PAGES

SEEN: set[str] = set()
"""Addresses that another page led to."""


@pytest.mark.parametrize("name", list(PAGES))
def test_a_page_and_all_it_leads_to(client: FlaskClient, name: str) -> None:
    page = client.get(f"/help/{name}")
    assert page.status_code == 200
    for address in sorted(set(re.findall(r'(?:href|src)="(/[^"#]*)', page.text)) - SEEN):
        SEEN.add(address)
        if "/static/" not in address:
            assert client.get(address).status_code == 200, address


def test_what_is_no_page(client: FlaskClient) -> None:
    for address in ("/help/nothing", "/help/pictures/nothing.png", "/help/pictures/../formats.md", "/help/..%2fREADME"):
        assert client.get(address).status_code == 404


def test_every_key_has_an_example() -> None:
    assert [k.path for k in keys() if not k.example] == []
    assert len({k.path for k in keys()}) == len(keys()) > 100


@pytest.mark.parametrize("index", range(len(taught())))
def test_the_examples_are_good_definitions(index: int) -> None:
    definition = catalogue.read_toml(taught()[index])
    catalogue.validate(definition)
    assert definition.id not in catalogue.experiments()


def test_the_first_example_finds_g() -> None:
    definition = catalogue.read_toml(taught()[0])
    lengths = ["50.0", "80.0", "110.0", "140.0"]
    times = ["14.19", "17.95", "21.05", "23.74"]
    series = {"chains": {"L": lengths, "t": [[t] for t in times]}}
    run = load({"format": "cavrel-run/1", "experiment": definition.document(), "series": series})
    found = analyse(catalogue.program_of(definition), run).results["g"]
    assert found.value == pytest.approx(9.81, abs=0.05)


def test_the_commands_of_the_operators_page_exist() -> None:
    from click import Context

    from cavrel.cli import main

    text = (catalogue.HERE.parent.parent / "docs" / "help" / "operator.md").read_text(encoding="utf-8")
    named = set(re.findall(r"\./run cavrel ([a-z]+)", text))
    assert {"backup", "restore"} <= named
    assert named <= set(main.list_commands(Context(main)))
    assert all(main.get_command(Context(main), name) for name in named)
