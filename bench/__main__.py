"""Prints the speed table: what is measured, against what, the ratio and its goal. ``./run bench saves`` prints only such rows."""

import sys
from collections.abc import Iterable

from bench import export, lists, live, montecarlo, pendulum, plan, saves, slow, trace
from bench.ratio import Row
from bench.served import served


def alone() -> Iterable[Row]:
    """Rows that need no server."""
    yield pendulum.full_analysis()
    yield montecarlo.against_hand()
    yield montecarlo.against_loop()
    yield trace.draw_choose_fit()
    yield pendulum.rows_tenfold()
    yield pendulum.slips()
    yield pendulum.strip()
    yield plan.forecast()
    yield plan.improvements()
    yield plan.timetable()
    yield export.trace()


def behind_a_server(wanted: str) -> Iterable[Row]:
    """Rows of a server of the bench's own."""
    for name, measure in (
        ("saves", saves.alone),
        ("course", saves.course),
        ("papers", saves.with_papers),
        ("tables", saves.long_tables),
        ("memory", saves.memory),
        ("lists", lists.of_years),
        ("export", export.course),
        ("live", live.minute),
        ("slow", slow.hands),
    ):
        if wanted in ("", name):
            with served() as here:
                yield from measure(here)


def main() -> None:
    wanted = sys.argv[1] if len(sys.argv) > 1 else ""
    print(f"{'what':62}  {'ours':>11}  {'theirs':>11}  {'ratio':>8}  goal")
    for part in ([] if wanted not in ("", "core") else alone(), behind_a_server(wanted)):
        for row in part:
            verdict = "met" if row.met else "MISSED"
            print(
                f"{row.what:62}  {row.sizes}  {row.shown:>8}  {row.goal} ({verdict})",
                flush=True,
            )


main()
