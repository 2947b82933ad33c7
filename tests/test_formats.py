"""The three documents: schemas as the models say, and what Cavrel prints as the schemas say."""

import json
from pathlib import Path

import jsonschema
import pytest
from click.testing import CliRunner

from cavrel import catalogue
from cavrel.cli import main
from cavrel.core import laboratory as laboratories
from cavrel.core.document.formats import schemas
from tests.conforms import conform

DOCS = Path(__file__).resolve().parent.parent / "docs"
FILES = {name: json.loads((DOCS / "schemas" / f"{name}.schema.json").read_text(encoding="utf-8")) for name in schemas()}
RUN = {
    "format": "cavrel-run/1",
    "experiment": "pendulum",
    "series": {
        "swings": {
            "L": ["60.0", "90.0", "120.0", "150.0"],
            "t": [["31.07"], ["38.05", "38.12"], ["43.94"], ["46.6", "49.1", "49.0"]],
        }
    },
}


@pytest.mark.parametrize("name", FILES)
def test_the_schemas_in_docs_are_those_of_the_models(name: str) -> None:
    assert FILES[name] == schemas()[name], "run ./run schemas"


@pytest.mark.parametrize("more", [[], ["--monte-carlo", "2000"]])
def test_result_documents_keep_their_schema(more: list[str]) -> None:
    for run in (RUN, {**RUN, "series": {}}):
        done = CliRunner().invoke(main, ["analyse", "-", *more], input=json.dumps(run))
        assert done.exit_code == 0, done.output
        conform(json.loads(done.stdout), "cavrel-result-1")
    if more:
        assert CliRunner().invoke(main, ["analyse", "-", "--monte-carlo", "3"], input=json.dumps(RUN)).exit_code == 2


def test_run_documents_and_definitions_keep_theirs() -> None:
    conform(RUN, "cavrel-run-1")
    for definition in catalogue.experiments().values():
        conform(definition.document(), "cavrel-experiment-1")
    with pytest.raises(jsonschema.ValidationError):
        conform({**RUN, "surprise": 1}, "cavrel-run-1")


def test_the_examples_in_the_text_work() -> None:
    """Each fenced block of docs/formats.md marked toml or json is a whole document."""
    text = (DOCS / "formats.md").read_text(encoding="utf-8")
    blocks = [part.split("```")[0] for part in text.split("```json\n")[1:]]
    assert blocks
    for block in blocks:
        document = json.loads(block)
        if document["format"] == "cavrel-laboratory/1":
            laboratories.load(document)
        else:
            assert CliRunner().invoke(main, ["analyse", "-"], input=block).exit_code == 0
    for block in [part.split("```")[0] for part in text.split("```toml\n")[1:]]:
        catalogue.validate(catalogue.read_toml(block))
