"""The your-own meter: what a recording plays is heard, and told from what it doesn't play."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.audio import Audio
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.own import hear, measure_own, varied
from ersatz.core.own.cuts import cut_from
from ersatz.core.own.drums import drums_taken, kappa
from ersatz.core.own.heard import LOW_MIDI
from ersatz.core.own.match import match_line
from ersatz.core.own.meter import is_commonest, measure_line, root_of
from ersatz.core.own.plan import plan_taken
from ersatz.core.own.played import Stretch, chords, stretches
from ersatz.core.samples import Sample
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.survey.document import DrumPattern
from tests.signals import RATE
from tests.tunes import BARS, CHORDS, GRID, OTHER, STEP_TICKS, TUNE, playing, recording


@pytest.fixture(scope="module")
def heard():
    return hear(recording(TUNE), GRID)


def a_stretch(tune):
    steps, midi = (np.array(column) for column in zip(*tune))
    return Stretch("lead", steps, midi, (1,))


def share(tune, heard):
    return match_line(a_stretch(tune), heard, np.random.default_rng(0)).share


def test_notes_alone_are_heard_where_they_begin():
    heard = hear(recording(TUNE, chord=0.0, drums=False), GRID)
    assert heard.bars == BARS
    for step, midi in TUNE:
        assert LOW_MIDI + int(heard.begins[step].argmax()) == midi, step
    silent = [step for step in range(64) if step not in {s for s, _ in TUNE}]
    assert heard.begins[silent].max(axis=1).mean() < 0.35


def test_pitch_classes_of_bars_are_those_of_the_chords(heard):
    for bar, chord in enumerate(CHORDS):
        loudest = set(np.argsort(heard.sounds[bar])[-5:].tolist())
        assert {n % 12 for n in chord} <= loudest
    assert np.allclose(heard.sounds.mean(axis=1), 0, atol=1e-6)


def test_silence_and_less_than_a_bar_are_heard_as_nothing():
    silent = hear(Audio(np.zeros((2, 8 * RATE), np.float32), RATE), GRID)
    assert not silent.begins.any() and not silent.sounds.any()
    assert share(TUNE, silent) == 0
    assert hear(Audio(np.zeros((2, RATE // 2), np.float32), RATE), GRID).bars == 0
    assert share(TUNE, hear(Audio(np.zeros((2, RATE // 2), np.float32), RATE), GRID)) == 0


@pytest.mark.parametrize("semitones", [0, 5, -7, 12])
def test_a_copy_in_any_key_reads_one(heard, semitones):
    found = match_line(a_stretch([(s, m + semitones) for s, m in TUNE]), heard, np.random.default_rng(0))
    assert found.share == 1
    assert found.semitones == -semitones
    assert found.bars == (1, 5, 9, 13)


def test_a_copy_at_half_speed_reads_one():
    slow = hear(recording(TUNE, stretch=2), GRID)
    assert share(TUNE, slow) == 1


def test_other_tunes_of_the_same_scale_read_near_nothing(heard):
    rng = np.random.default_rng(5)
    scale = np.array([67, 68, 70, 72, 74, 75, 77, 79])
    others = [share([(s, int(m)) for s, m in zip(sorted(rng.choice(64, 16, replace=False)), rng.choice(scale, 16))], heard)
              for _ in range(20)]  # fmt: skip
    assert share(OTHER, heard) < 0.1
    assert np.mean(others) < 0.1 and np.max(others) < 0.6


def test_the_same_rhythm_with_other_notes_is_no_copy(heard):
    turned = [(s, 150 - m) for s, m in TUNE]
    assert share(turned, heard) < 0.3


def test_a_tune_of_a_song_is_found_where_it_plays(song, club_survey, heard):
    found = measure_line("Hook", playing(song, "lead", TUNE), heard)
    assert found.share == 1
    assert [p.bar for p in found.passages] == list(range(1, song.bars + 1, 4))
    assert measure_line("Hook", playing(song, "lead", OTHER), heard).share < 0.1
    muted = replace(song, parts=tuple(replace(p, mute=p.role == "lead" or p.mute) for p in song.parts))
    assert measure_line("Hook", muted, heard).share is None


def test_half_a_copy_reads_half(song, heard):
    both = playing(song, "lead", TUNE)
    part = both.parts[-1]
    other = Pattern(4, tuple(Note(s * STEP_TICKS, 200, m, 0.8) for s, m in OTHER))
    bars = song.bars
    half = [s.id for s in song.sections[: len(song.sections) // 2]]
    own_bars = sum(s.bars for s in song.sections if s.id in half)
    cells = tuple(replace(c, pattern="B" if c.section in half else "A") for c in part.cells)
    mixed = replace(both, parts=(*both.parts[:-1], replace(part, patterns={**part.patterns, "B": other}, cells=cells)))
    assert measure_line("Hook", mixed, heard).share == pytest.approx(1 - own_bars / bars, abs=0.06)


def test_a_bass_on_the_roots_is_judged_with_the_chords(song, heard):
    roots = [(16 * bar + step, root) for bar, root in enumerate((36, 32, 29, 31)) for step in (2, 6, 10, 14)]
    found = measure_line("Bass line", playing(song, "bass", roots), heard)
    assert found.share is None and "roots" in found.said


def test_chords_are_told_from_others_in_any_key(song, club_survey, heard):
    def read(progression):
        notes = [(16 * bar, note) for bar, chord in enumerate(progression) for note in chord]
        held = playing(song, "chords", notes)
        long = {k: replace(p, notes=tuple(replace(n, ticks=3800) for n in p.notes)) for k, p in held.parts[-1].patterns.items()}
        return measure_own(replace(held, parts=(*held.parts[:-1], replace(held.parts[-1], patterns=long))), club_survey, heard)

    assert read(CHORDS).facet("Chords").share > 0.9
    assert read([[n + 3 for n in chord] for chord in CHORDS]).facet("Chords").share > 0.9
    other = ((48, 51, 55), (46, 50, 53), (51, 55, 58), (50, 53, 56))
    assert read(other).facet("Chords").share < 0.3
    common = ((48, 51, 55), (56, 60, 63), (51, 55, 58), (58, 62, 65))
    assert read(common).facet("Chords").share is None


def test_the_commonest_progressions_are_known_in_any_rotation_and_key():
    def triads(*roots):
        return [frozenset(((r % 12), (r + 3) % 12, (r + 7) % 12)) for r in roots]

    assert is_commonest(triads(9, 5, 0, 7)) and is_commonest(triads(0, 7, 9, 5)) and is_commonest(triads(2, 10, 5, 12))
    assert not is_commonest(triads(0, 1, 5, 7))
    assert root_of(frozenset((0, 3, 7))) == 0 and root_of(frozenset((0, 4, 9))) == 9 and root_of(frozenset((0, 3, 7, 10))) == 0


def drummed(survey, kick, clap=(4, 12), hats=(2, 6, 10, 14)):
    def row(steps):
        return tuple(1.0 if s in steps else 0.0 for s in range(16))

    timing = survey.drums.patterns[0].timing_ms
    pattern = DrumPattern(survey.main_section(), 16, row(kick), row(clap), row(hats), timing)
    return replace(survey, drums=replace(survey.drums, patterns=(pattern,)))


def test_drums_count_where_convention_leaves_them_free(song, club_survey):
    broken = drummed(club_survey, (0, 3, 10), clap=(4, 7, 12))

    def played(kick, clap):
        bars = [(16 * bar + s, 36) for bar in range(4) for s in kick]
        with_kick = playing(song, "kick", bars)
        return playing(with_kick, "clap", [(16 * bar + s, 60) for bar in range(4) for s in clap])

    same = drums_taken(played((0, 3, 10), (4, 7, 12)), broken)
    assert same.share == 1 and len(same.bars) == song.bars
    assert drums_taken(played((0, 5, 14), (4, 9, 12)), broken).share < 0.2
    assert drums_taken(played((0, 4, 8, 12), (4, 12)), broken).share is None


def test_agreement_beyond_chance():
    assert kappa((True, False, True, False), (True, False, True, False)) == 1
    assert kappa((True, True, False, False), (True, False, True, False)) == 0
    assert kappa((True, True), (True, True)) == 0


def test_an_arrangement_is_taken_over_from_three_sections_in_a_row_on(song, club_survey):
    plan = tuple(replace(s, label=label, bars=bars) for s, (label, bars) in zip(
        song.sections * 4, (("intro", 8), ("drop", 16), ("breakdown", 4), ("outro", 4))))  # fmt: skip
    first = club_survey.sections[0]

    def theirs(*plan):
        at, out = 1, []
        for label, bars in plan:
            out.append(replace(first, label=label, start_bar=at, bars=bars))
            at += bars
        return replace(club_survey, sections=tuple(out))

    mine = replace(song, sections=plan)
    assert plan_taken(mine, theirs(*((s.label, s.bars) for s in plan)))[0] == 1
    assert plan_taken(mine, theirs(("build", 8), ("intro", 8), ("drop", 16)))[0] == 0
    assert plan_taken(mine, theirs(("build", 8), ("drop", 16), ("breakdown", 4), ("outro", 4)))[0] == pytest.approx(24 / 32)


def test_a_sample_cut_from_the_reference_is_named_with_its_place(song):
    reference = recording(TUNE)
    start = round(5.3 * RATE) + 3
    cut, other = reference.samples[:, start : start + RATE // 2], recording(OTHER, seed=9).samples[:, start : start + RATE // 2]
    kept = {"cut": Sample("cut", Audio(0.3 * cut, RATE)), "other": Sample("other", Audio(other, RATE))}

    def with_sample(sha):
        part = song.parts[0]
        return replace(song, parts=(replace(part, sound=replace(part.sound, voice="sample", samples={"sample": sha})),))

    found = cut_from(with_sample("cut"), kept.get, lambda: reference)
    assert [part for part, _ in found] == [song.parts[0].id]
    assert found[0][1] == pytest.approx(start / RATE, abs=0.001)
    assert cut_from(with_sample("other"), kept.get, lambda: reference) == ()
    assert cut_from(with_sample("gone"), kept.get, lambda: reference) == ()


def test_takes_move_away_from_the_reference(song, club_survey, heard):
    copied = playing(song, "lead", TUNE)
    own = measure_own(copied, club_survey, heard)
    found = [v for v in varied(copied, own, heard) if v.facet == "Hook"]
    assert [(v.pattern, len(v.takes)) for v in found] == [("A", 3)]
    assert len({str(take.edit["notes"]) for take in found[0].takes}) == 3
    assert all(take.share < 0.4 for take in found[0].takes)
    assert varied(copied, own, heard) == varied(copied, own, heard)


def test_a_rendered_song_is_heard_in_its_own_mix(song, club_survey):
    """By way of our own voices: the hook that a mix plays is found in it, another song's isn't."""
    mine = playing(song, "lead", TUNE)
    mine = replace(mine, parts=tuple(replace(p, gain_db=p.gain_db + (8 if p.role == "lead" else 0)) for p in mine.parts))
    heard = hear(Mixdown(mine).whole(), mine.grid, mine.swing_percent)
    assert measure_line("Hook", mine, heard).share > 0.8
    assert measure_line("Hook", playing(song, "lead", OTHER), heard).share < 0.2


def test_what_a_song_plays_is_read_as_it_sounds(song):
    held = chords(song)
    assert len(held) == song.bars and any(held)
    for stretch in stretches(song, "lead"):
        assert stretch.steps.min() >= 0 and stretch.steps.max() < 64
        assert all(1 <= bar <= song.bars for bar in stretch.bars)
