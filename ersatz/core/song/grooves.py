"""Grooves to start from: timing of the 16ths of a bar in ms, and swing. The reference's own outranks them."""

from ersatz.core.song.parts import Groove


def _late(ms: dict[int, float]) -> tuple[float, ...]:
    """By 0-based 16ths."""
    return tuple(ms.get(k, 0.0) for k in range(16))


#: On the grid; swung 16ths; a backbeat laid back; off-beats that push; everything a little behind but the first; a played break.
GROOVES = (
    Groove("Straight", (), 50.0),
    Groove("Swing 54", (), 54.0),
    Groove("Swing 58", (), 58.0),
    Groove("Swing 62", (), 62.0),
    Groove("Late backbeat", _late({4: 12.0, 12: 14.0})),
    Groove("Pushed off-beats", _late({2: -7.0, 6: -7.0, 10: -7.0, 14: -8.0})),
    Groove("Leaning back", _late({k: 6.0 + (k % 4) for k in range(1, 16)})),
    Groove("Played break", _late({
        1: 6.0, 2: -4.0, 3: 9.0, 4: 5.0, 6: -3.0, 7: 11.0, 9: 4.0, 10: -6.0, 11: 8.0, 12: 7.0, 14: -5.0, 15: 12.0,
    })),
)  # fmt: skip
