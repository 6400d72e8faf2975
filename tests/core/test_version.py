"""The hash in the mixdown's keys covers all the code that a sample passes through."""

import ast
from pathlib import Path

import pytest

from ersatz.core.mixdown import version

PACKAGE = "ersatz.core."


def imported_by(path: Path) -> set[Path]:
    """Files of the core that a file imports, by its text alone."""
    out = set()
    for node in ast.walk(ast.parse(path.read_text())):
        names = []
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [node.module, *(f"{node.module}.{alias.name}" for alias in node.names)]
        elif isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        for name in names:
            if name.startswith(PACKAGE):
                place = version.CORE / name.removeprefix(PACKAGE).replace(".", "/")
                out |= {p for p in (place.with_suffix(".py"), place / "__init__.py") if p.is_file()}
    return out


def test_everything_that_the_mixdown_imports_is_in_the_hash():
    seen, todo = set(), [version.CORE / "mixdown" / "render.py"]
    while todo:
        path = todo.pop()
        if path not in seen:
            seen.add(path)
            todo += imported_by(path)
    assert len(seen) > 40
    silent = {version.CORE / "errors.py"}
    assert seen - set(version.sound_files()) - silent == set()


@pytest.mark.parametrize("name", ["effects/space.py", "voices/levels.json"])
def test_another_text_is_another_engine(monkeypatch, tmp_path, name):
    for path in version.sound_files():
        copy = tmp_path / path.relative_to(version.CORE)
        copy.parent.mkdir(parents=True, exist_ok=True)
        copy.write_bytes(path.read_bytes())
    monkeypatch.setattr(version, "CORE", tmp_path)
    before = version.engine.__wrapped__()
    assert before == version.engine()
    (tmp_path / name).write_bytes((tmp_path / name).read_bytes() + b" ")
    assert version.engine.__wrapped__() != before
