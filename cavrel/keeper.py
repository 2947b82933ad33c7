"""Whether backups are made by themselves, where and when; and the thread of the server that sees to it."""

import logging
import os
import re
from dataclasses import dataclass
from datetime import datetime, time, timezone
from pathlib import Path
from threading import Event, Thread

import psycopg

from cavrel.store import nightly

LOOKS_EVERY = 60.0
"""Seconds between looks at the clock."""
AT = "22:00"
log = logging.getLogger("cavrel")


class BadSetting(Exception):
    """An environment variable that says nothing that can be done."""


@dataclass(frozen=True, slots=True)
class Plan:
    """``folder``: where backups go; ``at``: the hour of each day, by the server's clock."""

    folder: Path
    at: time


def plan(private: Path | None) -> Plan | None:
    """By ``CAVREL_BACKUPS`` (a folder, or ``off``) and ``CAVREL_BACKUP_AT``; into the data folder where the cluster is ``private``; None for no
    backups. Raises BadSetting."""
    said = os.environ.get("CAVREL_BACKUPS", "")
    if said.lower() in ("off", "no") or (not said and private is None):
        return None
    found = re.fullmatch(r"([01]?\d|2[0-3]):([0-5]\d)", os.environ.get("CAVREL_BACKUP_AT") or AT)
    if found is None:
        raise BadSetting(f"CAVREL_BACKUP_AT is '{os.environ['CAVREL_BACKUP_AT']}', which is no time such as {AT}")
    folder = Path(said) if said else (private or Path()) / "backups"
    return Plan(folder.absolute(), time(int(found[1]), int(found[2])))


class Keeper:
    """Makes backups while the server runs."""

    def __init__(self, url: str, made: Plan) -> None:
        self.url, self.plan = url, made
        self.ended = Event()
        self.thread = Thread(target=self._look, daemon=True)
        self.thread.start()

    def _look(self) -> None:
        while not self.ended.wait(LOOKS_EVERY):
            try:
                said = nightly.look(self.url, self.plan.folder, self.plan.at, datetime.now(timezone.utc).astimezone())
            except psycopg.Error as fault:
                said = f"no backup could be made: {str(fault).splitlines()[0]}"
            if said:
                log.warning(said)

    def stop(self) -> None:
        """Look no more; one that is being made is left unfinished, and nothing of it stays."""
        self.ended.set()
        self.thread.join(10)
