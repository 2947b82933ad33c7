"""The margin: notes set beside what they are about."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from cavrel.core.findings.finding import Finding
from cavrel.core.logbook import in_force, places
from cavrel.present.texts import clock
from cavrel.service.opened import Opened

READING_CODES = (
    "unreadable",
    "two-ways",
    "not-counted",
    "decimals-fewer",
    "decimals-more",
    "implausible",
    "stands-apart",
    "miscount",
)
_TONE = {"danger": "danger", "caution": "suspect", "note": "caution"}


@dataclass(frozen=True, slots=True)
class Act:
    """Something a note offers. ``act``: go, leave-out, take-back, stands, reason; ``slot`` and ``seen`` go with it."""

    label: str
    act: str
    slot: str
    seen: str = ""


@dataclass(frozen=True, slots=True)
class Note:
    """``tone``: danger, suspect, caution, good, own; ``at`` links it with a cell or point."""

    tone: str
    title: str
    text: str
    at: str = ""
    acts: tuple[Act, ...] = ()
    key: str = ""


def of_finding(finding: Finding) -> Note:
    """A suspicion with what can be done about it."""
    acts: list[Act] = []
    if finding.trial_out:
        series, column, row, trial = finding.trial_out
        again = "Time it again" if finding.code == "miscount" else "Read it again"
        acts = [
            Act(again, "go", f"{series}.{column}.{row}.{trial}"),
            Act("Leave out…", "leave-out", f"{series}.{column}.{row}.{trial}"),
        ]
    elif finding.row_out:
        acts = [Act("Leave out…", "leave-out", f"{finding.row_out[0]}.{finding.row_out[1]}")]
    elif finding.code in READING_CODES:
        acts = [Act("Look at it", "go", f"{finding.at}.1" if finding.at.startswith("quantities.") else finding.at)]
    if finding.seen or finding.row_out:
        acts.append(Act("It stands", "stands", f"{finding.code}@{finding.at}", finding.seen))
    return Note(
        _TONE[finding.level], finding.title, finding.say, finding.at, tuple(acts), f"{finding.code}-{finding.at}"
    )


def where(opened: Opened, slot: str) -> str:
    """A place of this run in words."""
    return places.where(opened.definition, opened.state.trials, slot)


SHOWN_BEFORE = 4
"""Texts struck out that a note repeats, the latest ones; the logbook has them all."""


def corrections(opened: Opened) -> Iterable[Note]:
    """What was corrected and why; a correction without a reason asks for one."""
    for slot, correction in opened.state.corrections.items():
        before = ", ".join(correction.texts[-SHOWN_BEFORE:])
        if len(correction.texts) > SHOWN_BEFORE:
            before = f"{before}, and {len(correction.texts) - SHOWN_BEFORE} more"
        who = f"{clock(correction.entry.made_at)}, {correction.entry.author}"
        if correction.reason:
            yield Note(
                "own",
                f"{where(opened, slot)} corrected",
                f"“{correction.reason}” {before} before. {who}",
                slot,
                (),
                f"correction-{slot}",
            )
        else:
            yield Note(
                "caution",
                f"{where(opened, slot)} corrected: why?",
                f"{before} before, {correction.text or 'empty'} now. {who}",
                slot,
                (Act("Give the reason…", "reason", slot),),
                f"correction-{slot}",
            )


def left_out(opened: Opened) -> Iterable[Note]:
    """What was left out and why, with the way back."""
    for slot, entry in opened.state.left_out.items():
        reason = in_force(entry)[1].get("reason", "")
        said = f"“{reason}” {clock(entry.made_at)}, {entry.author}"
        yield Note(
            "own", f"{where(opened, slot)} left out", said, slot, (Act("Take back", "take-back", slot),), f"out-{slot}"
        )


def clashes(opened: Opened) -> Iterable[Note]:
    """Two pages wrote over the same cell without knowing of each other."""
    for slot, lost in opened.state.clashes.items():
        text = f"{lost} was written here too, from another page, and this page did not show it yet. Both are in the logbook."
        yield Note(
            "suspect",
            f"{where(opened, slot)} was written twice",
            text,
            slot,
            (Act("Look at it", "go", slot),),
            f"clash-{slot}",
        )


def notes_of_bench(opened: Opened) -> Iterable[Note]:
    """The bench's own notes, newest first."""
    for entry in reversed(opened.state.notes):
        yield Note(
            "own",
            f"{entry.author} writes",
            f"“{in_force(entry)[1].get('text', '')}” {clock(entry.made_at)}",
            key=f"note-{entry.id}",
        )


def answered(opened: Opened) -> Iterable[Note]:
    """Suspicions that a person let stand."""
    for finding in opened.answered:
        yield Note(
            "own", f"{finding.title}: let stand", finding.say, finding.at, key=f"stands-{finding.code}-{finding.at}"
        )


def cautions(opened: Opened) -> Iterable[Note]:
    """What can hurt someone stands beside the table all the while."""
    for i, caution in enumerate(opened.definition.cautions):
        yield Note("caution", "Take care", caution.say, key=f"care-{i}")


_ORDER = {"danger": 0, "caution": 1, "note": 2}


def findings(opened: Opened, but: Collection[str] = (), least: str = "note") -> list[Finding]:
    """What nobody has answered, the gravest first; without the codes ``but``, and nothing below the level ``least``."""
    found = [f for f in opened.findings if f.code not in but and _ORDER[f.level] <= _ORDER[least]]
    return sorted(found, key=lambda f: _ORDER[f.level])


def measure_notes(opened: Opened) -> list[Note]:
    """Beside the table: what can hurt someone, then suspicions about readings, rules, fits and results, then decisions and remarks."""
    about_fits = ("no-fit", "few-points", "foreseen", "not-foreseen", "too-good", "no-extremes", "runs")
    return [
        *cautions(opened),
        *clashes(opened),
        *map(of_finding, findings(opened, about_fits)),
        *left_out(opened),
        *corrections(opened),
        *notes_of_bench(opened),
        *answered(opened),
    ]
