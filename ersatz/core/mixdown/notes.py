"""The parts' notes, rendered and laid out bar by bar, before any effect.

Where the notes lie is worked out once for a part as it is and remembered in the cache: most edits leave most parts alone.
"""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from ersatz.core.dsp import filters
from ersatz.core.dsp.convolution import convolved
from ersatz.core.dsp.levels import panned
from ersatz.core.effects import eq, space
from ersatz.core.effects.chain import settings_of
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.graph import Inputs, Kept, Node, fingerprint
from ersatz.core.mixdown.schedule import Event, choke, schedule_part
from ersatz.core.mixdown.values import Values
from ersatz.core.samples import Samples
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song, digest
from ersatz.core.song.parts import Part, Sound
from ersatz.core.song.strips import VOICE
from ersatz.core.targets import moves_inside_a_note
from ersatz.core.transitions.spec import StagedPart, versions_of
from ersatz.core.voices import complete, gone, has_takes, render_patch, song_round_beats, voice_of
from ersatz.core.voices.spec import Patch, Played

#: A choked hit is faded over this many samples.
CHOKE_FADE = 132
#: Of a part's notes the keys behind so many chains are remembered.
CHAINS = 8
#: A swell is made of a note held this long, and fades out over this much at its end.
SWELL_HELD, SWELL_FADE = 22_050, 220


@dataclass(frozen=True)
class _Traits:
    """What of a note counts for a part's sound: `settings` is a hash of everything that shapes it; `round_beats` 0 where it doesn't
    regard its place in the song."""

    settings: str
    pitched: bool
    held: bool
    takes: bool
    round_beats: float


def _traits_of(sound: Sound, settings: str) -> _Traits:
    voice = voice_of(sound)
    return _Traits(settings, voice.pitched, voice.pitched or voice.held, has_takes(sound), song_round_beats(sound))


@dataclass(frozen=True)
class _Laid:
    """A part's events in order, the ones that can sound in each bar, and the keys of the bars that were asked for: of the notes,
    and behind a chain by all that decides what it makes of them, None where that is silent."""

    events: list[Event]
    by_bar: dict[int, list[Event]]
    keys: dict[int, str]
    behind: dict[Hashable, dict[int, str | None]]


class Notes:
    """Notes of every part of a song."""

    def __init__(self, song: Song, bars: Bars, cache: RenderCache, samples: Samples):
        self._song, self._bars, self._cache, self._samples = song, bars, cache, samples
        self._laid: dict[str, _Laid] = {}
        self._nodes: dict[tuple[str, int], Node] = {}
        self._made: dict[int, Node] = {}
        self._alike: dict[Hashable, Node] = {}
        self._hits: dict[str, np.ndarray] = {}
        self._lengths: dict[tuple[str, int, int, float], int] = {}
        self._patches: dict[str, Patch] = {}
        self.values = Values(song, bars, self.hits)

    def events(self, part: Part) -> list[Event]:
        """In order of start, hits of a choke group cut."""
        return self._of(part).events

    def hits(self, part: Part) -> np.ndarray:
        """Song samples at which the part has notes, in order."""
        if part.id not in self._hits:
            self._hits[part.id] = np.array([e.start for e in self.events(part)], np.int64)
        return self._hits[part.id]

    def keys_behind(self, part: Part, chain: Hashable) -> dict[int, str | None]:
        """Keys of the bars of a part behind a chain, None where it is silent, as far as they were asked for in songs in which it
        plays the same; to be added to. `chain`: everything beside the notes that decides them."""
        behind = self._of(part).behind
        if chain not in behind and len(behind) >= CHAINS:
            # Another thread may take the same one.
            behind.pop(next(iter(behind)), None)
        return behind.setdefault(chain, {})

    def made_of(self, part: Part) -> Hashable:
        """Everything that a part's notes depend on."""
        # Of the sounds that cut it only the times count, but their lines may be joined, which their sounds decide.
        swells = isinstance(part, StagedPart) and any(p.swell for p in part.placed)
        space = self._swell_space if swells else None
        return (part.id, self._traits[part.id].settings, tuple(self._plan(p) for p in self._group(part)), space, self._moving(part))

    def _moving(self, part: Part) -> Hashable:
        """What moves the voice: no part of where notes lie, but of their keys."""
        drawn = tuple(a for a in part.automation if a.device == VOICE)
        moving = self.values.modulators_of(part, VOICE)
        hit = tuple(self._plan(owner) for _, owner, _ in moving if isinstance(owner, Part))
        return (drawn, tuple((m, amount) for m, _, amount in moving), hit)

    def _group(self, part: Part) -> list[Part]:
        """The parts whose hits cut each other with this one's."""
        return [p for p in self._song.parts if p.choke == part.choke] if part.choke else [part]

    def _of(self, part: Part) -> _Laid:
        if part.id not in self._laid:
            self._laid[part.id] = self._cache.remembered(("laid", self.made_of(part)), lambda: self._lay(part))
        return self._laid[part.id]

    def _plan(self, part: Part) -> Hashable:
        """Everything that decides where a part's notes lie."""
        song = self._song
        sections = tuple((s.id, s.bars, song.gap_beats(s.id)) for s in song.sections)
        line = voice_of(part.sound).line(part.sound)
        # A sound may hold what can't be hashed; staged cells have none.
        cells = tuple((c.section, c.pattern, c.on, c.entry_bars, c.exit_bars, c.fill, c.fill_bars) for c in part.cells)
        placed = (part.placed, part.rests, part.gaps) if isinstance(part, StagedPart) else ()
        patterns = tuple(sorted(part.patterns.items()))
        followed = tuple(self._plan(p) for p in versions_of(part.follows.part, song)) if part.follows else ()
        return (
            song.grid,
            song.swing_percent,
            sections,
            part.id,
            patterns,
            cells,
            line,
            part.groove,
            placed,
            part.follows,
            followed,
        )

    def _lay(self, part: Part) -> _Laid:
        lines = {p.id: schedule_part(self._song, p, RATE_HZ) for p in self._group(part)}
        events = (choke(lines) if part.choke else lines)[part.id]
        by_bar: dict[int, list[Event]] = {}
        for event in events:
            end = event.start + (self._length(part, event) if event.cut is None else event.cut + CHOKE_FADE)
            bar = event.bar
            while self._bars.edge(bar) < end:
                by_bar.setdefault(bar, []).append(event)
                bar += 1
        return _Laid(events, by_bar, {}, {})

    def _length(self, part: Part, event: Event) -> int:
        """Samples that a note sounds at most."""
        if event.swell:
            return event.length
        what = (part.id, event.length, event.midi, event.semitones)
        if what not in self._lengths:
            voice, patch = voice_of(part.sound), self._patch(part)
            seconds = voice.sounds_s(patch, event.length / RATE_HZ, event.midi, self._song.bpm, event.semitones)
            self._lengths[what] = int(seconds * RATE_HZ) + 2
        return self._lengths[what]

    def _patch(self, part: Part) -> Patch:
        if part.id not in self._patches:
            self._patches[part.id] = complete(part.sound, self._samples)
        return self._patches[part.id]

    @cached_property
    def _traits(self) -> dict[str, _Traits]:
        out = {}
        for p in self._song.parts:
            sound = to_json(p.sound)
            sound.pop("name")
            # Synced LFOs follow the tempo, and so do samples that are fitted to it.
            tempo = self._song.bpm if p.sound.modulations or p.sound.samples else 0
            # One that is gone is silence only until it is back.
            settings = digest([sound, p.low_cut_hz, p.high_cut_hz, tempo, gone(p.sound, self._samples)])
            out[p.id] = self._cache.remembered(("traits", settings), partial(_traits_of, p.sound, settings))
        return out

    # One note ---------------------------------------------------------------------------------------------------

    def _played(self, part: Part, event: Event) -> Played:
        """The note as the voice needs it, without what the voice doesn't regard: equal notes are rendered once."""
        traits, beat = self._traits[part.id], 0.0
        if traits.round_beats > 0:
            grid = self._song.grid
            inside = (event.start - self._bars.edge(event.bar)) / RATE_HZ / grid.beat_s
            beat = round(event.bar * grid.beats_per_bar + inside, 4) % traits.round_beats
        return Played(
            event.midi if traits.pitched else 0,
            0 if not traits.held else min(event.length, SWELL_HELD) if event.swell else event.length,
            round(event.velocity * 32) / 32,
            RATE_HZ,
            self._song.bpm,
            beat,
            tuple((int(at), semitones) for at, semitones in event.bend),
            event.variant if traits.takes else 0,
            event.semitones,
            self._moved(part, event),
        )

    def _moved(self, part: Part, event: Event) -> dict[str, np.ndarray]:
        """Values of the voice over a note, every CONTROL samples; one figure where a value stands all through it."""
        names = self.values.moves(part, VOICE)
        if not names:
            return {}
        voice, start, out = voice_of(part.sound), event.start - self._bars.edge(event.bar), {}
        for param in (p for p in voice.params if p.name in names):
            inside = moves_inside_a_note(part, param)
            curve = self.values.control(part, VOICE, param.name, event.bar, -start, self._length(part, event) if inside else 1)
            out[param.name] = curve if inside and np.any(curve != curve[0]) else curve[:1]
        return out

    def _note(self, part: Part, event: Event) -> Node:
        # By identity: `_laid` holds the events. A note is asked for in each bar that it sounds in, for its key and its samples.
        known = self._made.get(id(event))
        if known is None:
            known = self._made[id(event)] = self._make(part, event) if self._has_place(part) else self._like(part, event)
        return known

    def _has_place(self, part: Part) -> bool:
        """Whether where a note stands in the song counts for how it sounds."""
        return self._traits[part.id].round_beats > 0 or bool(self.values.moves(part, VOICE))

    def _like(self, part: Part, event: Event) -> Node:
        """The node of all notes of a part that are written alike."""
        e = event
        written = (part.id, e.length, e.midi, e.velocity, e.variant, e.bend, e.semitones, e.swell)
        if written not in self._alike:
            self._alike[written] = self._make(part, event)
        return self._alike[written]

    def _make(self, part: Part, event: Event) -> Node:
        p = self._played(part, event)
        backwards = (event.length, self._swell_space) if event.swell else None
        # The tempo is in the part's settings where it counts.
        moved = [(name, fingerprint(curve)) for name, curve in p.moved.items()]
        what = (p.midi, p.held, p.velocity, p.variant, p.beat, p.bend, p.semitones, backwards, moved)
        # Long notes are dear to compute and to keep.
        kept: Kept = "disk" if p.held > RATE_HZ // 2 or event.swell else "memory"

        def compute(inputs: Inputs) -> np.ndarray:
            return self._render(part, event, p)

        return Node("note", (self._traits[part.id].settings, what), lambda: (), compute, kept)

    @cached_property
    def _swell_space(self) -> space.Reverb:
        """The song's reverb."""
        found = self._song.return_with("reverb")
        return space.reverb_of(settings_of(found[1])) if found else space.Reverb()

    def _backwards(self, note: np.ndarray, length: int) -> np.ndarray:
        """A note in the song's reverb, turned round and cut to `length`: it grows and breaks off where the note would begin."""
        rings = space.reverb_response(self._swell_space, RATE_HZ).shape[1]
        dry = np.pad(note, ((0, 0), (0, rings)))
        wet = convolved(dry, space.parts_of_reverb(self._swell_space, RATE_HZ))
        out = np.zeros((2, length))
        whole = (0.4 * dry + 0.6 * wet)[:, :length]
        out[:, : whole.shape[1]] = whole * np.linspace(1, 0, length)[: whole.shape[1]] ** 0.5
        out[:, :SWELL_FADE] *= np.linspace(0, 1, SWELL_FADE)[:length]
        return out[:, ::-1]

    def _render(self, part: Part, event: Event, played: Played) -> np.ndarray:
        note = render_patch(part.sound, self._patch(part), played)
        sections = []
        if part.low_cut_hz > 0:
            sections.append(eq.low_cut(part.low_cut_hz, RATE_HZ))
        if part.high_cut_hz > 0:
            sections.append(eq.high_cut(part.high_cut_hz, RATE_HZ))
        if sections:
            # Linear, and therefore done once per note, where repetition is.
            note = filters.cascade(np.concatenate(sections), note)
        if event.swell:
            note = self._backwards(note, event.length)
        return np.ascontiguousarray(note, np.float32)

    # A bar of them ----------------------------------------------------------------------------------------------

    def node(self, part: Part, bar: int) -> Node | None:
        """The part's notes laid out in a bar; None where nothing is played."""
        laid = self._of(part)
        if bar not in laid.by_bar:
            return None
        known = self._nodes.get((part.id, bar))
        if known is None:
            events, key = laid.by_bar[bar], laid.keys.get(bar)

            def compute(inputs: Inputs) -> np.ndarray:
                return self._lay_out(events, inputs, bar)

            places = None if key else self._places(events, bar)
            node = Node("notes", places, lambda: [self._note(part, e) for e in events], compute, "quick", key)
            laid.keys[bar] = node.key
            known = self._nodes[part.id, bar] = node
        return known

    def _places(self, events: list[Event], bar: int) -> Hashable:
        """What a bar of notes is made of beside the notes."""
        edge = self._bars.edge(bar)
        return self._bars.length(bar), tuple((e.start - edge, e.cut, e.pan, e.level) for e in events)

    def forget(self) -> None:
        """Lets go of the nodes."""
        self._nodes.clear()
        self._made.clear()

    def _lay_out(self, events: list[Event], notes: Inputs, bar: int) -> np.ndarray:
        start, out = self._bars.edge(bar), self._bars.silence(bar)
        n = out.shape[1]
        for event, note in zip(events, notes):
            if event.cut is not None and event.cut < note.shape[1]:
                end = min(event.cut + CHOKE_FADE, note.shape[1])
                note = note[:, :end].copy()
                note[:, event.cut :] *= np.linspace(1, 0, CHOKE_FADE, dtype=np.float32)[: end - event.cut]
            if event.pan or event.level:
                note = note * _gains(event, note.shape[1])
            begin, end = max(event.start, start), min(event.start + note.shape[1], start + n)
            if begin < end:
                out[:, begin - start : end - start] += note[:, begin - event.start : end - event.start]
        return out


def _gains(event: Event, n: int) -> np.ndarray:
    """Of both sides over a note's n samples, by its pan and its level, shape (2, n) or (2, 1)."""
    level: float | np.ndarray = 0.0
    if event.level:
        places, heights = zip(*event.level)
        level = np.interp(np.arange(n), places, heights)
    return panned(event.pan, level).astype(np.float32)
