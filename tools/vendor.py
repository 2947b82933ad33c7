"""Refresh the front-end files that ship with the application.

Reads ``tools/vendor.toml``, fetches each package at its pinned version with ``npm pack`` and copies the listed files,
licence included, to ``cavrel/web/static/vendor/<name>/``. The manifest next to them names packages and versions. Of a font that lists
``characters`` only those are kept.
"""

import json
import os
import shutil
import subprocess
import tarfile
import tempfile
import tomllib
from pathlib import Path

from fontTools import subset

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


def keep_characters(font: Path, ranges: list[str]) -> None:
    """Rewrite a font with the characters in ``ranges``, such as ``370-3FF``, and everything its mathematics table builds from them."""
    wanted = [span.partition("-") for span in ranges]
    codes = [code for low, _, high in wanted for code in range(int(low, 16), int(high or low, 16) + 1)]
    options = subset.Options(flavor="woff2", layout_features=["*"], hinting=False, notdef_outline=True)
    with subset.load_font(str(font), options) as loaded:
        subsetter = subset.Subsetter(options)
        subsetter.populate(unicodes=codes)
        subsetter.subset(loaded)
        subset.save_font(loaded, str(font), options)


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
                if file.endswith(".woff2") and "characters" in entry:
                    keep_characters(TARGET / name / Path(file).name, entry["characters"])
        manifest.append({"name": entry["package"], "version": entry["version"], "licence": licence, "folder": name})
        print(f"{entry['package']} {entry['version']} ({licence}): {len(entry['files'])} files")
    (TARGET / "manifest.json").write_text(json.dumps(manifest, indent=2) + "\n")


if __name__ == "__main__":
    main()
