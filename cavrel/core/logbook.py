"""The logbook: every entry ever made, and the sheet that follows from the latest entry of each slot.

Slots: ``swings.t.4.2`` a reading, ``quantities.N.1`` a quantity's, ``out:swings.4`` and ``out:swings.t.4.2`` what is left out,
``rows:swings`` and ``trials:swings.t`` how many are ruled, ``option:landing`` a convention chosen,
``trace:force.a.3`` the samples of a row and ``stretch:force.a.3`` the part of
them that counts, ``stands:CODE@AT`` a suspicion answered, ``note:KEY``, ``timer:KEY``,
``run:title``, ``run:bench`` and ``run:away`` what the run is called, whose it is, and whether the list of runs shows it.
"""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from pydantic import ValidationError

from cavrel.core.definition import Definition, choose, first_fault
from cavrel.core.errors import CavrelError
from cavrel.core.run import RunDocument, TraceDocument
from cavrel.core.run import trials as trials_of

KINDS = (
    "reading",
    "correction",
    "leave-out",
    "take-back",
    "rows",
    "trials",
    "option",
    "trace",
    "stretch",
    "stands",
    "note",
    "timer",
    "undo",
    "run",
)
LONGEST = {"reading": 200, "correction": 200, "leave-out": 1000, "note": 4000}
"""Characters of an entry's texts; what is longer is refused when it is sent, and a run document takes what is kept."""
LONGEST_TEXT = 4000
MOST_NOTES = 2000
MOST_ROWS, MOST_TRIALS = 200, 30

_NAME = r"[A-Za-z][A-Za-z0-9_]{0,23}"
_READING = re.compile(rf"(?!quantities\.)({_NAME})\.({_NAME})\.([1-9]\d{{0,2}})\.([1-9]\d?)")
_QUANTITY = re.compile(rf"quantities\.({_NAME})\.([1-9]\d?)")
_OUT = re.compile(rf"out:({_NAME})\.(?:({_NAME})\.)?([1-9]\d{{0,2}})(?:\.([1-9]\d?))?")
_SIZE = re.compile(rf"(rows|trials):({_NAME})(?:\.({_NAME}))?")
_STANDS = re.compile(r"stands:[a-z0-9-]{1,40}@[A-Za-z0-9_.:-]{1,90}")
_TRACED = re.compile(rf"(?:trace|stretch):({_NAME})\.({_NAME})\.([1-9]\d{{0,2}})")
_OPTION = re.compile(rf"option:({_NAME})")
_FREE = re.compile(r"(note|timer):[0-9a-f-]{8,36}")


class EntryError(CavrelError):
    """An entry that no page of Cavrel would send."""


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the logbook. ``made_at``: when it was written, by the page's clock; ``saved_at``: when the database had it."""

    id: int
    kind: str
    slot: str
    body: Mapping[str, Any]
    author: str
    made_at: datetime
    saved_at: datetime


@dataclass(frozen=True, slots=True)
class Correction:
    """A reading that replaced another: the ``texts`` before it, oldest first, and the reason, empty while none is given."""

    slot: str
    texts: tuple[str, ...]
    text: str
    reason: str
    entry: Entry


@dataclass(frozen=True, slots=True)
class SheetState:
    """What the logbook amounts to now.

    ``run``: the run document; ``definition``: the experiment under the conventions
    chosen; ``latest``: slot -> its latest entry; ``corrections``: slot -> correction; ``left_out``: slot without
    ``out:`` -> entry; ``stands``: answered suspicions, ``CODE@AT`` -> the texts they were answered for; ``rows`` and ``trials``: how many
    are ruled; ``clashes``: slots where two pages wrote over the same reading, with the text that lost; ``notes`` in time.
    """

    run: RunDocument
    definition: Definition
    latest: Mapping[str, Entry]
    corrections: Mapping[str, Correction]
    left_out: Mapping[str, Entry]
    stands: Mapping[str, str]
    rows: Mapping[str, int]
    trials: Mapping[str, int]
    clashes: Mapping[str, str]
    notes: tuple[Entry, ...]
    count: int


def check_entry(definition: Definition, kind: str, slot: str, body: Mapping[str, Any]) -> None:
    """Raises EntryError where an entry does not fit its experiment; says what is wrong with it."""
    if kind not in KINDS:
        raise EntryError("kind", f"unknown kind '{kind[:20]}'")
    if not isinstance(body, Mapping):
        raise EntryError("body", "must be an object")
    for key, value in body.items():
        most = LONGEST.get(kind, LONGEST_TEXT) if key in ("text", "reason") else LONGEST_TEXT
        most = max(most, 1000) if key == "reason" else most
        if isinstance(value, str) and len(value) > most:
            raise EntryError(f"body.{key}", f"may have {most} characters, and this has {len(value)}")
    allowed = {
        "reading": _reading_slot,
        "correction": _reading_slot,
        "leave-out": _out_slot,
        "take-back": _out_slot,
        "rows": _size_slot,
        "trials": _size_slot,
        "option": _option_slot,
        "trace": _traced_slot,
        "stretch": _traced_slot,
    }
    if kind in allowed:
        allowed[kind](definition, slot)
    elif (kind == "stands" and not _STANDS.fullmatch(slot)) or (
        kind in ("note", "timer") and not _FREE.fullmatch(slot)
    ):
        raise EntryError("slot", f"'{slot[:60]}' is no slot for a {kind}")
    if kind in ("reading", "correction") and not isinstance(body.get("text"), str):
        raise EntryError("body.text", "a reading has a text")
    most = MOST_ROWS if kind == "rows" else MOST_TRIALS
    if kind in ("rows", "trials") and not (type(body.get("count")) is int and 1 <= body["count"] <= most):
        raise EntryError("body.count", f"must be a whole number up to {most}")
    if kind in ("trace", "stretch"):
        _traced(kind, body)
    if kind == "option":
        _choice(definition, slot, body)
    if kind == "leave-out" and not str(body.get("reason", "")).strip():
        raise EntryError("body.reason", "leaving something out needs a reason")
    if kind == "timer":
        _timed(body)
    if kind == "run":
        _renamed(slot, body)
    if kind == "note" and not str(body.get("text", "")).strip():
        raise EntryError("body.text", "an empty note says nothing")


def _reading_slot(definition: Definition, slot: str) -> None:
    quantity = _QUANTITY.fullmatch(slot)
    if quantity and quantity[1] in definition.quantities and definition.quantities[quantity[1]].formula is None:
        return
    place = _READING.fullmatch(slot)
    if not place or place[1] not in definition.series or place[2] not in definition.series[place[1]].columns:
        raise EntryError("slot", f"the experiment has no place '{slot[:60]}' to read")
    if definition.series[place[1]].columns[place[2]].role == "derived":
        raise EntryError("slot", f"'{place[1]}.{place[2]}' is computed and takes no readings")
    if int(place[3]) > MOST_ROWS or int(place[4]) > MOST_TRIALS:
        raise EntryError("slot", f"a table has {MOST_ROWS} rows and {MOST_TRIALS} trials at most")


def _out_slot(definition: Definition, slot: str) -> None:
    place = _OUT.fullmatch(slot)
    good = place and place[1] in definition.series and bool(place[2]) == bool(place[4])
    if not good or (place and place[2] and place[2] not in definition.series[place[1]].columns):
        raise EntryError("slot", f"'{slot[:60]}' names no row or trial of this experiment")


def _size_slot(definition: Definition, slot: str) -> None:
    place = _SIZE.fullmatch(slot)
    good = place and place[2] in definition.series and (place[1] == "trials") == bool(place[3])
    if not good or (place and place[3] and place[3] not in definition.series[place[2]].columns):
        raise EntryError("slot", f"'{slot[:60]}' names no table of this experiment")


def _traced_slot(definition: Definition, slot: str) -> None:
    place = _TRACED.fullmatch(slot)
    series = definition.series.get(place[1]) if place else None
    column = series.columns.get(place[2]) if place and series else None
    if column is None or column.extract is None:
        raise EntryError("slot", f"'{slot[:60]}' names no row that takes samples")


def _traced(kind: str, body: Mapping[str, Any]) -> None:
    """A trace's body is its samples, or empty where they are taken away; a stretch's its two ends, in seconds."""
    if kind == "stretch":
        begin, end = body.get("begin"), body.get("end")
        if not all(v is None or (isinstance(v, int | float) and abs(v) < 1e12) for v in (begin, end)):
            raise EntryError("body", "a stretch begins and ends at times in seconds")
        if begin is not None and end is not None and not begin < end:
            raise EntryError("body", "a stretch ends after it begins")
        return
    try:
        if body:
            TraceDocument.model_validate(dict(body))
    except ValidationError as fault:
        raise EntryError("body", str(first_fault(fault)[1])) from fault


def _renamed(slot: str, body: Mapping[str, Any]) -> None:
    value = body.get("value")
    good = {
        "run:title": isinstance(value, str) and 1 <= len(value.strip()) <= 120,
        "run:bench": isinstance(value, str) and 1 <= len(value) <= 40,
        "run:away": isinstance(value, bool),
    }
    if not good.get(slot, False):
        raise EntryError("body.value", "a run has a title of up to 120 characters, a bench, and is put away or not")


def _timed(body: Mapping[str, Any]) -> None:
    laps = body.get("laps", [])
    if not isinstance(laps, list) or len(laps) > 2000:
        raise EntryError("body.laps", "must be a list of at most 2000 times")
    if not all(isinstance(lap, int | float) and not isinstance(lap, bool) and abs(lap) < 1e9 for lap in laps):
        raise EntryError("body.laps", "holds what is no time in seconds")


def _option_slot(definition: Definition, slot: str) -> None:
    place = _OPTION.fullmatch(slot)
    if not place or place[1] not in definition.options:
        raise EntryError("slot", f"'{slot[:60]}' names no convention of this experiment")


def _choice(definition: Definition, slot: str, body: Mapping[str, Any]) -> None:
    choices = definition.options[slot.removeprefix("option:")].choices
    if body.get("choice") not in choices:
        raise EntryError("body.choice", f"is none of {', '.join(choices)}")


def assemble(
    definition: Definition,
    entries: Iterable[Entry],
    rules: Mapping[str, Any] | None = None,
    instruments: Mapping[str, Any] | None = None,
) -> SheetState:
    """The sheet that ``entries``, in the order they were saved, amount to. ``rules`` and ``instruments`` go into the run document.

    Readings of a place that the conventions chosen do not have stay in the logbook and come back with their convention.
    """
    latest: dict[str, Entry] = {}
    history: dict[str, list[Entry]] = {}
    notes: list[Entry] = []
    count = 0
    for entry in entries:
        count += 1
        history.setdefault(entry.slot, []).append(entry)
        latest[entry.slot] = entry
        if entry.kind == "note":
            notes.append(entry)
    readings: dict[str, str] = {}
    corrections: dict[str, Correction] = {}
    left_out: dict[str, Entry] = {}
    stands: dict[str, str] = {}
    sizes: dict[str, int] = {}
    clashes: dict[str, str] = {}
    options: dict[str, str] = {}
    traces: dict[str, Mapping[str, Any]] = {}
    stretches: dict[str, Mapping[str, Any]] = {}
    for slot, entry in latest.items():
        kind, body = in_force(entry)
        if kind in ("reading", "correction"):
            readings[slot] = str(body.get("text", ""))[: LONGEST["reading"]]
            earlier = _earlier(history[slot], readings[slot])
            if earlier:
                corrections[slot] = Correction(slot, earlier, readings[slot], str(body.get("reason", "")), entry)
            lost = _clash(history[slot])
            if lost is not None:
                clashes[slot] = lost
        elif kind == "leave-out":
            left_out[slot.removeprefix("out:")] = entry
        elif kind == "stands":
            stands[slot.removeprefix("stands:")] = str(body.get("seen", ""))
        elif kind in ("rows", "trials"):
            sizes[slot] = int(body["count"])
        elif kind == "trace" and body:
            traces[slot.removeprefix("trace:")] = body
        elif kind == "stretch":
            stretches[slot.removeprefix("stretch:")] = body
        elif kind == "option" and body.get("choice"):
            options[slot.removeprefix("option:")] = str(body["choice"])
    options = {name: c for name, c in options.items() if c != definition.options[name].default}
    definition = choose(definition, options)
    readings = {slot: text for slot, text in readings.items() if _read_here(definition, slot)}
    rows, trials = _sizes(definition, readings, sizes)
    for slot in traces:
        series, _, row = slot.split(".")
        if series in rows:
            rows[series] = max(rows[series], int(row))
    run = RunDocument.model_validate(
        {
            "format": "cavrel-run/1",
            "experiment": definition.id,
            "options": options,
            "rules": dict(rules or {}),
            "instruments": dict(instruments or {}),
            "quantities": _quantities(definition, readings),
            "series": _series(definition, readings),
            "traces": _traces(definition, traces, stretches),
            "excluded": _excluded(
                {slot: e for slot, e in left_out.items() if slot.partition(".")[0] in definition.series}
            ),
            "notes": [str(in_force(note)[1].get("text", ""))[:LONGEST_TEXT] for note in notes[-MOST_NOTES:]],
        }
    )
    return SheetState(
        run, definition, latest, corrections, left_out, stands, rows, trials, clashes, tuple(notes), count
    )


def _read_here(definition: Definition, slot: str) -> bool:
    """Whether the experiment, under its conventions, has this place to read."""
    try:
        _reading_slot(definition, slot)
    except EntryError:
        return False
    return True


def slots_of(run: RunDocument) -> list[tuple[str, str]]:
    """(slot, text) of every reading in a run document, row by row."""
    found = []
    for name, cell in run.quantities.items():
        found += [(f"quantities.{name}.{i}", text) for i, text in enumerate(trials_of(cell), 1) if text.strip()]
    for series, columns in run.series.items():
        for row in range(max((len(cells) for cells in columns.values()), default=0)):
            for column, cells in columns.items():
                texts = trials_of(cells[row]) if row < len(cells) else []
                found += [(f"{series}.{column}.{row + 1}.{i}", text) for i, text in enumerate(texts, 1) if text.strip()]
    return found


def in_force(entry: Entry) -> tuple[str | None, Mapping[str, Any]]:
    """Kind and body that an entry puts in force: its own, or, for an undo, those it brings back (None for an empty slot)."""
    if entry.kind != "undo":
        return entry.kind, entry.body
    return entry.body.get("kind"), entry.body.get("body") or {}


def undo_of(history: Iterable[Entry]) -> dict[str, Any]:
    """The body of an undo entry that takes back the last of ``history``, the entries of one slot in order.

    Undoing an undo brings back what it took away.
    """
    line = list(history)
    last = line[-1]
    before = line[-2] if len(line) > 1 else None
    kind, body = in_force(before) if before else (None, {})
    return {"undoes": last.id, "kind": kind, "body": dict(body)}


def _earlier(history: list[Entry], now: str) -> tuple[str, ...]:
    """Texts that stood in a slot before ``now``, without those that an undo took back."""
    gone = {entry.body.get("undoes") for entry in history if entry.kind == "undo"}
    texts: list[str] = []
    for entry in history:
        kind, body = in_force(entry)
        text = str(body.get("text", "")) if kind in ("reading", "correction") else ""
        if entry.kind == "undo" or entry.id in gone or not text.strip():
            continue
        if not texts or texts[-1] != text:
            texts.append(text)
    if texts and texts[-1] == now:
        texts.pop()
    return tuple(texts)


def _clash(history: list[Entry]) -> str | None:
    """The text that the latest entry wrote over without having seen it, or None. ``over`` is the entry its page knew of."""
    if len(history) < 2:
        return None
    last, before = history[-1], history[-2]
    known = last.body.get("over")
    if last.kind == "undo" or "over" not in last.body or known == before.id:
        return None
    kind, body = in_force(before)
    lost = str(body.get("text", "")) if kind in ("reading", "correction") else ""
    return lost if lost and lost != last.body.get("text") else None


def _sizes(
    definition: Definition, readings: Mapping[str, str], sizes: Mapping[str, int]
) -> tuple[dict[str, int], dict[str, int]]:
    rows: dict[str, int] = {}
    trials: dict[str, int] = {}
    for series, body in definition.series.items():
        rows[series] = sizes.get(f"rows:{series}", body.rows)
        for column, spec in body.columns.items():
            trials[f"{series}.{column}"] = sizes.get(f"trials:{series}.{column}", spec.repeats)
    for slot, text in readings.items():
        place = _READING.fullmatch(slot)
        if place and text.strip():
            rows[place[1]] = max(rows[place[1]], int(place[3]))
            key = f"{place[1]}.{place[2]}"
            trials[key] = max(trials[key], int(place[4]))
    return rows, trials


def _quantities(definition: Definition, readings: Mapping[str, str]) -> dict[str, Any]:
    found: dict[str, dict[int, str]] = {}
    for slot, text in readings.items():
        place = _QUANTITY.fullmatch(slot)
        if place:
            found.setdefault(place[1], {})[int(place[2])] = text
    cells: dict[str, Any] = {}
    for name, texts in found.items():
        if any(text.strip() for text in texts.values()):
            row = [texts.get(i + 1, "") for i in range(max(texts))]
            cells[name] = row[0] if len(row) == 1 else row
    return cells


def _series(definition: Definition, readings: Mapping[str, str]) -> dict[str, dict[str, list[Any]]]:
    found: dict[str, dict[str, dict[tuple[int, int], str]]] = {}
    for slot, text in readings.items():
        place = _READING.fullmatch(slot)
        if place and text.strip():
            found.setdefault(place[1], {}).setdefault(place[2], {})[int(place[3]), int(place[4])] = text
    series: dict[str, dict[str, list[Any]]] = {}
    for name, columns in found.items():
        series[name] = {}
        for column, texts in columns.items():
            repeated = definition.series[name].columns[column].repeats > 1 or any(trial > 1 for _, trial in texts)
            cells: list[Any] = []
            for row in range(1, max(row for row, _ in texts) + 1):
                own = {trial: text for (r, trial), text in texts.items() if r == row}
                if repeated:
                    cells.append([own.get(trial, "") for trial in range(1, max(own, default=0) + 1)])
                else:
                    cells.append(own.get(1, ""))
            series[name][column] = cells
    return series


def _traces(
    definition: Definition, traces: Mapping[str, Mapping[str, Any]], stretches: Mapping[str, Mapping[str, Any]]
) -> dict[str, dict[str, list[Any]]]:
    found: dict[str, dict[str, dict[int, Any]]] = {}
    for slot, body in traces.items():
        series, column, row = slot.split(".")
        own = definition.series.get(series)
        if own is not None and column in own.columns and own.columns[column].extract is not None:
            stretch = {key: stretches.get(slot, {}).get(key) for key in ("begin", "end")}
            found.setdefault(series, {}).setdefault(column, {})[int(row)] = {**body, **stretch}
    return {
        series: {column: [rows.get(i) for i in range(1, max(rows) + 1)] for column, rows in columns.items()}
        for series, columns in found.items()
    }


def _excluded(left_out: Mapping[str, Entry]) -> dict[str, dict[str, str]]:
    excluded: dict[str, dict[str, str]] = {}
    for slot, entry in left_out.items():
        series, _, place = slot.partition(".")
        excluded.setdefault(series, {})[place] = str(in_force(entry)[1].get("reason", ""))[: LONGEST["leave-out"]]
    return excluded
