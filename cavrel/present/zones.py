"""The time zone in which moments are told: the course's, else the server's own."""

import os
from contextvars import ContextVar
from datetime import datetime, timezone, tzinfo
from functools import lru_cache
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

_told: ContextVar[str] = ContextVar("zone", default="")


def tell_in(name: str) -> None:
    """From here on, in this context, moments are told in this zone; empty for the server's own."""
    _told.set(name)


@lru_cache(maxsize=64)
def _zone(name: str) -> tzinfo | None:
    try:
        return ZoneInfo(name) if name else None
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return None


@lru_cache(maxsize=1)
def _own() -> str:
    """The IANA name of the server's zone, empty where it cannot be found."""
    link = Path("/etc/localtime")
    linked = str(link.resolve()).partition("zoneinfo/")[2] if link.is_symlink() else ""
    for name in (os.environ.get("TZ", "").lstrip(":"), linked):
        if _zone(name) is not None:
            return name
    offset = datetime.now(timezone.utc).astimezone().utcoffset()
    return "" if offset else "UTC"


def name() -> str:
    """The zone by its IANA name; empty where nobody knows it."""
    told = _told.get()
    return told if _zone(told) is not None else _own()


def local(moment: datetime) -> datetime:
    """A moment in the zone in which moments are told."""
    return moment.astimezone(_zone(name()))
