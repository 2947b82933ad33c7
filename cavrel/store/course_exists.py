"""Whether a whole course stands in the database already, asked without loading what it would be made with."""

from collections.abc import Sequence
from uuid import UUID

from cavrel.store.pool import Connection

_THERE = """
select (select count(*) from bench join course on course.id = bench.course where course.slug = %(slug)s and bench.name = any(%(benches)s))
     + (select count(*) from lesson where client_key = any(%(lessons)s))
     + (select count(*) from run where client_key = any(%(runs)s) and exists (select from entry where entry.run = run.id)) as found
"""


def there(
    connection: Connection, slug: str, benches: Sequence[str], lessons: Sequence[UUID], runs: Sequence[UUID]
) -> bool:
    """Whether the course of this ``slug`` has all these benches, and these lessons and runs, by their keys, are there, each run with entries."""
    asked = {"slug": slug, "benches": list(benches), "lessons": list(lessons), "runs": list(runs)}
    row = connection.execute(_THERE, asked).fetchone()
    return row is not None and int(row["found"]) == len(benches) + len(lessons) + len(runs)
