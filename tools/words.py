"""Words that are not to come back: part of lint. Each has the word to use instead.

What is stored keeps its keys (`run:cupboard`, `foreseen`), so that documents and databases of earlier versions are read; migrations and the
addresses of earlier versions (`web/former.py`) name them too.
"""

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
INSTEAD = {
    r"(?i)(?<![a-z])noughts?(?![a-z])": "zero",
    r"(?<![a-z])foret(?:old|ells?)(?![a-z])": "predicted, predict",
    r"\bfores(?:aw|ees)\b": "predicted, predicts",
    r"\bput away\b": "archived",
    r"(?<![a-z])work(?:ed|ing|s)?[ _]out(?![a-z])": "compute",
    r"\btak(?:e|en|es|ing) along\b": "export",
    r"\b(?:brings?|brought|bringing) in\b": "import",
    r"(?<!run:)(?<!cavrel-)\b[Cc]upboards?\b(?!\.json)(?!\")": "laboratory",
    r"\bon the [Ss]helf\b|\bShelf\b": "experiments",
    r"\bStraighten(?:ed)?\b": "Fit",
    r"\bJudge\b(?! the)": "Result",
    r"\bstand-ins?\b": "simulation",
    r"\bfellows\b": "other trials",
    r"\bsuspicions?\b": "to check",
    r"[Ww]hat can hurt\b": "Safety",
    r"\b[Ss]o be it\b|\bIt stands\b": "Apply, Keep",
    r"[Bb]ehind the bench\b": "Instructor's view",
    r"[Pp]age for page\b(?! in)": "Print preview",
    r"\bgiven back\b|\b[Gg]ive it back\b": "returned, Return to bench",
    r"\bkept here\b": "saved on this device",
    r"\btoo early\b|\bToo early\b": "not yet, needs ...",
    r"\bNothing collides\b": "No clashes",
    r"\bapparatus on the screen\b|\bone on the screen\b": "simulated apparatus",
    r"\bPushes\b|\blanes\b": "Perturbations, perturbation columns",
    r"\b(?:in_force|work_out|freedom_behind)\b": "effective, compute, variance_dof",
}
BESIDE = re.compile(r"\bbeside\b(?!\"|')")
"""Where a thing lies next to another, and where two numbers are compared; in forms of report it is a key of what is stored."""
LEFT_OUT = (
    "tools/circuits.py",
    "migrations/",
    "static/vendor/",
    "web/former.py",
    "tools/words.py",
    "tests/web/test_former.py",
    ".lock",
    "requirements",
)


def main() -> int:
    """Print each place with a word of the list; 1 where there is one."""
    listed = subprocess.run(
        ["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout
    patterns = [(re.compile(pattern), instead) for pattern, instead in INSTEAD.items()]
    found = 0
    for name in listed.splitlines():
        path = ROOT / name
        if (
            any(part in name for part in LEFT_OUT)
            or path.suffix in (".png", ".woff2", ".dat", ".svg")
            or not path.is_file()
        ):
            continue
        for number, line in enumerate(path.read_text(encoding="utf-8", errors="replace").splitlines(), 1):
            hits = [(m.group(), instead) for pattern, instead in patterns for m in pattern.finditer(line)]
            if path.suffix in (".py", ".js", ".html", ".toml", ".css") and "templates/report" not in name:
                hits += [(m.group(), "next to, compared with") for m in BESIDE.finditer(line)]
            for word, instead in hits:
                print(f"{name}:{number}: “{word}”: say {instead}")
                found += 1
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
