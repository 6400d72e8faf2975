"""Music that people made, with a ducking or an arrangement that is known to the sample: what the survey is judged on beside our own
generator; and that generator varied factor by factor. Made from the real set's folder once and kept outside the repository.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from bench.material.arranged import write_arranged
from bench.material.ducked import source_of_file, source_of_module, write_pieces
from bench.material.factorial import write_factorial
from bench.material.modules import fetch_modules, render_module

MODULE_SECONDS = 60.0
#: Names the set: another where kinds of pieces are added, so that folders made before get them.
COMPLETE = "complete 3"


def write_material(real: Path, truths: list[dict[str, Any]], folder: Path) -> None:
    """All pieces under `folder` ("ducked", "arranged", "factorial"), from the real set as its fetch.sh lays it under `real`."""
    if (folder / COMPLETE).exists():
        return
    modules = [m for path in fetch_modules(real) if (m := render_module(path, MODULE_SECONDS)) is not None]
    files = [source_of_file(real / t["file"], t) for t in truths if (real / t["file"]).exists()]
    write_pieces([*files, *(source_of_module(m) for m in modules)], folder / "ducked")
    write_arranged(modules, folder / "arranged")
    write_factorial(folder / "factorial")
    (folder / COMPLETE).touch()
