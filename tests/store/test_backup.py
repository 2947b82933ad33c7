"""A database kept in a file and put back: whole, checked, and answering like the old one."""

import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import uuid4

import psycopg
import pytest
from click.testing import CliRunner, Result

from cavrel import cli, demo, democourse
from cavrel.store import backup as kept
from cavrel.store.backup import BackupError, backup, restore
from cavrel.store.cluster import Cluster
from cavrel.store.migrate import migrate
from cavrel.store.pool import open_pool
from cavrel.web import create_app
from tests.conftest import copied
from tests.thorough import thorough


@pytest.fixture
def fresh(cluster: Cluster) -> str:
    """A database that nobody has opened."""
    name = f"fresh_{uuid4().hex[:12]}"
    cluster.create_database(name)
    return cluster.url(name)


@pytest.fixture(scope="module")
def filled(cluster: Cluster, demonstrated: str) -> str:
    url = copied(cluster, demonstrated)
    with open_pool(url, size=1) as pool:
        create_app(pool)  # which makes the key of its sessions
    return url


PAGES = ["/runs.json", *(f"/runs/{run}/{page}.json" for run in (1, 4, 9) for page in ("measure", "result", "logbook"))]


def answers(url: str) -> list[object]:
    with open_pool(url, size=2) as pool:
        client = create_app(pool, testing=True).test_client()
        found = [client.get(page) for page in PAGES]
        assert all(answer.status_code == 200 for answer in found)
        return [answer.json for answer in found]


def test_what_comes_back_answers_like_the_old_one(filled: str, fresh: str, tmp_path: Path) -> None:
    made = backup(filled, tmp_path / "evening.zip")
    assert made.rows["run"] >= 14
    back = restore(fresh, tmp_path / "evening.zip")
    assert back.rows == made.rows
    assert answers(fresh) == answers(filled)
    # Its numbers go on, its logbook still only grows, and its own backup is the same.
    again = backup(fresh, tmp_path / "again.zip")
    assert again.rows["entry"] == made.rows["entry"]
    with zipfile.ZipFile(tmp_path / "evening.zip") as one, zipfile.ZipFile(tmp_path / "again.zip") as other:
        assert one.read("entry.csv") == other.read("entry.csv")
    with open_pool(fresh, size=1) as pool, pool.connection() as connection:
        top = connection.execute("select max(id) as id from run").fetchone()
        following = connection.execute("select nextval(pg_get_serial_sequence('run', 'id')) as id").fetchone()
        assert top and following and following["id"] == top["id"] + 1


def test_a_backup_never_writes_over_another(filled: str, tmp_path: Path) -> None:
    file = tmp_path / "evening.zip"
    file.write_text("something dear")
    with pytest.raises(BackupError, match="is there already"):
        backup(filled, file)
    assert file.read_text() == "something dear"
    assert list(tmp_path.iterdir()) == [file]


def test_a_database_in_use_is_left_alone(filled: str, tmp_path: Path) -> None:
    backup(filled, tmp_path / "evening.zip")
    before = answers(filled)
    with pytest.raises(BackupError, match="holds data already"):
        restore(filled, tmp_path / "evening.zip")
    assert answers(filled) == before


def test_a_damaged_backup_changes_nothing(filled: str, fresh: str, tmp_path: Path) -> None:
    backup(filled, tmp_path / "evening.zip")
    with zipfile.ZipFile(tmp_path / "evening.zip") as packed:
        files = {name: packed.read(name) for name in packed.namelist()}
    for name, body in (
        ("entry.csv", files["entry.csv"].replace(b"reading", b"raeding", 1)),
        ("entry.csv", None),
        ("manifest.json", b"{"),
        ("manifest.json", files["manifest.json"].replace(b'"schema": ', b'"schema": 9')),
    ):
        with zipfile.ZipFile(tmp_path / "bad.zip", "w") as packed:
            for other, whole in files.items():
                content = body if other == name else whole
                if content is not None:
                    packed.writestr(other, content)
        with pytest.raises(BackupError):
            restore(fresh, tmp_path / "bad.zip")
    (tmp_path / "bad.zip").write_bytes((tmp_path / "evening.zip").read_bytes()[:-400])
    with pytest.raises(BackupError):
        restore(fresh, tmp_path / "bad.zip")
    restore(fresh, tmp_path / "evening.zip")  # nothing of those stands in its way


def test_one_of_an_earlier_schema_is_brought_up_to_date(cluster: Cluster, fresh: str, tmp_path: Path) -> None:
    name = f"old_{uuid4().hex[:12]}"
    cluster.create_database(name)
    migrate(cluster.url(name), most=8)
    with open_pool(cluster.url(name), size=1) as pool, pool.connection() as connection:
        connection.execute("insert into course (slug, title) values ('old', 'An old course')")
    made = backup(cluster.url(name), tmp_path / "old.zip")
    assert made.schema == 8
    restore(fresh, tmp_path / "old.zip")
    assert migrate(fresh) == []
    with open_pool(fresh, size=1) as pool, pool.connection() as connection:
        assert connection.execute("select title from course").fetchall() == [{"title": "An old course"}]


def test_its_files_are_plain(filled: str, tmp_path: Path) -> None:
    backup(filled, tmp_path / "evening.zip")
    with zipfile.ZipFile(tmp_path / "evening.zip") as packed:
        manifest = json.loads(packed.read("manifest.json"))
        assert manifest["format"] == kept.FORMAT
        heads = {t["name"]: packed.read(f"{t['name']}.csv").decode().partition("\n")[0] for t in manifest["tables"]}
    assert heads["course"] == "id,slug,title,place,made_at,begins,ends,zone,joining,client_key"


def cavrel(*arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
    own = {k: v for k, v in os.environ.items() if not k.startswith(("CAVREL_", "DATABASE_"))}
    return subprocess.run(
        [sys.executable, "-m", "cavrel", *arguments],
        env={**own, **environment},
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )


def typed(*arguments: str, database: str) -> Result:
    """The same command in this process, which has loaded what it needs."""
    return CliRunner().invoke(cli.main, arguments, env={"DATABASE_URL": database})


@thorough
def test_from_an_own_server_into_a_private_one_by_the_command_line(filled: str, tmp_path: Path) -> None:
    folder = Path(tempfile.mkdtemp(prefix="cavrel-restore-"))
    folder.chmod(0o755)
    try:
        file, again = tmp_path / "evening.zip", tmp_path / "again.zip"
        made = cavrel("backup", str(file), DATABASE_URL=filled)
        assert made.returncode == 0, made.stderr
        assert "entries of the logbook kept in" in made.stdout
        back = cavrel("restore", str(file), CAVREL_DATA=str(folder))
        assert back.returncode == 0, back.stderr
        assert cavrel("backup", str(again), CAVREL_DATA=str(folder)).returncode == 0
        with zipfile.ZipFile(file) as one, zipfile.ZipFile(again) as other:
            assert one.read("entry.csv") == other.read("entry.csv")
            assert one.read("run.csv") == other.read("run.csv")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def test_a_course_moves_by_the_command_line(fresh: str, cluster: Cluster, migrated: str, tmp_path: Path) -> None:
    """Three runs of it: each is a report, a package and a workbook."""
    small = copied(cluster, migrated)
    body = json.loads(demo.FILE.read_text(encoding="utf-8"))
    with open_pool(small, size=2) as pool:
        democourse.put(pool, {**body, "runs": body["runs"][:3], "lessons": []}, demo.key)
    whole, run = tmp_path / "course.zip", tmp_path / "run.json"
    archive = typed("export", "--course", "--out", str(whole), database=small)
    assert archive.stdout == f"3 runs in {whole}\n", archive.stderr
    moved = cavrel("import", str(whole), DATABASE_URL=fresh)
    assert "3 runs" in moved.stdout, moved.stderr
    report = typed("report", "1", "--format", "html", database=fresh)
    assert "Bench Lantern" in report.stdout
    nothing = typed("report", "999", database=fresh)
    assert (nothing.exit_code, "there is no run 999" in nothing.stderr) == (2, True)
    run.write_text("{")
    refused = typed("import", str(run), database=fresh)
    assert (refused.exit_code, "line 1, column 2" in refused.stderr) == (2, True)


@pytest.fixture(scope="module")
def evening(filled: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    file = tmp_path_factory.mktemp("kept") / "evening.zip"
    backup(filled, file)
    return file


def changed(evening: Path, file: Path, change: Callable[[dict[str, Any], dict[str, bytes]], None]) -> Path:
    """A backup whose manifest and files somebody changed, its sums set right again."""
    with zipfile.ZipFile(evening) as packed:
        files = {name: packed.read(name) for name in packed.namelist()}
    manifest = json.loads(files.pop("manifest.json"))
    change(manifest, files)
    for table in manifest["tables"]:
        if f"{table['name']}.csv" in files:
            table["sha256"] = hashlib.sha256(files[f"{table['name']}.csv"]).hexdigest()
    with zipfile.ZipFile(file, "w") as packed:
        for name, body in files.items():
            packed.writestr(name, body)
        packed.writestr("manifest.json", json.dumps(manifest))
    return file


def tables_of(url: str) -> set[str]:
    with psycopg.connect(url) as connection:
        rows = connection.execute("select relname from pg_class where relnamespace = 'public'::regnamespace")
        return {name for (name,) in rows}


def catalogue_table(manifest: dict[str, Any], files: dict[str, bytes]) -> None:
    manifest["tables"].append(
        {"name": "pg_db_role_setting", "columns": ["setdatabase", "setrole", "setconfig"], "rows": 1, "sha256": ""}
    )
    files["pg_db_role_setting.csv"] = b"setdatabase,setrole,setconfig\n0,0,{session_preload_libraries=none}\n"


def table_of(manifest: dict[str, Any], name: str) -> dict[str, Any]:
    found: dict[str, Any] = next(t for t in manifest["tables"] if t["name"] == name)
    return found


TAMPERED: dict[str, Callable[[dict[str, Any], dict[str, bytes]], None]] = {
    "a table of the catalogue": catalogue_table,
    "no tables": lambda manifest, files: manifest.update(tables=[]),
    "a table less": lambda manifest, files: manifest["tables"].remove(table_of(manifest, "entry")),
    "a table twice": lambda manifest, files: manifest["tables"].append(table_of(manifest, "entry")),
    "columns in another order": lambda manifest, files: table_of(manifest, "entry")["columns"].reverse(),
    "a column less": lambda manifest, files: table_of(manifest, "bench")["columns"].pop(),
    "a name that is no name": lambda manifest, files: table_of(manifest, "bench").update(
        name='bench"; drop table run; --'
    ),
    "rows that are not there": lambda manifest, files: table_of(manifest, "entry").update(rows=7),
    "a schema that never was": lambda manifest, files: manifest.update(schema=0),
    "a row that breaks a rule": lambda manifest, files: files.update(
        {"bench.csv": files["bench.csv"] + b"99,99,Wick,f\n"}
    ),
}


@pytest.mark.parametrize("what", TAMPERED)
def test_a_backup_that_somebody_changed_is_refused_and_leaves_nothing(
    evening: Path, fresh: str, tmp_path: Path, what: str
) -> None:
    with pytest.raises(BackupError, match="Nothing was changed") as found:
        restore(fresh, changed(evening, tmp_path / "bad.zip", TAMPERED[what]))
    assert "\n" not in str(found.value)
    assert tables_of(fresh) == set()
    with psycopg.connect(fresh) as connection:
        assert connection.execute("select 1 from pg_roles where rolname like 'cavrel_restore%'").fetchall() == []


def test_a_flipped_byte_anywhere_is_one_line_and_changes_nothing(evening: Path, fresh: str, tmp_path: Path) -> None:
    body = evening.read_bytes()
    draw = random.Random(11)
    refused = 0
    for _ in range(60):
        at = draw.randrange(len(body))
        (tmp_path / "bad.zip").write_bytes(body[:at] + bytes([body[at] ^ (1 << draw.randrange(8))]) + body[at + 1 :])
        try:
            restore(fresh, tmp_path / "bad.zip")
        except BackupError as fault:
            assert "\n" not in str(fault)
            assert tables_of(fresh) == set()
            refused += 1
            continue
        # It fell on what no reader looks at, such as a moment in the directory; all tables were compared.
        with psycopg.connect(fresh, autocommit=True) as connection:
            connection.execute("drop schema public cascade")
            connection.execute("create schema public")
    assert refused >= 40


@pytest.mark.parametrize(
    "manifest", [b"[" * 100_000, b" " * 3_000_000 + b"{}", b'{"format": "cavrel-backup/1"}', b"null", b"\xff"]
)
def test_a_deep_or_huge_manifest_is_refused(fresh: str, tmp_path: Path, manifest: bytes) -> None:
    with zipfile.ZipFile(tmp_path / "bad.zip", "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("manifest.json", manifest)
    with pytest.raises(BackupError, match="Nothing was changed"):
        restore(fresh, tmp_path / "bad.zip")
    assert tables_of(fresh) == set()


def test_what_goes_in_may_do_nothing_else(evening: Path, fresh: str, monkeypatch: pytest.MonkeyPatch) -> None:
    said: list[str] = []

    def nosy(connection: psycopg.Connection[Any], *_: Any) -> None:
        for statement in ("select * from entry", "update pg_db_role_setting set setconfig = null", "create table x ()"):
            with pytest.raises(psycopg.errors.InsufficientPrivilege), connection.transaction():
                connection.execute(statement)
            said.append(statement)
        raise BackupError("enough. Nothing was changed.")

    monkeypatch.setattr(kept, "_in", nosy)
    with pytest.raises(BackupError, match="enough"):
        restore(fresh, evening)
    assert len(said) == 3
    assert tables_of(fresh) == set()


def test_one_that_was_killed_half_way_is_begun_anew(evening: Path, fresh: str) -> None:
    code = (
        "import os, sys; from pathlib import Path; from cavrel.store import backup\n"
        "backup._compare = lambda *_: os.kill(os.getpid(), 9)\n"
        "backup.restore(sys.argv[1], Path(sys.argv[2]))"
    )
    died = subprocess.run([sys.executable, "-c", code, fresh, str(evening)], check=False)
    assert died.returncode == -9
    assert restore(fresh, evening).rows["entry"] > 100


def test_an_older_version_keeps_no_newer_database(filled: str, cluster: Cluster, tmp_path: Path) -> None:
    name = f"newer_{uuid4().hex[:12]}"
    cluster.create_database(name)
    migrate(cluster.url(name))
    with psycopg.connect(cluster.url(name)) as connection:
        connection.execute("insert into migration (number) values (9999)")
    with pytest.raises(BackupError, match="newer Cavrel"):
        backup(cluster.url(name), tmp_path / "newer.zip")
    assert list(tmp_path.iterdir()) == []
