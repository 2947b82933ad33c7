"""The numbers that the database gives go on after those that are there.

A crash can set them back: in a database made as a copy of another (``create database … template``) PostgreSQL recovers the rows,
but not always how far the copy had counted. The same holds for rows that were put in with their numbers.
"""

from typing import Any

import psycopg
from psycopg import sql

_COUNTED = """
select c.relname as table, a.attname as column, pg_get_serial_sequence(quote_ident(c.relname), a.attname) as sequence
from pg_attribute a join pg_class c on c.oid = a.attrelid
where a.attidentity <> '' and c.relkind = 'r' and c.relnamespace = current_schema()::regnamespace and (%s::text[] = '{}' or c.relname = any(%s))
"""
_BEHIND = "select from {sequence} where last_value + is_called::int <= (select max({column}) from {table})"


def go_on(connection: psycopg.Connection[Any], *tables: str) -> None:
    """Let the numbers of these tables, or of all, go on after their highest; a count that is not behind is left alone."""
    with connection.cursor(row_factory=psycopg.rows.tuple_row) as cursor:
        for table, column, sequence in cursor.execute(_COUNTED, [list(tables)] * 2).fetchall():
            names = {
                "table": sql.Identifier(table),
                "column": sql.Identifier(column),
                "sequence": sql.Identifier(*sequence.split(".")),
            }
            if cursor.execute(sql.SQL(_BEHIND).format(**names)).fetchone() is None:
                continue
            with connection.transaction():
                # Nobody takes a number between the highest being looked up and the count being set.
                cursor.execute(sql.SQL("lock table {table} in share row exclusive mode").format(**names))
                cursor.execute(sql.SQL("select setval(%s, max({column})) from {table}").format(**names), [sequence])


def taken_twice(fault: Exception) -> bool:
    """Whether a row was refused because its number, not what it says, is there already."""
    return isinstance(fault, psycopg.errors.UniqueViolation) and str(fault.diag.constraint_name).endswith("_pkey")
