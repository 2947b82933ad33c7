"""The private cluster and the ways in which it cannot be had."""

import shutil
import time
from collections import namedtuple
from pathlib import Path

import psycopg
import pytest

from cavrel.store import cluster as clusters
from cavrel.store.cluster import Cluster, ClusterError


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    # pytest's folders are closed to other users; the database's user must be able to enter.
    for place in (tmp_path, *tmp_path.parents):
        if place == Path("/tmp"):
            break
        place.chmod(0o755)
    return tmp_path / "data"


def test_it_is_made_started_stopped_and_keeps_what_it_held(folder: Path) -> None:
    made = Cluster(folder)
    with made.running() as url, psycopg.connect(url) as connection:
        connection.execute("create table kept as select 42 as answer")
        assert made.start() is False
        with pytest.raises(ClusterError, match="another Cavrel already serves"), Cluster(folder).running():
            pass
    with Cluster(folder).running() as url, psycopg.connect(url) as connection:
        assert connection.execute("select answer from kept").fetchone() == (42,)
        assert connection.execute("show listen_addresses").fetchone() == ("127.0.0.1",)
    with pytest.raises(psycopg.OperationalError), psycopg.connect(url, connect_timeout=2):
        pass


def test_without_the_password_nobody_gets_in(cluster: Cluster) -> None:
    url = cluster.url()
    with (
        pytest.raises(psycopg.OperationalError, match="password"),
        psycopg.connect(url.replace(url.split(":")[2].split("@")[0], "guess")),
    ):
        pass
    assert cluster.password_file.stat().st_mode & 0o077 == 0


def test_a_full_disk_says_what_to_do(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(clusters.shutil, "disk_usage", lambda _: usage(10**9, 10**9, 5 * 2**20))
    with (
        pytest.raises(ClusterError, match="only 5 MB are free.*CAVREL_DATA.*Nothing was changed"),
        Cluster(folder).running(),
    ):
        pass
    assert not (folder / "postgres").exists()


def test_a_folder_that_cannot_be_made_says_so(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    with (
        pytest.raises(ClusterError, match="cannot make the data folder"),
        Cluster(tmp_path / "file" / "data").running(),
    ):
        pass


def test_data_of_a_version_that_is_not_installed(folder: Path) -> None:
    made = Cluster(folder)
    (folder / "postgres").mkdir(parents=True)
    (folder / "postgres" / "PG_VERSION").write_text("7\n")
    with pytest.raises(ClusterError, match="belong to PostgreSQL 7, which is not installed"), made.running():
        pass
    shutil.rmtree(folder)


def test_files_that_are_not_ours_stay(folder: Path) -> None:
    """A folder ``postgres`` of somebody else's, such as Debian's own, is neither removed nor given to another owner."""
    other = folder / "postgres" / "15" / "main"
    other.mkdir(parents=True)
    (other / "precious").write_text("not ours")
    before = other.stat().st_uid, (folder / "postgres").stat().st_uid
    with pytest.raises(ClusterError, match="Nothing was changed"), Cluster(folder).running():
        pass
    assert (other / "precious").read_text() == "not ours"
    assert (other.stat().st_uid, (folder / "postgres").stat().st_uid) == before


@pytest.mark.parametrize("version", ["", "fifteen", "\udcff"])
def test_a_damaged_version_is_one_sentence(folder: Path, version: str) -> None:
    (folder / "postgres").mkdir(parents=True)
    (folder / "postgres" / "PG_VERSION").write_bytes(version.encode(errors="surrogateescape"))
    with pytest.raises(ClusterError, match="Nothing was changed"), Cluster(folder).running():
        pass


@pytest.mark.parametrize("port", ["abc", "²", "0", "99999"])
def test_a_database_port_that_is_none(folder: Path, port: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CAVREL_PG_PORT", port)
    with pytest.raises(ClusterError, match="CAVREL_PG_PORT is"), Cluster(folder).running():
        pass


def test_a_server_that_dies_is_started_again_and_one_left_behind_is_stopped(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(clusters, "WATCHED_EVERY", 0.2)
    left = Cluster(folder)
    left.start()  # as a Cavrel that was killed leaves it
    with Cluster(folder).running() as url:
        left.crash()
        for _ in range(100):
            try:
                with psycopg.connect(url, connect_timeout=2) as connection:
                    assert connection.execute("select 1").fetchone() == (1,)
                    break
            except psycopg.OperationalError:
                time.sleep(0.2)
        else:
            pytest.fail("it was not started again at its port")
    with pytest.raises(psycopg.OperationalError), psycopg.connect(url, connect_timeout=2):
        pass
