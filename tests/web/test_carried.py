"""A correction that one part found and another takes over: the numbers both ways against NumPy, the press that carries it, and where it is none."""

import re

import numpy as np
import pytest
from flask.testing import FlaskClient

from cavrel import catalogue
from cavrel.catalogue.programs import program_of
from cavrel.core import definition as definitions
from cavrel.core.analysis import analyse
from cavrel.core.errors import DefinitionError
from cavrel.core.findings.part_corrections import carried
from cavrel.core.logbook.run import load
from tests.web.http import entry, save, start

NEWTON = catalogue.experiments()["newton-second-law"]
HANGING = [12.0, 24.0, 36.0, 48.0, 60.0]
WHOLE, RUBS, G = 0.5, 0.045, 9.81
MASSES = [350.0, 450.0, 600.0, 800.0]


def sheet() -> dict:
    """A cart whose wheels rub by 45 mN, as both parts would read it to a hundredth."""
    pull = [(m / 1000 * G - RUBS) / WHOLE for m in HANGING]
    other = [(0.030 * G - RUBS) / (m / 1000) for m in MASSES]
    return {
        "format": "cavrel-run/1",
        "experiment": "newton-second-law",
        "quantities": {"m_hB": "30.0"},
        "series": {
            "force": {
                "m_h": [f"{m:.1f}" for m in HANGING],
                "m_c": [f"{1000 * WHOLE - m:.1f}" for m in HANGING],
                "a": [f"{a:.3f}" for a in pull],
            },
            "mass": {"m": [f"{m:.1f}" for m in MASSES], "a": [f"{a:.3f}" for a in other]},
        },
    }


def both() -> tuple:
    run = load(sheet())
    return tuple(analyse(program_of(NEWTON, options={"friction": way}), run) for way in ("left", "carried"))


def test_the_difference_is_what_numpy_makes_of_both_lines() -> None:
    without, carrying = both()
    seen = carried("F_f", without, carrying)
    forces = [float(f"{m:.1f}") / 1000 * carrying.accepted["g_local"].value for m in HANGING]
    slope, intercept = np.polyfit(forces, [float(a) for a in sheet()["series"]["force"]["a"]], 1)
    other, _ = np.polyfit([1000 / m for m in MASSES], [float(a) for a in sheet()["series"]["mass"]["a"]], 1)
    change = next(one for one in seen.changed if one.name == "F_net")
    assert seen.correction.value == pytest.approx(-intercept / slope, rel=1e-3)
    assert seen.correction.value == pytest.approx(RUBS, abs=0.002)
    assert change.by == pytest.approx(seen.correction.value, rel=1e-9)
    assert change.without.value == pytest.approx(other, rel=2e-3)
    assert seen.tells
    # One sensor's calibration acts on both parts: what they share is not counted twice.
    assert change.u == pytest.approx(seen.correction.u, rel=1e-6)
    assert abs(change.z_without) > 5 > 2 > abs(change.z_carried)


def test_one_press_carries_it_and_one_leaves_it_out(client: FlaskClient) -> None:
    run = start(client, "newton-second-law", "Wick", "Rubbing wheels")
    save(client, run, entry("option", "option:friction", choice="left"))
    assert client.get(f"/runs/{run}/result.json").json["carried"] == []
    assert 'data-act="choose"' not in client.get(f"/runs/{run}/result").text
    document = sheet()
    entries = [entry("reading", "quantities.m_hB.1", text="30.0")]
    for table, columns in document["series"].items():
        for name, texts in columns.items():
            entries += [entry("reading", f"{table}.{name}.{i}.1", text=t) for i, t in enumerate(texts, 1)]
    save(client, run, *entries)
    (seen,) = client.get(f"/runs/{run}/result.json").json["carried"]
    assert not seen["carried"]
    assert "Pull in part B, friction added" in {change["result"] for change in seen["changes"]}
    page = client.get(f"/runs/{run}/result").text
    button = re.search(r'data-act="choose" data-slot="(option:friction)" data-writes="([^"]+)">Apply<', page)
    assert button and button[2] == "&#34;carried&#34;"
    before = client.get(f"/runs/{run}/result.json").json["results"]["F_net"]["value"]
    save(client, run, entry("option", "option:friction", choice="carried"), page="result:")
    (again,) = client.get(f"/runs/{run}/result.json").json["carried"]
    assert again["carried"] and again["changes"] == seen["changes"]
    assert client.get(f"/runs/{run}/result.json").json["results"]["F_net"]["value"] > before
    assert 'data-writes="&#34;left&#34;">Do not apply<' in client.get(f"/runs/{run}/result").text


def test_a_correction_that_may_be_nothing_is_said_to_be_so(client: FlaskClient) -> None:
    without, carrying = both()
    small = carried("p", without, carrying)  # an exponent of minus one is no nothing
    assert small.tells
    document = sheet()
    for table in ("force", "mass"):
        rubbed = [float(a) for a in document["series"][table]["a"]]
        masses = [WHOLE] * 5 if table == "force" else [m / 1000 for m in MASSES]
        document["series"][table]["a"] = [f"{a + RUBS / m:.3f}" for a, m in zip(rubbed, masses, strict=True)]
    run = load(document)
    free = [analyse(program_of(NEWTON, options={"friction": way}), run) for way in ("left", "carried")]
    assert carried("F_f", *free).tells is False


def test_a_definition_carries_only_results_that_it_has() -> None:
    document = NEWTON.document()
    document["options"]["friction"]["choices"]["carried"]["carries"] = "F_b"
    with pytest.raises(
        DefinitionError, match="there is no result 'F_b' to apply; the results are m_A, mu_f, F_f"
    ) as fault:
        definitions.load(document)
    assert fault.value.place == "options.friction.choices.carried.carries"
