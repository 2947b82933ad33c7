"""What stands in force, gathered from the latest entry of each slot."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from cavrel.core.logbook.entry import Entry


@dataclass(slots=True, kw_only=True)
class Standing:
    """Filled by the kinds of entries, one slot after the other; slots without their prefix, but for sizes."""

    readings: dict[str, str] = field(default_factory=dict)
    left_out: dict[str, Entry] = field(default_factory=dict)
    late: dict[str, Entry] = field(default_factory=dict)
    stands: dict[str, str] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    options: dict[str, str] = field(default_factory=dict)
    traces: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    stretches: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    settings: dict[str, list[str]] = field(default_factory=dict)
    instruments: dict[str, dict[str, str]] = field(default_factory=dict)
    zeros: dict[str, str] = field(default_factory=dict)
    ticks: dict[str, Entry] = field(default_factory=dict)
    words: dict[str, str] = field(default_factory=dict)
    report: dict[str, str] = field(default_factory=dict)
    marking: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    rules: dict[str, Any] = field(default_factory=dict)
    headings: dict[str, dict[str, Any]] = field(default_factory=dict)
    marks: dict[str, dict[int, str]] = field(default_factory=dict)
    orders: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    foreseen: dict[str, str] = field(default_factory=dict)
    without: set[str] = field(default_factory=set)
    planned: set[str] = field(default_factory=set)
