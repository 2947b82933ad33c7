"""Prints the speed table: what is measured, against what, the ratio and its goal."""

from bench import pendulum
from bench.ratio import Row


def main() -> None:
    rows: list[Row] = [pendulum.full_analysis()]
    print(f"{'what':62}  {'ours':>9}  {'theirs':>9}  {'ratio':>6}  goal")
    for row in rows:
        verdict = "met" if row.met else "MISSED"
        print(
            f"{row.what:62}  {1e3 * row.ours:6.2f} ms  {1e3 * row.theirs:6.2f} ms  {row.ratio:6.2f}  {row.goal} ({verdict})"
        )


main()
