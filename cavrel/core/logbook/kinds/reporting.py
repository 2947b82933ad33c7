"""Entries about the report: what a bench writes of its run, in its own words or by taking a draft as they are."""

from collections.abc import Mapping

from cavrel.core.definition import Definition
from cavrel.core.logbook.entry import LONGEST_TEXT, Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind
from cavrel.core.logbook.standing import Standing

SECTIONS = {
    "aim": "Aim",
    "theory": "Theory",
    "procedure": "Procedure",
    "discussion": "Discussion",
    "errors": "Sources of error",
    "precautions": "Precautions",
    "conclusion": "Conclusion",
}
"""Parts of a report that are written, not worked out, by name."""


class ReportText(Kind):
    """A part of the report as the bench has it; empty where it goes back to the draft."""

    name = "report"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        part = slot.removeprefix("report:") if slot.startswith("report:") else ""
        answers = {f"answer.{i}" for i in range(len(definition.questions))}
        if part not in SECTIONS and part not in answers:
            raise EntryError("slot", f"'{slot[:60]}' is no part of a report")
        text = body.get("text")
        if not isinstance(text, str) or len(text) > LONGEST_TEXT:
            raise EntryError("body.text", f"must be a text of up to {LONGEST_TEXT} characters")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        if str(body.get("text", "")).strip():
            standing.report[slot.removeprefix("report:")] = str(body["text"]).strip()

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        part, _, which = place.partition(".")
        head = SECTIONS.get(part, part)
        if part == "answer" and which.isdigit() and int(which) < len(definition.questions):
            head = f"Answer: {definition.questions[int(which)].ask}"
        text = str(body.get("text", ""))
        return (
            f"Report, {head[0].lower()}{head[1:]}",
            f"“{text[:200]}{'…' if len(text) > 200 else ''}”" if text else "back to the draft",
        )
