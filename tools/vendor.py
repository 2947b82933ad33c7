"""Refresh the front-end files that ship with the application.

Reads ``tools/vendor.toml``, fetches each package at its pinned version with ``npm pack`` and copies the listed files,
licence included, to ``cavrel/web/static/vendor/<name>/``. The manifest beside them names packages and versions.
"""

import json
import os
import shutil
import subprocess
import tarfile
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TARGET = ROOT / "cavrel" / "web" / "static" / "vendor"
NPM = os.environ.get("NPM", "npm").split()


def fetch(package: str, version: str, folder: Path) -> Path:
    """Unpack ``package`` at ``version`` into ``folder``; returns the folder its files lie in."""
    done = subprocess.run(
        [*NPM, "pack", "--silent", f"{package}@{version}"], cwd=folder, check=True, capture_output=True, text=True
    )
    with tarfile.open(folder / done.stdout.split()[-1]) as archive:
        archive.extractall(folder, filter="data")
    return folder / "package"


def main() -> None:
    wanted = tomllib.loads((ROOT / "tools" / "vendor.toml").read_text())
    manifest = []
    shutil.rmtree(TARGET, ignore_errors=True)
    for name, entry in wanted.items():
        with tempfile.TemporaryDirectory() as scratch:
            source = fetch(entry["package"], entry["version"], Path(scratch))
            licence = json.loads((source / "package.json").read_text())["license"]
            (TARGET / name).mkdir(parents=True)
            for file in entry["files"]:
                shutil.copyfile(source / file, TARGET / name / Path(file).name)
        manifest.append({"name": entry["package"], "version": entry["version"], "licence": licence, "folder": name})
        print(f"{entry['package']} {entry['version']} ({licence}): {len(entry['files'])} files")
    (TARGET / "manifest.json").write_text(json.dumps(manifest, indent=2) + "\n")


if __name__ == "__main__":
    main()
