"""Second phrases: another end, nothing else changed; and no draft stands still."""

import random

import pytest

from ersatz.core.draft import draft_song, patterns, phrases
from ersatz.core.draft.variation import standstills
from ersatz.core.pitch import Key
from ersatz.core.styles import STYLES
from ersatz.core.target.from_style import target_of_style

KEY = Key("C", "minor")
DEGREES = (0, 5, 3, 4)


def bars(pattern):
    return [[(n.tick % patterns.BAR, n.midi, n.velocity, n.repeats) for n in pattern.notes if n.tick // patterns.BAR == k]
            for k in range(pattern.bars)]  # fmt: skip


def made(style, seed):
    rng = random.Random(seed)
    yield "kick", patterns.kick_pattern(style, (), rng), "kick"
    yield "clap", patterns.backbeat_pattern(style, rng), "clap"
    yield "hats", patterns.closed_hats(rng), "hats"


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_drums_differ_in_the_last_bar_alone(style, seed):
    for name, pattern, role in made(style, seed):
        twice = phrases.drums(pattern, role, random.Random(seed))
        if twice is pattern:
            continue
        once, found = bars(pattern), bars(twice)
        assert found[:15] == [*once, *once[:7]], name
        assert found[15] != once[7] or role == "clap", name
        assert all(0 <= n.tick < 16 * patterns.BAR for n in twice.notes)


def test_a_bass_goes_by_the_scale_to_where_it_begins():
    for seed in range(20):
        style = STYLES[seed % len(STYLES)]
        pattern = phrases.bass(patterns.bass_pattern(style, KEY, DEGREES, 31, random.Random(seed)), KEY)
        last = [n for n in pattern.notes if n.tick >= phrases.LEADS_FROM]
        assert len(last) == 2 and all(n.midi % 12 in KEY.pitch_classes for n in last)
        assert abs(last[-1].midi - pattern.notes[0].midi) <= 2
        assert abs(last[0].midi - last[1].midi) <= 3
        for a, b in zip(pattern.notes, pattern.notes[1:]):
            assert a.tick + a.ticks <= b.tick or a.tick < b.tick < phrases.LEADS_FROM


def test_the_chords_of_eighth_bars_are_struck_again_with_the_same_notes():
    pad = patterns.pad_pattern(patterns.voicings(KEY, DEGREES))
    pattern = phrases.chords(pad)
    for bar, steps in ((7, (0, 12)), (15, (0, 8, 12)), (3, (0,)), (11, (0,))):
        inside = [n for n in pattern.notes if n.tick // patterns.BAR == bar]
        assert sorted({n.tick % patterns.BAR // patterns.STEP for n in inside}) == list(steps)
        assert {n.midi for n in inside} == {n.midi for n in pad.notes if n.tick // patterns.BAR == bar % 8}
        for a, b in zip(steps, (*steps[1:], 16)):
            assert all(n.ticks <= (b - a) * patterns.STEP for n in inside if n.tick % patterns.BAR == a * patterns.STEP)


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_no_untouched_draft_stands_still(style):
    for seed in (1, 2):
        song = draft_song(target_of_style(style.name).typical, seed, style.name)
        assert [s.said for s in standstills(song)] == []


def test_nor_does_one_of_a_measured_track(club_survey):
    for seed in range(5):
        assert standstills(draft_song(club_survey, seed)) == ()
