"""The checks that run nothing of the program: ruff, mypy, the import contract, biome on scripts, words not to come back."""

import subprocess
import sys
from pathlib import Path

BIN = Path(sys.executable).parent
CHECKS = [
    [str(BIN / "ruff"), "check", "--quiet", "."],
    [str(BIN / "mypy"), "--no-error-summary", "cavrel", "bench"],
    [str(BIN / "lint-imports"), "--no-logo"],
    [str(BIN / "biome"), "lint", "--error-on-warnings"],
    [str(BIN / "biome"), "format", "cavrel/web/static/css/components"],
    [sys.executable, str(Path(__file__).parent / "words.py")],
]


def main() -> int:
    failed = 0
    for command in CHECKS:
        if not Path(command[0]).exists():
            print(f"{Path(command[0]).name}: there is none for this machine", flush=True)
            continue
        done = subprocess.run(command, cwd=Path(__file__).parent.parent, capture_output=True, text=True, check=False)
        name = Path(command[-1]).stem if command[0] == sys.executable else Path(command[0]).name
        print(f"{name}: {'clean' if done.returncode == 0 else 'failed'}", flush=True)
        if done.returncode:
            print(done.stdout + done.stderr, flush=True)
            failed = 1
    return failed


if __name__ == "__main__":
    sys.exit(main())
