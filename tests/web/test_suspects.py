"""Result names slips, writes what a person takes, and remembers what a person refuses."""

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


def acts(page: str) -> dict[str, tuple[str, str, str]]:
    """By label: what it does, its slot and what goes with it, of the first card's buttons."""
    card = page.partition('class="suspect-card"')[2].partition("</article>")[0]
    found = re.findall(
        r'<button type="button" data-act="([a-z-]+)" data-slot="([^"]+)"(?: data-writes="([^"]*)")?[^>]*>([^<]+)<', card
    )
    return {label: (act, slot, writes.replace("&#34;", '"')) for act, slot, writes, label in found}


def test_a_clean_run_has_no_card(client: FlaskClient) -> None:
    run = typed(client)
    assert "Possible mistakes" not in text(client, f"/runs/{run}/result")
    assert client.get(f"/runs/{run}/result.json").json["slips"] == []


def test_a_single_reading_is_read_again_or_corrected_by_a_person(client: FlaskClient) -> None:
    swapped = (*TIMES[:2], ("49.33", "43.97"), *TIMES[3:])
    run = typed(client, times=swapped)
    page = client.get(f"/runs/{run}/result").text
    assert "Possible mistakes" in page
    slips = client.get(f"/runs/{run}/result.json").json["slips"]
    assert slips[0]["at"] == "swings.t.3.1"
    assert 0.5 < slips[0]["probability"] <= 0.95
    assert slips[0]["before"] != slips[0]["after"]
    assert {c["result"] for c in slips[0]["changes"]} >= {"g"}
    assert "%)" in page and "None of these" in page
    offered = acts(page)
    assert {act for act, _, _ in offered.values()} == {"again", "misread", "stands"}
    _, slot, _ = offered["Read again"]
    assert slot == "swings.t.3.3"  # the next free trial of the row, next to the one that is suspected
    # What a person types is a correction; the page sends nothing of its own.
    _, slot, held = offered["Correct"]
    assert json.loads(held)["text"] == ""
    assert re.search(r'<input id="misread-[^"]+"[^>]*>', page) and 'value="4' not in page.partition("misread-")[2][:200]
    body = json.loads(held)
    made = entry("correction", slot, text="43.93", was=body["was"], reason="misread", over=body["over"])
    assert save(client, run, made, page="result").json["refused"] == {}
    assert "Possible mistakes" not in text(client, f"/runs/{run}/result")
    assert "instead of 49.33" in text(client, f"/runs/{run}/logbook")


def test_dismissed_is_remembered_and_the_reading_stands(client: FlaskClient) -> None:
    run = typed(client, times=(*TIMES[:2], ("4.39", "43.97"), *TIMES[3:]))
    page = client.get(f"/runs/{run}/result").text
    _, slot, _ = acts(page)["Dismiss"]
    first = client.get(f"/runs/{run}/result.json").json["slips"][0]
    assert save(client, run, entry("stands", f"stands:{slot}", seen="")).json["refused"] == {}
    after = client.get(f"/runs/{run}/result.json").json["slips"]
    assert first["say"] not in [s["say"] for s in after]
    assert "4.39" in client.get(f"/runs/{run}/measure").text


def test_a_whole_column_is_converted_in_one_press_and_taken_back_in_one(client: FlaskClient) -> None:
    metres = tuple(f"{float(length) / 100:.3f}" for length in LENGTHS)
    run = typed(client, lengths=metres)
    page = client.get(f"/runs/{run}/result").text
    assert "The readings are in m, not in cm" in page
    whole = json.loads(acts(page)["Convert all 5 readings"][2])
    assert [w["text"] for w in whole["writes"]] == ["60.0", "90.0", "120.0", "150.0", "180.0"]
    assert [w["was"] for w in whole["writes"]] == list(metres)
    made = [
        entry("correction", w["slot"], text=w["text"], was=w["was"], reason=whole["reason"], over=w["over"])
        for w in whole["writes"]
    ]
    assert save(client, run, *made, page="result").json["refused"] == {}
    measure = client.get(f"/runs/{run}/measure").text
    assert "5 readings converted" in measure
    back = re.search(r'data-act="undo-all" data-slot="([^"]+)"', measure)
    assert back is not None and len(back[1].split(" ")) == 5
    assert save(client, run, *(entry("undo", slot) for slot in back[1].split(" "))).json["refused"] == {}
    document = client.get(f"/runs/{run}/measure.json").json
    assert "0.600" in json.dumps(document)


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
    page = client.get(f"/runs/{run}/result").text
    _, slot, choice = acts(page)["Use this convention"]
    assert slot == "option:gap"
    assert json.loads(choice) == "left"
    assert save(client, run, entry("option", slot, choice="left")).json["refused"] == {}
    assert "Possible mistakes" not in text(client, f"/runs/{run}/result")


def test_the_distribution_of_a_result_is_drawn_when_asked_for(client: FlaskClient) -> None:
    run = typed(client)
    assert 'class="draws"' not in client.get(f"/runs/{run}/result").text
    page = client.get(f"/runs/{run}/result?shape=g").text
    assert page.count('class="draws"') > 20
    assert 'class="held"' in page
    seen = text(client, f"/runs/{run}/result?shape=g")
    assert "50 000 draws" in seen
    assert "The law of propagation" in seen
    assert client.get(f"/runs/{run}/result?shape=nothing").status_code == 200
