"""Judge names slips, writes what a person takes, and remembers what a person refuses."""

import json
import re

from flask.testing import FlaskClient

from tests.web.http import entry, save, start, text

LENGTHS = ("60.0", "90.0", "120.0", "150.0", "180.0")
TIMES = (("31.08", "31.15"), ("38.03", "38.10"), ("43.93", "43.97"), ("49.15", "49.08"), ("53.82", "53.85"))


def typed(client: FlaskClient, times=TIMES, lengths=LENGTHS) -> int:
    run = start(client, "pendulum", "Wick", "A bob")
    readings = [entry("reading", f"swings.L.{i}.1", text=length) for i, length in enumerate(lengths, 1)]
    for i, trials in enumerate(times, 1):
        readings += [entry("reading", f"swings.t.{i}.{j}", text=value) for j, value in enumerate(trials, 1)]
    assert save(client, run, *readings).status_code == 200
    return run


def acts(page: str) -> dict[str, tuple[str, str]]:
    """By label, slot and what goes with it, of the first card's buttons."""
    card = page.partition('class="suspect-card"')[2].partition("</article>")[0]
    found = re.findall(r'data-act="[a-z-]+" data-slot="([^"]+)"(?: data-writes="([^"]*)")?>([^<]+)<', card)
    return {label: (slot, writes.replace("&#34;", '"')) for slot, writes, label in found}


def test_a_clean_run_has_no_card(client: FlaskClient) -> None:
    run = typed(client)
    assert "What may have gone wrong" not in text(client, f"/runs/{run}/judge")
    assert client.get(f"/runs/{run}/judge.json").json["slips"] == []


def test_a_slip_taken_is_a_correction_with_its_reason(client: FlaskClient) -> None:
    swapped = (*TIMES[:2], ("49.33", "43.97"), *TIMES[3:])
    run = typed(client, times=swapped)
    page = client.get(f"/runs/{run}/judge").text
    assert "Two digits swapped" in page or "A digit misread" in page
    slips = client.get(f"/runs/{run}/judge.json").json["slips"]
    assert slips[0]["at"] == "swings.t.3.1"
    assert 0.5 < slips[0]["probability"] <= 1
    assert slips[0]["before"] != slips[0]["after"]
    _, held = acts(page)["Set it right"]
    whole = json.loads(held)
    made = [
        entry("correction", w["slot"], text=w["text"], was=w["was"], reason=whole["reason"], over=w["over"])
        for w in whole["writes"]
    ]
    answer = save(client, run, *made, page="judge")
    assert answer.json["refused"] == {}
    assert "What may have gone wrong" not in answer.json["html"].partition('id="sheet"')[2]
    logbook = text(client, f"/runs/{run}/logbook")
    assert "instead of 49.33" in logbook
    assert "Cavrel’s suspicion" in logbook


def test_not_this_is_remembered_and_the_reading_stands(client: FlaskClient) -> None:
    run = typed(client, times=(*TIMES[:2], ("4.39", "43.97"), *TIMES[3:]))
    page = client.get(f"/runs/{run}/judge").text
    slot, _ = acts(page)["Not this"]
    first = client.get(f"/runs/{run}/judge.json").json["slips"][0]
    assert save(client, run, entry("stands", f"stands:{slot}", seen="")).json["refused"] == {}
    after = client.get(f"/runs/{run}/judge.json").json["slips"]
    assert first["say"] not in [s["say"] for s in after]
    assert "4.39" in client.get(f"/runs/{run}/measure").text


def test_a_wrong_unit_for_a_whole_column_is_set_right_in_one_press(client: FlaskClient) -> None:
    metres = tuple(f"{float(length) / 100:.3f}" for length in LENGTHS)
    run = typed(client, lengths=metres)
    page = client.get(f"/runs/{run}/judge").text
    assert "The readings are in m, not in cm" in page
    whole = json.loads(acts(page)["Set it right"][1])
    assert [w["text"] for w in whole["writes"]] == ["60.0", "90.0", "120.0", "150.0", "180.0"]
    assert [w["was"] for w in whole["writes"]] == list(metres)


def test_another_convention_is_chosen_in_one_press(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Prism", "Two wires", gap="right")
    at = {"first": 4.42, "second": 6.83, "both": 11.25, "side": 2.683}
    readings = []
    for series, unknown in at.items():
        for row, known in enumerate(("4.0", "5.0", "6.0", "7.0"), 1):
            length = 100 * unknown / (unknown + float(known))  # the unknown in the left gap
            readings.append(entry("reading", f"{series}.K.{row}.1", text=known))
            readings += [
                entry("reading", f"{series}.l.{row}.{j}", text=f"{length + d:.1f}") for j, d in ((1, 0.0), (2, 0.1))
            ]
    assert save(client, run, *readings).status_code == 200
    page = client.get(f"/runs/{run}/judge").text
    slot, choice = acts(page)["Choose it"]
    assert slot == "option:gap"
    assert json.loads(choice) == "left"
    assert save(client, run, entry("option", slot, choice="left")).json["refused"] == {}
    assert "What may have gone wrong" not in text(client, f"/runs/{run}/judge")


def test_the_distribution_of_a_result_is_drawn_when_asked_for(client: FlaskClient) -> None:
    run = typed(client)
    assert 'class="draws"' not in client.get(f"/runs/{run}/judge").text
    page = client.get(f"/runs/{run}/judge?shape=g").text
    assert page.count('class="draws"') > 20
    assert 'class="held"' in page
    seen = text(client, f"/runs/{run}/judge?shape=g")
    assert "50 000 draws" in seen
    assert "The law of propagation" in seen
    assert client.get(f"/runs/{run}/judge?shape=nothing").status_code == 200
