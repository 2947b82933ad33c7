"""Prints the speed table: what is measured, against what, the ratio and its goal."""

from bench import montecarlo, pendulum, trace
from bench.ratio import Row


def main() -> None:
    measures = (
        pendulum.full_analysis,
        montecarlo.against_hand,
        montecarlo.against_loop,
        trace.draw_choose_fit,
        pendulum.rows_tenfold,
    )
    print(f"{'what':62}  {'ours':>11}  {'theirs':>11}  {'ratio':>8}  goal")
    for measure in measures:
        row: Row = measure()
        verdict = "met" if row.met else "MISSED"
        print(
            f"{row.what:62}  {1e3 * row.ours:8.2f} ms  {1e3 * row.theirs:8.2f} ms  {row.shown:>8}  {row.goal} ({verdict})",
            flush=True,
        )


main()
