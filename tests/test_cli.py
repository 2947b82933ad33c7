"""The command line: result documents, and one line for what cannot be read."""

import json
from pathlib import Path

import pytest
from click import Context
from click.testing import CliRunner

from cavrel.cli import main

RUN = {
    "format": "cavrel-run/1",
    "experiment": "pendulum",
    "series": {
        "swings": {
            "L": ["60.0", "90,0", "1200 mm", "150.0"],
            "t": [["31.07", "31.14"], ["38.05", "38.12"], ["43.94", "43.87"], ["49.13", "49.02"]],
        }
    },
}


def analyse(document: object, *more: str):
    return CliRunner().invoke(
        main, ["analyse", "-", *more], input=document if isinstance(document, str) else json.dumps(document)
    )


def test_the_result_document() -> None:
    done = analyse(RUN)
    assert done.exit_code == 0, done.stderr
    result = json.loads(done.stdout)
    assert result["format"] == "cavrel-result/1"
    assert result["quantities"]["N"] == {"unit": "", "value": 20.0, "u": 0.0}
    assert result["series"]["swings"]["L"]["values"] == pytest.approx([60, 90, 120, 150])
    fit = result["fits"]["line"]
    assert fit["parameters"]["slope"]["unit"] == "s^2/cm"
    assert fit["law"] == {"slope": "4*pi^2/g", "intercept": "0", "constants": {"g": "4*pi^2/line.slope"}}
    assert {"covariance", "chi2", "dof", "p", "r2", "s"} <= fit.keys()
    g = result["results"]["g"]
    assert g["value"] == pytest.approx(9.81, abs=0.1)
    assert {
        "value",
        "u",
        "unit",
        "dof",
        "k95",
        "U95",
        "text",
        "accepted",
        "percent_error",
        "percent_difference",
        "linear",
        "interval95",
        "plausible",
        "combined",
        "z",
        "verdict",
        "budget",
    } <= g.keys()
    assert sum(line["contribution"] ** 2 for line in g["budget"]) == pytest.approx(g["u"] ** 2)
    assert result["flags"] == []
    assert result["slips"] == []


def test_a_definition_inside_the_run_document_or_beside_it(tmp_path: Path) -> None:
    inline = {
        "format": "cavrel-experiment/1",
        "id": "mean-only",
        "title": "A mean",
        "field": "matter",
        "aim": "Average.",
        "series": {
            "s": {
                "label": "Readings",
                "columns": {"m": {"label": "Mass", "unit": "g", "role": "measured", "repeats": 3}},
            }
        },
        "results": {"m_mean": {"label": "Mean mass", "formula": "mean(s.m)", "unit": "g"}},
    }
    run = {"format": "cavrel-run/1", "experiment": inline, "series": {"s": {"m": [["12.1", "12.3", "12.2"]]}}}
    result = json.loads(analyse(run).stdout)
    assert result["results"]["m_mean"]["value"] == pytest.approx(12.2)
    shipped = Path("cavrel/catalogue/experiments/pendulum.toml").read_text(encoding="utf-8")
    other = tmp_path / "other.toml"
    other.write_text(shipped.replace('default = "20"', 'default = "10"'), encoding="utf-8")
    assert json.loads(analyse(RUN, "--definition", str(other)).stdout)["quantities"]["N"]["value"] == 10


@pytest.mark.parametrize(
    ("document", "said"),
    [
        ("{", "not readable as JSON"),
        ("[]", "a run document is one JSON object"),
        ({"format": "cavrel-run/2", "experiment": "pendulum"}, "format"),
        ({"format": "cavrel-run/1"}, "experiment: is missing"),
        ({"format": "cavrel-run/1", "experiment": "levitation"}, "unknown experiment 'levitation'"),
        ({"format": "cavrel-run/1", "experiment": {"format": "cavrel-experiment/1"}}, "experiment.id: is missing"),
        ({**RUN, "series": {"swings": {"T": ["1"]}}}, "series.swings.T: is computed, so it takes no readings"),
        ({**RUN, "series": {"laps": {}}}, "series.laps: the experiment has no such series"),
        ({**RUN, "quantities": {"M": "1"}}, "quantities.M: the experiment has no such quantity"),
        ({**RUN, "rules": {"repeats": "mode"}}, "rules.repeats"),
        ({**RUN, "excluded": {"swings": {"four": "x"}}}, "names no row"),
        ({**RUN, "notes": 3}, "notes"),
        ({**RUN, "surprise": 3}, "surprise: unknown key"),
    ],
)
def test_a_bad_document_is_one_line_and_exit_2(document: object, said: str) -> None:
    done = analyse(document)
    assert done.exit_code == 2
    assert done.stdout == ""
    assert done.stderr.startswith("-: ")
    assert said in done.stderr
    assert done.stderr.count("\n") == 1


def test_a_missing_file_is_one_line() -> None:
    done = CliRunner().invoke(main, ["analyse", "/nowhere/run.json"])
    assert done.exit_code == 2
    assert done.stderr == "/nowhere/run.json: cannot be read: No such file or directory\n"


def test_check(tmp_path: Path) -> None:
    shipped = Path("cavrel/catalogue/experiments/pendulum.toml")
    good = CliRunner().invoke(main, ["check", str(shipped)])
    assert good.exit_code == 0
    assert "the law explains line" in good.stdout
    bad = tmp_path / "bad.toml"
    bad.write_text(
        shipped.read_text(encoding="utf-8")
        .replace("4*pi^2/line.slope", "line.slope/(4*pi^2)")
        .replace('unit = "m/s^2"\n', ""),
        encoding="utf-8",
    )
    refused = CliRunner().invoke(main, ["check", str(bad)])
    assert refused.exit_code == 2
    assert "results.g.formula" in refused.stderr
    assert "the law gives g = 4*pi^2/line.slope" in refused.stderr


def test_every_command_is_found_without_the_others_being_loaded() -> None:
    from cavrel.cli import course, documents, export, server  # noqa: F401  the commands that they add

    assert sorted(main.commands) == main.list_commands(Context(main))
