"""Gaps before boundaries, on rows of levels by beat, in any metre."""

import numpy as np
import pytest

from ersatz.core.survey.events import find_gap


@pytest.mark.parametrize("beats", [2, 3, 4, 5, 7])
def test_a_gap_is_found_in_any_metre_wherever_the_boundary_lies(beats):
    for boundary in range(3, 24):
        full = np.full((boundary + 4) * beats, -10.0)
        assert find_gap(full, boundary, beats) == []
        full[boundary * beats - 2 : boundary * beats] = -40.0
        found = find_gap(full, boundary, beats)
        # The first bars have nothing before them to tell a gap from the rhythm by.
        if (boundary - 4) * beats >= 2:
            assert [e.beats for e in found] == [2.0] and found[0].start_bar == pytest.approx(1 + boundary - 2 / beats)


def test_a_rhythms_own_quiet_beat_is_no_gap():
    full = np.tile([-10.0, -10.0, -10.0, -40.0], 20)
    assert find_gap(full, 12, 4) == []
