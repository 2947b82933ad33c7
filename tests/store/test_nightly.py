"""Backups by themselves: due once an evening, kept 14 days and 12 months, put back once a week to see whether they can be."""

from datetime import date, datetime, time, timedelta, timezone
from pathlib import Path

import psycopg
import pytest

from cavrel import keeper
from cavrel.store import backup, nightly
from cavrel.store.cluster import Cluster
from tests.conftest import copied

AT = time(22, 0)
NOON = datetime(2026, 12, 1, 12, 0, tzinfo=timezone.utc)  # whatever the real time is


@pytest.mark.parametrize(
    ("last", "now", "due"),
    [
        ("2026-12-01T21:59", "2026-12-01T22:00", True),
        ("2026-12-01T22:00", "2026-12-01T22:01", False),
        ("2026-12-01T22:00", "2026-12-02T21:59", False),
        ("2026-12-01T22:00", "2026-12-02T22:00", True),
        ("2026-11-28T22:00", "2026-12-01T08:00", True),  # the machine was off on the evenings between
        ("2026-12-01T10:00", "2026-12-01T21:59", False),
    ],
)
def test_once_an_evening(last: str, now: str, due: bool) -> None:
    assert nightly.due(datetime.fromisoformat(last), datetime.fromisoformat(now), AT) is due


def test_fourteen_days_and_twelve_months() -> None:
    today = date(2026, 12, 1)
    days = [today - timedelta(days=i) for i in range(500)]
    kept = nightly.kept(days, today)
    assert {day for day in kept if (today - day).days < 20} == {today - timedelta(days=i) for i in range(14)}
    assert sorted(day for day in kept if (today - day).days >= 14) == [date(2026, m, 1) for m in range(1, 12)]
    # Of a month without its first day the first there is.
    assert nightly.kept([date(2026, 9, 7), date(2026, 9, 8), date(2025, 12, 31)], today) == {date(2026, 9, 7)}
    assert nightly.kept([], today) == set()


def test_only_its_own_files_go(tmp_path: Path) -> None:
    for name in (
        "cavrel-2025-06-03.zip",
        "cavrel-2026-11-30.zip",
        "cavrel-2025-06-03-2210.zip",
        "cavrel-old.zip",
        "thesis.zip",
    ):
        (tmp_path / name).write_text("x")
    gone = nightly.thinned(tmp_path, date(2026, 12, 1))
    assert [file.name for file in gone] == ["cavrel-2025-06-03-2210.zip", "cavrel-2025-06-03.zip"]
    assert sorted(file.name for file in tmp_path.iterdir()) == ["cavrel-2026-11-30.zip", "cavrel-old.zip", "thesis.zip"]


def look(url: str, folder: Path, now: datetime) -> str:
    return nightly.look(url, folder, AT, now)


def stands(url: str) -> nightly.Last:
    with psycopg.connect(url) as connection:
        return nightly.last(connection)


def databases(url: str) -> set[str]:
    with psycopg.connect(url) as connection:
        return {
            name for (name,) in connection.execute("select datname from pg_database where datname like 'cavrel_trial%'")
        }


@pytest.fixture
def url(cluster: Cluster, demonstrated: str) -> str:
    found = copied(cluster, demonstrated)
    with psycopg.connect(found) as connection:
        connection.execute("update migration set made_at = %s", [NOON - timedelta(days=1, hours=1)])
    return found


def test_an_evening_and_a_week(url: str, tmp_path: Path) -> None:
    folder = tmp_path / "backups"
    assert look(url, folder, NOON) == f"backup made: {folder}/cavrel-2026-12-01.zip"  # yesterday's was missed
    assert "restored on trial" in look(url, folder, NOON + timedelta(minutes=1))
    assert databases(url) == set()
    assert look(url, folder, NOON + timedelta(minutes=2)) == ""
    assert look(url, folder, NOON.replace(hour=22)) == f"backup made: {folder}/cavrel-2026-12-01-2200.zip"
    assert look(url, folder, NOON.replace(hour=23)) == ""
    found = stands(url)
    assert (found.made_at, found.fault) == (NOON.replace(hour=22), "")
    assert found.tried_at == NOON + timedelta(minutes=1)
    made = sorted(folder.iterdir())
    assert [file.name for file in made] == ["cavrel-2026-12-01-2200.zip", "cavrel-2026-12-01.zip"]


def test_one_that_cannot_be_put_back_is_said(url: str, tmp_path: Path) -> None:
    look(url, tmp_path, NOON)
    [file] = tmp_path.iterdir()
    file.write_bytes(file.read_bytes()[:-900])
    said = look(url, tmp_path, NOON + timedelta(minutes=1))
    assert "could not be restored" in said
    assert "could not be restored" in stands(url).fault
    assert databases(url) == set()
    assert look(url, tmp_path, NOON + timedelta(minutes=59)) == ""
    assert "backup made" in look(url, tmp_path, NOON.replace(hour=23))
    assert stands(url).fault == ""


def test_a_folder_that_takes_nothing_is_said_and_tried_again_after_an_hour(url: str, tmp_path: Path) -> None:
    folder = tmp_path / "file"
    folder.write_text("not a folder")
    assert "no backup could be made" in look(url, folder, NOON)
    assert look(url, folder, NOON + timedelta(minutes=59)) == ""
    assert "no backup could be made" in look(url, folder, NOON + timedelta(minutes=61))
    found = stands(url)
    assert found.made_at is None
    assert found.fault


def test_two_servers_of_one_database_make_one(url: str, tmp_path: Path) -> None:
    with psycopg.connect(url, autocommit=True) as other:
        other.execute("select pg_advisory_lock(10, 0)")
        assert look(url, tmp_path, NOON) == ""
    assert "backup made" in look(url, tmp_path, NOON)


def test_it_is_not_part_of_itself(url: str, tmp_path: Path) -> None:
    look(url, tmp_path, NOON)
    assert "backup_made" not in backup.backup(url, tmp_path / "again.zip").rows


@pytest.mark.parametrize(
    ("said", "at", "private", "plan"),
    [
        ("", "", True, ("own/backups", time(22, 0))),
        ("", "", False, None),
        ("off", "", True, None),
        ("kept", "7:05", False, ("kept", time(7, 5))),
    ],
)
def test_where_and_when(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, said: str, at: str, private: bool, plan: tuple[str, time] | None
) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("CAVREL_BACKUPS", said)
    monkeypatch.setenv("CAVREL_BACKUP_AT", at)
    found = keeper.plan(Path("own") if private else None)
    assert found == (keeper.Plan(tmp_path / plan[0], plan[1]) if plan else None)


def test_an_hour_that_is_none(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CAVREL_BACKUP_AT", "25:00")
    with pytest.raises(keeper.BadSetting, match="CAVREL_BACKUP_AT is '25:00'"):
        keeper.plan(Path("own"))
