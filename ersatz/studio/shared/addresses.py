"""Where a song is heard: everything that is rendered or measured of it lies beneath one address, which its content names."""

from __future__ import annotations

from django.urls import reverse


def song_address(remake_pk: int, sha: str) -> str:
    """Beneath it: FIRST-LAST.flac, with/CODE/, was/SHA/PART/, than/SHA/, strip/, send/, lanes/, fine/, meters/, reductions/,
    peaks/, clashes/ and note/."""
    return reverse("listen-remake", args=[remake_pk, sha, 1, 1]).removesuffix("1-1.flac")
