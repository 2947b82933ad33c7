"""Reports signed, compared, marked, returned, printed; forms of a course's own."""

import ctypes
import io
import re
from typing import Any
from uuid import uuid4

import pypdfium2
import pypdfium2.raw as raw
import pytest
from flask.testing import FlaskClient

from cavrel.store import reports
from cavrel.store.pool import Pool, transaction
from cavrel.web import assets, pdf
from tests.thorough import THOROUGH
from tests.web.http import entry, save, start, text, token
from tests.web.test_suspects import TIMES, typed


def sign(client: FlaskClient, run: int, author: str = "Bench Wick", key: str = "", last: str = "") -> Any:
    page = client.get(f"/runs/{run}/report").text
    seen = re.search(r'id="sign-last"[^>]*value="(\d+)"', page)
    assert seen
    data = {"csrf_token": token(client), "key": key or str(uuid4()), "last": last or seen[1], "author": author}
    answer = client.post(f"/runs/{run}/report/sign", data=data)
    knowing = re.search(r'name="knowing" value="(\w+)"', answer.text)
    if knowing is None:
        return answer
    return client.post(f"/runs/{run}/report/sign", data={**data, "knowing": knowing[1]})


def signed(client: FlaskClient, run: int, author: str = "Ines") -> int:
    answer = sign(client, run, author)
    assert answer.status_code == 303, answer.text
    return int(answer.headers["Location"].rpartition("/")[2])


def keep(client: FlaskClient, part: str, **fields: str) -> Any:
    return client.post(f"/laboratory/{part}", data={"csrf_token": token(client), "key": str(uuid4()), **fields})


def test_a_signature_keeps_text_and_numbers(client: FlaskClient, pool: Pool) -> None:
    run = typed(client)
    save(client, run, entry("report", "report:aim", text="To weigh the earth, nearly."))
    assert signed(client, run) == 1
    save(client, run, entry("report", "report:aim", text="Something else entirely."))
    save(client, run, entry("reading", "swings.t.1.1", text="25.92", reason=""))
    first = text(client, f"/runs/{run}/report/1")
    assert "To weigh the earth, nearly." in first
    assert "Something else entirely." not in first
    assert "submitted by Ines" in first
    kept = client.get(f"/runs/{run}/report/1.json").json
    with transaction(pool) as connection:
        body = reports.body(connection, run, 1)
    assert kept["digest"] == reports.digest_of(body)
    assert body["definition"]
    assert body["rules"]["fit_uncertainty"] == "larger"
    assert "version 1 signed" in text(client, f"/runs/{run}/logbook")


def test_what_was_not_seen_is_not_signed(client: FlaskClient) -> None:
    run = typed(client)
    page = client.get(f"/runs/{run}/report").text
    seen = re.search(r'id="sign-last"[^>]*value="(\d+)"', page)
    assert seen
    save(client, run, entry("report", "report:aim", text="Written by another hand."))
    answer = sign(client, run, last=seen[1])
    assert answer.status_code == 409
    assert "Look at it as it stands now" in answer.text
    assert client.get(f"/runs/{run}/report/1").status_code == 404


def test_a_report_without_a_name_is_not_signed(client: FlaskClient) -> None:
    """The bench's name in grey is a suggestion, no signature."""
    run = typed(client)
    answer = sign(client, run, author=" ")
    assert answer.status_code == 422
    assert "Write who submits the report" in answer.text
    assert client.get(f"/runs/{run}/report/1").status_code == 404


def test_what_is_left_to_do_is_listed_once_before_a_report_is_signed(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("report", "report:conclusion", text="g is 9.81."))
    page = client.get(f"/runs/{run}/report").text
    seen = re.search(r'id="sign-last"[^>]*value="(\d+)"', page)
    assert seen
    data = {"csrf_token": token(client), "key": str(uuid4()), "last": seen[1], "author": "Ines"}
    asked = client.post(f"/runs/{run}/report/sign", data=data)
    assert asked.status_code == 200
    said = asked.text.partition('id="left-to-do"')[2].partition("</div>")[0]
    assert "Drafts to review: Aim; Theory" in said
    assert "Not written yet: answer 1" in said
    assert "Conclusion" not in said
    assert 'value="Ines"' in asked.text
    knowing = re.search(r'name="knowing" value="(\w+)"', asked.text)
    assert knowing
    # What is left changes meanwhile: it is asked once more, and nothing is signed.
    save(client, run, entry("report", "report:answer.0", text="Because."))
    newer = re.search(r'id="sign-last"[^>]*value="(\d+)"', client.get(f"/runs/{run}/report").text)
    assert newer
    again = client.post(f"/runs/{run}/report/sign", data={**data, "last": newer[1], "knowing": knowing[1]})
    assert "Not written yet: answer 2" in again.text
    knowing = re.search(r'name="knowing" value="(\w+)"', again.text)
    assert knowing
    done = client.post(f"/runs/{run}/report/sign", data={**data, "last": newer[1], "knowing": knowing[1]})
    assert done.status_code == 303


def test_what_simulated_apparatus_hid_is_shown_once_the_report_is_handed_in(client: FlaskClient) -> None:
    run = start(client, "metre-bridge", "Wick", "On the screen")
    client.post(f"/runs/{run}/bench", data={"csrf_token": token(client)})
    for i, known in enumerate(["3", "4", "5"], 1):
        save(client, run, entry("reading", f"first.K.{i}.1", text=known))
        client.get(f"/runs/{run}/bench.json?slot=first.l.{i}.1")
        save(client, run, entry("reading", f"first.l.{i}.1", text=f"{100 * float(known) / (float(known) + 4.4):.1f}"))
    assert "True values" not in text(client, f"/runs/{run}/report")
    version = signed(client, run)
    said = text(client, f"/runs/{run}/report/{version}")
    assert "True values of the simulated apparatus" in said
    true = client.get(f"/runs/{run}/instructor.json").json["truths"][0]["true"]
    assert re.search(rf"First resistor\s*{re.escape(true)}", said.partition("True values")[2])
    measured = typed(client)
    assert "True values" not in text(client, f"/runs/{measured}/report/{signed(client, measured)}")


def test_points_stay_within_the_rubric_and_changed_marks_are_a_version_with_a_reason(client: FlaskClient) -> None:
    run = typed(client)
    keep(client, "rubric", name="graph", label="Graph", points="4", words="Axes, units")
    assert signed(client, run) == 1
    place = "marking:1.points.graph"
    refused = save(client, run, entry("marking", place, points=9)).json["refused"]
    assert "at most 4 for graph" in str(refused)
    refused = save(client, run, entry("marking", "marking:1.points.nothing", points=1)).json["refused"]
    assert "no criterion" in str(refused)
    assert save(client, run, entry("marking", place, points=3)).json["refused"] == {}
    assert "3 of 4" not in text(client, f"/runs/{run}/report/1")
    assert save(client, run, entry("marking", "marking:1.given", on=True)).json["refused"] == {}
    assert "3 of 4" in text(client, f"/runs/{run}/report/1")
    # Changed after it was returned: the bench keeps what it was given, the marker sees that they differ.
    assert save(client, run, entry("marking", place, points=2)).json["refused"] == {}
    assert "3 of 4" in text(client, f"/runs/{run}/report/1")
    assert "Changed since the marks were returned: Graph" in text(client, f"/runs/{run}/report/1/mark")
    assert (
        save(client, run, entry("marking", "marking:1.given", on=True, reason="a curve counted twice")).json["refused"]
        == {}
    )
    seen = text(client, f"/runs/{run}/report/1")
    assert "2 of 4" in seen and "Version 2 of the marks" in seen and "a curve counted twice" in seen
    assert save(client, run, entry("marking", "marking:1.given", on=False)).json["refused"] == {}
    assert "2 of 4" not in text(client, f"/runs/{run}/report/1")


def test_open_remarks_stand_beside_the_report_and_its_marking(client: FlaskClient) -> None:
    run = typed(client, times=(*TIMES[:2], ("49.33", "43.97"), *TIMES[3:]))
    assert "Possible mistake" in text(client, f"/runs/{run}/report")
    assert "Open remarks" in text(client, f"/runs/{run}/report")
    assert signed(client, run) == 1
    assert "Possible mistake" in text(client, f"/runs/{run}/report/1/mark")
    assert "Open when submitted" in text(client, f"/runs/{run}/report/1")


def test_the_same_form_twice_is_one_version(client: FlaskClient) -> None:
    run = typed(client)
    key = str(uuid4())
    assert sign(client, run, key=key).headers["Location"] == sign(client, run, key=key).headers["Location"]
    assert client.get(f"/runs/{run}/report/2").status_code == 404


def test_two_versions_are_compared(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("report", "report:aim", text="We seek g by a bob."))
    signed(client, run)
    save(client, run, entry("report", "report:aim", text="We seek g by a heavy bob."))
    save(client, run, entry("reading", "swings.t.2.1", text="30.00"))
    save(client, run, entry("leave-out", "out:swings.4", reason="a gust"))
    assert signed(client, run) == 2
    page = client.get(f"/runs/{run}/report/compare?a=1&b=2").text
    assert "<ins>heavy " in page
    assert "<ins>30.00</ins>" in page
    assert "left out: a gust" in page
    assert "No difference" in text(client, f"/runs/{run}/report/compare?a=2&b=2")
    now = client.get(f"/runs/{run}/report/compare?a=2").text
    assert "as it is now" in now
    assert client.get(f"/runs/{run}/report/compare?a=77&b=x").status_code == 200


def test_marks_are_kept_and_seen_once_given_back(client: FlaskClient) -> None:
    run = typed(client)
    signed(client, run)
    save(client, run, entry("marking", "marking:1.points.graph", points=3.5), page="marking:1")
    save(client, run, entry("marking", "marking:1.points.table", points=4), page="marking:1")
    answer = save(
        client, run, entry("marking", "marking:1.remark.graphs", text="Where are the units?"), page="marking:1"
    )
    assert "7.5 of 24" in answer.json["html"]
    assert "Where are the units?" not in client.get(f"/runs/{run}/report/1").text
    save(client, run, entry("marking", "marking:1.given", on=True), page="marking:1")
    seen = text(client, f"/runs/{run}/report/1")
    assert "Where are the units?" in seen
    assert "7.5 of 24" in seen
    assert "returned: 7.5 of 24" in text(client, f"/runs/{run}/report")
    marks = client.get(f"/runs/{run}/report/1/mark.json").json
    assert marks["given"] is True
    assert {p["name"]: p["value"] for p in marks["points"]}["graph"] == "3.5"
    # Taken back, and a remark undone.
    save(client, run, entry("marking", "marking:1.given", on=False), entry("undo", "marking:1.remark.graphs"))
    assert "Where are the units?" not in client.get(f"/runs/{run}/report/1").text
    assert client.get(f"/runs/{run}/report/1/mark.json").json["remarks"][0]["text"] == ""


@pytest.mark.parametrize(
    ("slot", "body"),
    [
        ("marking:0.given", {"on": True}),
        ("marking:1.points.graph", {"points": -1}),
        ("marking:1.points.graph", {"points": True}),
        ("marking:1.points.graph", {"points": "4"}),
        ("marking:1.remark.moon", {"text": "no such part"}),
        ("marking:1.remark.aim", {"text": 4}),
        ("marking:1.given", {"on": "yes"}),
        ("signed:1", {"digest": "abc"}),
    ],
)
def test_what_no_marker_would_send_is_refused(client: FlaskClient, slot: str, body: dict[str, Any]) -> None:
    answer = save(client, 1, entry(slot.partition(":")[0], slot, **body))
    assert len(answer.json["refused"]) == 1


def test_the_rubric_is_the_courses_own(client: FlaskClient) -> None:
    run = typed(client)
    signed(client, run)
    save(client, run, entry("marking", "marking:1.points.graph", points=3))
    lines = "10 Graph: axes, scales, points, line\n5,5 Neatness\n"
    assert keep(client, "rubric", rubric=lines).status_code == 303
    marks = client.get(f"/runs/{run}/report/1/mark.json").json
    assert [(p["label"], p["of"], p["value"]) for p in marks["points"]] == [
        ("Graph: axes, scales, points, line", "10", "3"),
        ("Neatness", "5.5", ""),
    ]
    assert "the rubric: " in text(client, "/laboratory")
    refused = keep(client, "rubric", rubric="4 Good\nfour Bad")
    assert refused.status_code == 422
    assert "line 2" in refused.text
    assert "four Bad" in refused.text  # what was typed stands there still


def test_a_form_of_ones_own(client: FlaskClient) -> None:
    body = '{% import "report/macros.html" as m %}<p id="own">Hall says: {{ c.title }}</p>{{ m.written(c.parts.aim, live) }}'
    assert keep(client, "forms", title="Hall of Tallow", body=body).status_code == 303
    run = typed(client)
    shown = client.get(f"/runs/{run}/report?form=hall-of-tallow").text
    assert "Hall says:" in shown
    assert 'data-slot="report:aim"' in shown
    signed(client, run)
    assert "Hall says:" in client.get(f"/runs/{run}/report/1?form=hall-of-tallow").text
    assert b"%PDF" in client.get(f"/runs/{run}/report.pdf?form=hall-of-tallow").data[:8]
    assert keep(client, "forms", name="hall-of-tallow", drop="yes").status_code == 303
    assert "Hall says:" not in client.get(f"/runs/{run}/report?form=hall-of-tallow").text


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ("line one\n{% if %}", "line 2"),
        ("{{ c.nothing.here }}", "no attribute"),
        ("{{ ''.__class__.__mro__ }}", "line 1"),
        ("{% for i in range(9) %}{% endfor %}", "range"),
        ("{{ 'a' * 100000000 }}", "only numbers"),
        ("{{ 10 ** 100000 }}", "only numbers"),
        ("{% include 'base.html' %}", ""),
        ("{% include '../../../etc/passwd' %}", ""),
        ("{{ c.tables[0].rows[99] }}{{ 1/0 }}", ""),
    ],
)
def test_a_form_that_cannot_be_used_is_refused_with_its_line(client: FlaskClient, body: str, says: str) -> None:
    answer = keep(client, "forms", title="Bad", body=body)
    assert answer.status_code == 422
    assert says in answer.text


@pytest.mark.parametrize(
    ("run", "paper", "width"),
    [
        (1, "a4", 595),
        (6, "letter", 612),
        *[(1, "letter", 612), (4, "a4", 595), (9, "a4", 595), (12, "letter", 612)] * THOROUGH,
    ],
)
def test_a_report_on_paper(client: FlaskClient, run: int, paper: str, width: int) -> None:
    page = client.get(f"/runs/{run}/report").text
    title = re.search(r"<h1>([^<]+)</h1>", page)
    assert title
    answer = client.get(f"/runs/{run}/report.pdf?paper={paper}")
    assert answer.status_code == 200
    assert answer.mimetype == "application/pdf"
    document = pypdfium2.PdfDocument(io.BytesIO(answer.data))
    assert round(document[0].get_size()[0]) == width
    assert document.get_metadata_dict()["Title"] == title[1].replace("&#39;", "'")
    said = " ".join(document[i].get_textpage().get_text_range() for i in range(len(document)))
    for part in ("Aim", "Readings", "Results", "Conclusion"):
        assert part in said
    assert raw.FPDFCatalog_IsTagged(document)
    found = fonts(document)
    assert found
    assert all(embedded for _, embedded in found)
    # None but those that ship, whatever this machine has.
    assert {name.rpartition("+")[2].partition("-")[0] for name, _ in found} <= {"Hyperlegible", "STIX"}, found


def fonts(document: pypdfium2.PdfDocument) -> set[tuple[str, bool]]:
    """Name of every font that letters are set in, and whether it stands in the file."""
    found = set()
    for page in document:
        for letters in page.get_objects(filter=[raw.FPDF_PAGEOBJ_TEXT], max_depth=12):
            font = raw.FPDFTextObj_GetFont(letters)
            name = ctypes.create_string_buffer(200)
            raw.FPDFFont_GetBaseFontName(font, name, 200)
            found.add((name.value.decode(), bool(raw.FPDFFont_GetIsEmbedded(font))))
    return found


def test_the_same_text_stands_on_paper_and_screen(client: FlaskClient) -> None:
    run = typed(client)
    save(client, run, entry("report", "report:conclusion", text="Within what we could know, g is g & nothing <else>."))
    document = pypdfium2.PdfDocument(io.BytesIO(client.get(f"/runs/{run}/report.pdf").data))
    said = " ".join(document[i].get_textpage().get_text_range() for i in range(len(document)))
    assert "g is g & nothing <else>." in " ".join(said.split())
    shown = text(client, f"/runs/{run}/report")
    value = re.search(r"\d\.\d+ ± \d\.\d+", shown)
    assert value
    assert value[0] in " ".join(said.split())


def test_the_one_page_form_is_shorter(client: FlaskClient) -> None:
    pages = {
        form: len(pypdfium2.PdfDocument(io.BytesIO(client.get(f"/runs/1/report.pdf?form={form}").data)))
        for form in ("full", "one-page", "exam")
    }
    assert pages["one-page"] < pages["full"]


def test_the_examination_s_table_has_its_uncertainty_on_every_entry(client: FlaskClient) -> None:
    exam = client.get("/runs/1/report?form=exam").text
    first = re.search(r'<th scope="row" class="digits">1</th><td class="digits">([^<]+)</td>', exam)
    assert first
    assert "±" in first[1]
    full = re.search(
        r'<th scope="row" class="digits">1</th><td class="digits">([^<]+)</td>', client.get("/runs/1/report").text
    )
    assert full
    assert full[1] == "75.0"


def test_minutes_of_arc_have_a_letter_of_their_own_on_paper(client: FlaskClient) -> None:
    document = pypdfium2.PdfDocument(io.BytesIO(client.get("/runs/12/report.pdf").data))
    said = " ".join(document[i].get_textpage().get_text_range() for i in range(len(document)))
    assert re.search(r"\d+°\s?\d\d\s?′", said)
    assert ("STIX-Math") in {name.rpartition("+")[2] for name, _ in fonts(document)}


def test_fonts_are_unpacked_once() -> None:
    fonts = sorted(assets.STATIC.rglob("*.woff2"))
    assert fonts
    plain = pdf._unpacked(fonts[0])
    assert plain[:4] in (b"\0\1\0\0", b"OTTO")
    assert pdf._unpacked(fonts[0]) is plain
