"""What the application writes is its owner's alone."""

import contextlib
import os
from pathlib import Path


def keep_private(home: Path) -> None:
    """Files made from now on are readable by their owner only, and so are the databases that were there."""
    os.umask(0o077)
    with contextlib.suppress(OSError):
        home.chmod(0o700)
        for path in (*home.glob("*.sqlite3*"), home / "secret_key"):
            if path.exists():
                path.chmod(0o600)
