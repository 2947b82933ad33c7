"""Courses: begun with benches, house rules and instruments, and changed later; what is typed is checked whole before anything is written."""

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timezone
from typing import TypeVar
from uuid import UUID, uuid4
from zoneinfo import available_timezones

from pydantic import ValidationError

from cavrel import catalogue
from cavrel.core.definition import first_fault
from cavrel.core.definition.rules import HouseRules, Site
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory, begin
from cavrel.core.lesson.document import MOST_BENCHES, Lesson
from cavrel.service import lessons
from cavrel.store import courses as store
from cavrel.store import entries as entry_store
from cavrel.store import lessons as lesson_store
from cavrel.store.courses import About, Bench, Course
from cavrel.store.entries import NewEntry
from cavrel.store.pool import Connection

JOINING = {"listed": "only the benches in this list", "open": "a new bench may add itself where it starts a run"}
"""Who may start runs in a course."""
_COLOURS = (
    "Red",
    "Blue",
    "Green",
    "Yellow",
    "Orange",
    "Violet",
    "White",
    "Black",
    "Brown",
    "Grey",
    "Pink",
    "Turquoise",
)
NAMINGS: Mapping[str, tuple[str, Callable[[int], str]]] = {
    "numbers": ("Bench 1, Bench 2, …", lambda i: f"Bench {i + 1}"),
    "letters": ("Table A, Table B, …", lambda i: f"Table {chr(65 + i % 26)}{i // 26 + 1 if i >= 26 else ''}"),
    "colours": ("Red, Blue, Green, …", lambda i: f"{_COLOURS[i % 12]}{f' {i // 12 + 1}' if i >= 12 else ''}"),
}
"""Ways to name benches: words, and the name of the i-th."""
_TODAY = "2026-09-01"
_Value = TypeVar("_Value")


@dataclass(frozen=True, slots=True, kw_only=True)
class New:
    """A course to begin: what is said of it, the names of its benches, its first laboratory."""

    about: About
    benches: tuple[str, ...]
    laboratory: Laboratory


class Faults(CavrelError):
    """What is typed cannot be used. ``by``: field -> what is wrong with it and what to do."""

    def __init__(self, by: Mapping[str, str]) -> None:
        super().__init__(*next(iter(by.items())))
        self.by = dict(by)


class _Reader:
    """Reads fields and goes on after one at fault, so that all of them are said at once."""

    def __init__(self, typed: Mapping[str, str]) -> None:
        self.typed = typed
        self.faults: dict[str, str] = {}

    def text(self, field: str) -> str:
        return self.typed.get(field, "").strip()

    def read(self, field: str, make: Callable[[str], _Value], usual: _Value) -> _Value:
        """A field by ``make``, which raises ValueError with what is wrong."""
        try:
            return make(self.text(field))
        except ValueError as fault:
            self.faults[field] = str(fault)
            return usual


def _plain(text: str, most: int, what: str) -> str:
    if len(text) > most or any(unicodedata.category(c) == "Cc" for c in text):
        raise ValueError(f"{what} is one line of up to {most} characters.")
    return text


def _title(text: str) -> str:
    if not text:
        raise ValueError("Give the course a name, such as “Bench Physics”.")
    return _plain(text, 120, "A name")


def _day(text: str) -> date | None:
    try:
        return date.fromisoformat(text) if text else None
    except ValueError as fault:
        raise ValueError(f"“{text[:20]}” is not a date; write it like {_TODAY}.") from fault


def _zone(text: str) -> str:
    if text and text not in available_timezones():
        raise ValueError(f"“{text[:40]}” is not a time zone; write it like Europe/London.")
    return text


def _joining(text: str) -> str:
    if text and text not in JOINING:
        raise ValueError("Choose one of the two.")
    return text or "listed"


def number(text: str) -> float:
    """A number as somebody types it. Raises ValueError."""
    try:
        return float(text.replace(",", ".").replace("−", "-"))
    except ValueError as fault:
        raise ValueError(f"“{text[:20]}” is not a number.") from fault


def _about(reader: _Reader) -> About:
    begins, ends = reader.read("begins", _day, None), reader.read("ends", _day, None)
    if begins and ends and ends < begins:
        reader.faults["ends"] = "The last day comes before the first."
    return About(
        title=reader.read("title", _title, ""),
        place=reader.read("place", lambda text: _plain(text, 120, "A place"), ""),
        begins=begins,
        ends=ends,
        zone=reader.read("zone", _zone, ""),
        joining=reader.read("joining", _joining, "listed"),
    )


def _many(text: str) -> int:
    if not (text.isascii() and text.isdigit() and 1 <= int(text) <= MOST_BENCHES):
        raise ValueError(f"How many benches? A whole number from 1 to {MOST_BENCHES}.")
    return int(text)


def bench_name(text: str, taken: Sequence[str] = ()) -> str:
    """The name of a bench, which none of ``taken`` is called. Raises ValueError."""
    name = " ".join(text.split())
    if not name:
        raise ValueError("Give the bench a name.")
    _plain(name, 40, "The name of a bench")
    if name.casefold() in {other.casefold() for other in taken}:
        raise ValueError(f"There is already a bench “{name}”.")
    return name


def _names(reader: _Reader) -> tuple[str, ...]:
    naming = reader.text("naming") or "numbers"
    if naming in NAMINGS:
        return tuple(NAMINGS[naming][1](i) for i in range(reader.read("many", _many, 1)))
    names: list[str] = []
    for line in re.split(r"[\n,;]", reader.text("names")):
        if line.strip():
            try:
                names.append(bench_name(line, names))
            except ValueError as fault:
                reader.faults["names"] = str(fault)
    if not names:
        reader.faults["names"] = "Write the name of each bench on a separate line."
    elif len(names) > MOST_BENCHES:
        reader.faults["names"] = f"A course has at most {MOST_BENCHES} benches."
    return tuple(names)


def _gravity(reader: _Reader) -> Site | float:
    """By the place where latitude is typed, else as a number, else for 45° at sea level."""
    try:
        if reader.text("g-by") == "number" and reader.text("g"):
            return float(HouseRules.model_validate({"g": reader.read("g", number, 9.81)}).gravity())
        latitude = reader.read("latitude", number, 45.0) if reader.text("latitude") else 45.0
        height = reader.read("height", number, 0.0) if reader.text("height") else 0.0
        return Site(latitude=latitude, height=height)
    except ValidationError as fault:
        place, what = first_fault(fault)
        reader.faults[next((name for name in ("latitude", "height") if name in place), "g")] = f"{what}."
        return Site()


def _instruments(typed: Mapping[str, str], reader: _Reader, benches: int) -> list[tuple[str, int]]:
    """Kinds that are ticked, with how many there are: one for each bench where nothing is said."""
    found = []
    for kind in catalogue.instruments():
        field = f"instrument-{begin.key_of(kind)}"
        if typed.get(field):
            count = reader.text(f"count-{begin.key_of(kind)}") or str(benches)
            if not (count.isascii() and count.isdigit() and 1 <= int(count) <= 400):
                reader.faults[f"count-{begin.key_of(kind)}"] = f"How many of “{kind}”? A whole number from 1 to 400."
            else:
                found.append((kind, int(count)))
    return found


def read_new(typed: Mapping[str, str]) -> New:
    """A course to begin, from the fields of a form. Raises Faults."""
    reader = _Reader(typed)
    about, benches, g = _about(reader), _names(reader), _gravity(reader)
    preset = reader.text("preset") or "careful"
    if preset not in begin.PRESETS:
        reader.faults["preset"] = f"Choose one of {', '.join(begin.PRESETS)}."
    instruments = _instruments(typed, reader, len(benches))
    if reader.faults:
        raise Faults(reader.faults)
    return New(about=about, benches=benches, laboratory=begin.begun(preset, instruments, g))


def read_about(typed: Mapping[str, str]) -> About:
    """What is said of a course, from the fields of a form. Raises Faults."""
    reader = _Reader(typed)
    about = _about(reader)
    if reader.faults:
        raise Faults(reader.faults)
    return about


def slug_of(title: str, taken: Sequence[str]) -> str:
    """A name for addresses that none of ``taken`` is."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode().lower()
    base = re.sub(r"[^a-z0-9]+", "-", plain).strip("-").lstrip("0123456789-")[:32].strip("-") or "course"
    # "new" is the address of the page that begins a course.
    names = [base, *(f"{base}-{i}" for i in range(2, len(taken) + 4))]
    return next(name for name in names if name not in taken and name != "new")


def make(connection: Connection, new: New, key: UUID) -> Course:
    """Begin a course; the same ``key`` again gives the one it began."""
    store.lock(connection, 0)
    known = store.by_key(connection, key)
    if known is not None:
        return known
    slug = slug_of(new.about.title, [course.slug for course in store.courses(connection)])
    return store.make(connection, slug, new.about, new.laboratory, new.benches, key)


def add_bench(connection: Connection, course: Course, name: str) -> Bench:
    """One more bench, or one that was taken out and comes back. Raises CavrelError."""
    store.lock(connection, course.id)
    known = store.all_benches(connection, course.id)
    again = next((b for b in known if b.away and b.name.casefold() == " ".join(name.split()).casefold()), None)
    if again is None:
        try:
            name = bench_name(name, [bench.name for bench in known])
        except ValueError as fault:
            raise CavrelError("", str(fault)) from fault
    else:
        name = again.name
    if sum(not bench.away for bench in known) >= MOST_BENCHES:
        raise CavrelError("", f"A course has at most {MOST_BENCHES} benches.")
    return Bench(store.add_bench(connection, course.id, name), name)


def join(connection: Connection, course: Course, name: str) -> Bench:
    """The bench that calls itself so where it starts a run: one of the list, or one more. Raises CavrelError."""
    plain = " ".join(name.split()).casefold()
    known = next((b for b in store.benches(connection, course.id) if b.name.casefold() == plain), None)
    return known or add_bench(connection, course, name)


def rename_bench(connection: Connection, course: Course, bench: Bench, name: str) -> None:
    """Call a bench otherwise, in the list, in its runs and in the lessons; readings keep the name of who took them. Raises CavrelError."""
    store.lock(connection, course.id)
    others = [b.name for b in store.all_benches(connection, course.id) if b.id != bench.id]
    try:
        name = bench_name(name, others)
    except ValueError as fault:
        raise CavrelError("", str(fault)) from fault
    if name == bench.name:
        return
    store.rename_bench(connection, course.id, bench, name)
    now = datetime.now(timezone.utc)
    for run in store.moved_to(connection, course.id, bench.name):
        moved = NewEntry(
            kind="run", slot="run:bench", body={"value": name}, author=bench.name, made_at=now, client_key=uuid4()
        )
        entry_store.append(connection, run, [moved])

    def renamed(lesson: Lesson) -> Lesson:
        return lessons.checked(
            lesson,
            benches=tuple(name if one == bench.name else one for one in lesson.benches),
            blocks=tuple(b.model_copy(update={"bench": name}) if b.bench == bench.name else b for b in lesson.blocks),
        )

    for kept in lesson_store.newest(connection, course.id, 10_000):
        lessons.change(connection, course.id, kept.id, renamed)


def take_out_bench(connection: Connection, course: Course, bench: Bench) -> None:
    """Take a bench out of the list; its runs stay. Raises CavrelError for the last one."""
    store.lock(connection, course.id)
    if [b.id for b in store.benches(connection, course.id)] == [bench.id]:
        raise CavrelError("", "A course needs at least one bench.")
    store.take_out_bench(connection, bench.id)
