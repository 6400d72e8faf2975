"""Survey -> Song: a first remake that is complete enough to be listened to and changed.

`draft_song` writes it; balance/match.py solves levels, EQ, ducking and loudness against the reference by rendering.
"""

from ersatz.core.draft.build import draft_song, empty_song

__all__ = ["draft_song", "empty_song"]
