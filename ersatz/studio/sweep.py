"""Tidying: what crashes and full disks left behind, what was deleted long ago, and the room that is kept for the last word.

Everything here may be done at any time and by several at once: what is under way is younger than what is swept.
"""

from __future__ import annotations

import contextlib
import logging
import os
import shutil
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.utils import timezone

from ersatz.studio.models import OwnSample, Reference, Remake, SavedChain, SavedSound
from ersatz.studio.models.references import INCOMING
from ersatz.studio.models.sounds import sample_folder

log = logging.getLogger(__name__)
#: Deleted rows can be brought back for so long.
KEPT = timedelta(days=30)
#: Unfinished files that nobody has written to for so long are nobody's.
ABANDONED_S = 3600.0
#: Room that is given up on a full disk, so that a job's end can be written down.
RESERVE_BYTES = 4 * 1024 * 1024


def sweep(before: float | None = None) -> int:
    """Removes what is left of unfinished work, last touched before the time `before` (seconds since 1970; an hour ago where it
    isn't given). Gives how much was removed."""
    before = time.time() - ABANDONED_S if before is None else before
    count = 0
    for path in _left_over():
        with contextlib.suppress(OSError):
            if path.stat().st_mtime < before:
                shutil.rmtree(path) if path.is_dir() else path.unlink()
                count += 1
    keep_reserve()
    return count


def _left_over() -> Iterator[Path]:
    media = Path(settings.MEDIA_ROOT)
    yield from Path(settings.FILE_UPLOAD_TEMP_DIR).glob("*")
    yield from (media / INCOMING).glob("*")
    yield from Path(settings.RENDER_CACHE).glob("*/*.part")
    yield from Path(settings.RENDER_CACHE).glob("chunks/*/*.part")
    yield from (media / "exports").glob("*/part-*")
    yield from (media / "samples").glob("*/tmp*")
    yield from (media / "references").glob("*/tmp*")
    # Folders whose row was never kept, or is gone.
    for model, folder in ((Reference, media / "references"), (Remake, media / "exports")):
        rows = {str(pk) for pk in model.objects.values_list("pk", flat=True)}
        yield from (path for path in folder.glob("*") if path.name not in rows)


def purge() -> int:
    """Deletes for good what was deleted more than KEPT ago, files and all. Gives how many rows went."""
    gone = {"deleted_at__lt": timezone.now() - KEPT}
    count = 0
    # A reference takes its remakes with it: without it they can be neither seen nor measured.
    for remake in Remake.objects.filter(**gone) | Remake.objects.filter(reference__in=Reference.objects.filter(**gone)):
        folder = Path(settings.MEDIA_ROOT) / "exports" / str(remake.pk)
        remake.delete()
        shutil.rmtree(folder, ignore_errors=True)
        count += 1
    for reference in Reference.objects.filter(**gone):
        folder = reference.folder
        reference.delete()
        shutil.rmtree(folder, ignore_errors=True)
        count += 1
    for sample in OwnSample.objects.filter(**gone):
        sha = sample.sha
        sample.delete()
        if not OwnSample.objects.filter(sha=sha).exists():
            sample_folder().path(sha).unlink(missing_ok=True)
        count += 1
    for model in (SavedSound, SavedChain):
        count += model.objects.filter(**gone).delete()[0]
    return count


def _reserve() -> Path:
    return Path(settings.HOME) / "reserve"


def keep_reserve() -> None:
    """Takes the reserve up again where there is room."""
    path = _reserve()
    with contextlib.suppress(OSError):
        if not path.exists() and shutil.disk_usage(settings.HOME).free > 8 * RESERVE_BYTES:
            path.write_bytes(os.urandom(RESERVE_BYTES))


def give_up_reserve() -> bool:
    """Whether there was one to give up."""
    try:
        _reserve().unlink()
    except OSError:
        return False
    log.warning("the disk is full: the reserve is given up")
    return True
