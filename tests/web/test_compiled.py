"""Templates are compiled once on a machine, and a page never fails over where they are kept."""

from functools import partial
from pathlib import Path

import pytest

from cavrel.web import compiled
from cavrel.web.app import plain_app


def test_templates_are_compiled_once_on_a_machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    kept = compiled.Compiled(str(tmp_path / "kept"))
    monkeypatch.setattr(compiled, "Compiled", lambda: kept)
    (tmp_path / "kept").mkdir()
    plain_app().jinja_env.get_template("error.html")
    [file] = (tmp_path / "kept").iterdir()
    file.write_bytes(file.read_bytes()[:40])  # as a crash would leave it
    plain_app().jinja_env.get_template("error.html")
    monkeypatch.setattr("jinja2.environment.Environment.compile", None)
    plain_app().jinja_env.get_template("error.html")


def test_a_folder_that_is_cleared_away_costs_no_page(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(compiled, "Compiled", partial(compiled.Compiled, str(tmp_path / "gone")))
    assert plain_app().jinja_env.get_template("error.html")

    def none() -> None:
        raise RuntimeError("no such folder")

    monkeypatch.setattr(compiled, "Compiled", none)
    assert compiled.templates() is None
