"""Entries about the report: what a bench writes of its run, in its own words or by taking a draft as they are."""

import re
from collections.abc import Mapping

from cavrel.core.definition import Definition
from cavrel.core.logbook.effective_state import Standing
from cavrel.core.logbook.entry import LONGEST_TEXT, Entry, EntryError
from cavrel.core.logbook.kinds.base import Body, Kind

SECTIONS = {
    "aim": "Aim",
    "theory": "Theory",
    "procedure": "Procedure",
    "discussion": "Discussion",
    "errors": "Sources of error",
    "precautions": "Precautions",
    "conclusion": "Conclusion",
}
"""Parts of a report that are written, not computed, by name."""


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


class Signed(Kind):
    """A version of the report was signed: what it held is kept apart, known by its ``digest``."""

    name, fixed = "signed", True

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        if not _SIGNED.fullmatch(slot):
            raise EntryError("slot", f"'{slot[:60]}' is no version of a report")
        if not isinstance(body.get("digest"), str) or not _DIGEST.fullmatch(body["digest"]):
            raise EntryError("body.digest", "must be a SHA-256 in hexadecimal figures")

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        return "Report", f"version {place} signed, {str(body.get('digest', ''))[:12]}"


PLACES = {
    **SECTIONS,
    "apparatus": "Apparatus",
    "readings": "Readings",
    "graphs": "Graphs",
    "results": "Results",
    "questions": "Questions",
    "whole": "The whole",
}
"""Parts of a signed report that a marker may speak of, by name."""


class Marking(Kind):
    """What a marker says of a signed version: a remark at a part, points for a criterion, or that the report is returned."""

    name = "marking"

    def check(self, definition: Definition, slot: str, body: Body) -> None:
        found = _MARKING.fullmatch(slot)
        if found is None:
            raise EntryError("slot", f"'{slot[:60]}' is no place of a signed report")
        of, which = found[2], found[3] or ""
        if of == "remark" and which in PLACES:
            text = body.get("text")
            if not isinstance(text, str) or len(text) > LONGEST_TEXT:
                raise EntryError("body.text", f"must be a text of up to {LONGEST_TEXT} characters")
        elif of == "points" and which:
            points = body.get("points")
            if points is not None and (
                isinstance(points, bool) or not isinstance(points, int | float) or not 0 <= points <= MOST_POINTS
            ):
                raise EntryError("body.points", f"must be a number from 0 to {MOST_POINTS}")
        elif of == "given" and not which:
            if not isinstance(body.get("on"), bool):
                raise EntryError("body.on", "must be true or false")
            reason = body.get("reason", "")
            if not isinstance(reason, str) or len(reason) > LONGEST_TEXT:
                raise EntryError("body.reason", f"must be a text of up to {LONGEST_TEXT} characters")
        else:
            raise EntryError("slot", f"'{slot[:60]}' is no place of a signed report")

    def apply(self, standing: Standing, slot: str, body: Body, entry: Entry) -> None:
        standing.marking[slot.removeprefix("marking:")] = body

    def words(self, definition: Definition, trials: Mapping[str, int], place: str, body: Body) -> tuple[str, str]:
        version, _, rest = place.partition(".")
        of, _, which = rest.partition(".")
        head = f"Report, version {version}"
        if of == "given":
            return head, "returned to the bench" if body.get("on") else "taken back from the bench"
        if of == "points":
            points = body.get("points")
            return head, f"points for {which}: {points:g}" if points is not None else f"no points for {which}"
        text = str(body.get("text", ""))
        return head, f"remark on {PLACES.get(which, which).lower()}" if text else "a remark taken away"


MOST_POINTS = 1000
_SIGNED = re.compile(r"signed:[1-9]\d{0,3}")
_DIGEST = re.compile(r"[0-9a-f]{64}")
_MARKING = re.compile(r"marking:([1-9]\d{0,3})\.(remark|points|given)(?:\.([a-z][a-z0-9_]{0,39}))?")
