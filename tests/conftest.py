"""Fixtures: a PostgreSQL of the tests' own, a fresh database for each module, the application on it."""

import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path
from uuid import uuid4

import pytest
from flask.testing import FlaskClient

from cavrel import catalogue, demo
from cavrel.core.definition.steps import Program
from cavrel.store.cluster import Cluster
from cavrel.store.migrate import migrate
from cavrel.store.pool import Pool, open_pool
from cavrel.web import create_app


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """A cluster in a folder of its own; the user's data and DATABASE_URL are never touched."""
    os.environ.pop("DATABASE_URL", None)
    folder = Path(tempfile.mkdtemp(prefix="cavrel-test-"))
    folder.chmod(0o755)
    made = Cluster(folder)
    made.start()
    yield made
    made.stop()
    shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="module")
def database(cluster: Cluster) -> str:
    """The URL of a fresh, migrated database."""
    name = f"test_{uuid4().hex[:12]}"
    cluster.create_database(name)
    url = cluster.url(name)
    migrate(url)
    return url


@pytest.fixture(scope="module")
def pool(database: str) -> Iterator[Pool]:
    with open_pool(database, size=6) as made:
        yield made


@pytest.fixture(scope="module")
def client(pool: Pool) -> FlaskClient:
    """A client of the application with the demonstration course loaded. CSRF is on, as in service."""
    demo.load(pool)
    return create_app(pool, testing=True).test_client()


@pytest.fixture(scope="session")
def pendulum() -> Program:
    return catalogue.program_of(catalogue.experiments()["pendulum"])


LONG = (
    "test_serve.py",
    "test_keeping.py",
    "test_slips.py",
    "test_hands_full.py",
    "test_fuzz.py",
    "test_coverage.py",
    "test_backup.py",
    "test_report.py",
)
"""Files that take longest: begun first, so that no worker is left alone with one of them at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: LONG.index(item.path.name) if item.path.name in LONG else len(LONG))
