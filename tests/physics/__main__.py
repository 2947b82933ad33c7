"""Every experiment against independent physics, under each convention: ``./run physics [runs] [id ...]``."""

import sys

from tests.physics import MODELS
from tests.physics.bench import conventions, hold


def main() -> int:
    numbers = [int(a) for a in sys.argv[1:] if a.isdigit()]
    wanted = [a for a in sys.argv[1:] if not a.isdigit()] or sorted(MODELS)
    many, bad = (numbers or [200])[0], 0
    print(
        f"{'experiment':44} {'result':8} {'95 % holds':>10} {'bias/u':>8} {'scatter/u':>10} {'u, relative':>12}   of {many} runs"
    )
    for experiment in wanted:
        for options in conventions(experiment):
            for one in hold(experiment, MODELS[experiment], many, options):
                bad += not one.good
                name = f"{experiment} {one.options}"
                verdict = "" if one.good else "   not as it should be"
                print(
                    f"{name:44} {one.result:8} {one.share:10.3f} {one.bias:8.2f} {one.scatter:10.2f} {one.relative:12.2e}{verdict}",
                    flush=True,
                )
    return min(bad, 1)


if __name__ == "__main__":
    sys.exit(main())
