"""The mixdown, bar by bar: hit -> voice -> part -> bus -> returns -> tone -> level -> master, in this order.

Conventions: RATE_HZ; a bar's block runs from its bar line to the next (0-based `bar`; lengths differ by one sample where the bar
has no whole number of them); every node gives float32 of shape (2, samples of the bar) and is a pure function of its key.
Positions in keys are counted from the bar line, so that a bar that comes again is computed once: club music repeats.

Every process remembers a bounded stretch only (notes with their tails, impulse responses of finite length, effects run from their
reach in front of the bar), so any range of a song is the same samples as that range of the whole.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from functools import cached_property, partial
from threading import Event
from typing import Any

import numpy as np
from scipy import fft

from ersatz.core.audio import Audio
from ersatz.core.effects import eq, limiter, space
from ersatz.core.effects.chain import period_beats, reach_s, run_chain
from ersatz.core.effects.ducking import duck_curve_db
from ersatz.core.effects.spec import Where
from ersatz.core.mixdown import automation
from ersatz.core.mixdown import schedule as scheduled
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.schedule import duck_triggers, schedule
from ersatz.core.serial import to_json
from ersatz.core.song.document import BUSES, Automation, Effect, Master, Part, Song, digest
from ersatz.core.voices import has_takes, render_note, song_round_beats, voice_of
from ersatz.core.voices.spec import Played

RATE_HZ = 44_100
#: Filters of the master are started this early: over ten time constants of its narrowest low band.
CONTEXT = 16_384
#: After the last bar the tails ring out this long at the most.
TAIL_S = 6.0
#: Raised when what a node computes changes, so that nothing stale is read from disk.
ENGINE = 4
WORKERS = 2
#: Seconds between two reports of progress.
PROGRESS_S = 0.2
SILENT_SEND_DB = -59.0
#: A change of level from one bar to the next is made over this much of the end of the first, so that the bar line has the new one.
LEVEL_RAMP = 882
#: A choked hit is faded over this many samples.
CHOKE_FADE = 132
RETURNS = ("reverb", "delay")

Progress = Callable[[float], None]
Node = Callable[[int], np.ndarray | None]
Key = Callable[[int], str | None]


@dataclass(frozen=True)
class _Traits:
    """What of a note counts for a part's sound: `settings` is a hash of everything that shapes it; `round_beats` 0 where it doesn't
    regard its place in the song."""

    settings: str
    pitched: bool
    held: bool
    takes: bool
    round_beats: float


class Mixdown:
    """A song ready to be rendered. Cheap to make; the cache is where the work is kept."""

    def __init__(self, song: Song, cache: RenderCache | None = None):
        self.song = song
        self.cache = cache or RenderCache()
        self.blocks = song.bars + int(np.ceil(TAIL_S / song.grid.bar_s))
        self.frames = self._edge(self.blocks)
        self._keys: dict[tuple[str, str, int], str | None] = {}

    # Time -------------------------------------------------------------------------------------------------------

    def _edge(self, bar: int) -> int:
        """Sample of a 0-based bar's line; bars before the song lie before 0."""
        return self.song.grid.sample_of_bar(bar + 1, RATE_HZ)

    def _length(self, bar: int) -> int:
        return self._edge(bar + 1) - self._edge(bar)

    def _bars_around(self, bar: int, before: int, after: int) -> range:
        """Bars that hold a bar and so many samples in front of it and behind it."""
        first, last = bar, bar
        while self._edge(first) > self._edge(bar) - before:
            first -= 1
        while self._edge(last + 1) < self._edge(bar + 1) + after:
            last += 1
        return range(first, last + 1)

    def _stretch(self, node: Node, bar: int, before: int, after: int) -> np.ndarray:
        """A node's samples from `before` in front of a bar to `after` behind it, shape (2, before + length + after)."""
        bars = self._bars_around(bar, before, after)
        pieces = []
        for b in bars:
            samples = node(b)
            pieces.append(np.zeros((2, self._length(b)), np.float32) if samples is None else samples)
        joined = np.concatenate(pieces, axis=1)
        start = self._edge(bar) - before - self._edge(bars.start)
        return joined[:, start : start + before + self._length(bar) + after]

    def _stretch_key(self, key: Key, bar: int, before: int, after: int) -> list[Any]:
        return [[key(b), self._length(b)] for b in self._bars_around(bar, before, after)]

    def _known(self, node: str, name: str, bar: int, make: Callable[[], str | None]) -> str | None:
        place = (node, name, bar)
        if place not in self._keys:
            self._keys[place] = make()
        return self._keys[place]

    # Notes ------------------------------------------------------------------------------------------------------

    @cached_property
    def _events(self) -> dict[str, list[scheduled.Event]]:
        return schedule(self.song, RATE_HZ)

    @cached_property
    def _by_bar(self) -> dict[str, dict[int, list[scheduled.Event]]]:
        """Events per part and per bar that they can sound in."""
        out: dict[str, dict[int, list[scheduled.Event]]] = {}
        for part in self.song.parts:
            table: dict[int, list[scheduled.Event]] = {}
            voice = voice_of(part.sound)
            tail = int(voice.tail_s(voice.patch(part.sound)) * RATE_HZ) + 1
            for event in self._events[part.id]:
                sounds = event.length + tail if event.cut is None else event.cut + CHOKE_FADE
                bar = event.bar
                while self._edge(bar) < event.start + sounds:
                    table.setdefault(bar, []).append(event)
                    bar += 1
            out[part.id] = table
        return out

    @cached_property
    def _traits(self) -> dict[str, _Traits]:
        out = {}
        for p in self.song.parts:
            sound = to_json(p.sound)
            sound.pop("name")
            # Synced LFOs follow the tempo.
            tempo = self.song.bpm if p.sound.modulations else 0
            settings = digest([ENGINE, sound, p.low_cut_hz, p.high_cut_hz, tempo])
            voice = voice_of(p.sound)
            out[p.id] = _Traits(settings, voice.pitched, voice.pitched or voice.held, has_takes(p.sound), song_round_beats(p.sound))
        return out

    def _played(self, part: Part, event: scheduled.Event) -> Played:
        """The note as the voice needs it, without what the voice doesn't regard: equal notes are rendered once."""
        traits, beat = self._traits[part.id], 0.0
        if traits.round_beats > 0:
            inside = (event.start - self._edge(event.bar)) / RATE_HZ / self.song.grid.beat_s
            beat = round(event.bar * self.song.grid.beats_per_bar + inside, 4) % traits.round_beats
        return Played(
            event.midi if traits.pitched else 0,
            event.length if traits.held else 0,
            round(event.velocity * 32) / 32,
            RATE_HZ,
            self.song.bpm,
            beat,
            tuple((int(at), semitones) for at, semitones in event.bend),
            event.variant if traits.takes else 0,
        )

    def _note(self, part: Part, event: scheduled.Event) -> np.ndarray:
        played = self._played(part, event)
        # Without the tempo, which the part's settings hold where it counts.
        what = (played.midi, played.held, played.velocity, played.variant, played.beat, played.bend)
        key = f"n{self._traits[part.id].settings}.{what}"

        def compute() -> np.ndarray:
            note = render_note(part.sound, played)
            sections = []
            if part.low_cut_hz > 0:
                sections.append(eq.low_cut(part.low_cut_hz, RATE_HZ))
            if part.high_cut_hz > 0:
                sections.append(eq.high_cut(part.high_cut_hz, RATE_HZ))
            if sections:
                # Linear, and therefore done once per note, where repetition is.
                note = eq.apply(np.concatenate(sections), note)
            return np.ascontiguousarray(note, np.float32)

        # Long notes are dear to compute and to keep.
        return self.cache.get(digest([key]), compute, on_disk=played.held > RATE_HZ // 2)

    # Part -------------------------------------------------------------------------------------------------------

    def _dry_key(self, part: Part, bar: int) -> str | None:
        """None where nothing is played."""
        return self._known("dry", part.id, bar, lambda: self._make_dry_key(part, bar))

    def _make_dry_key(self, part: Part, bar: int) -> str | None:
        events = self._by_bar[part.id].get(bar)
        if not events:
            return None
        edge = self._edge(bar)
        notes = []
        for e in events:
            played = self._played(part, e)
            notes.append(
                (e.start - edge, played.midi, played.held, played.velocity, played.variant, played.beat, played.bend, e.cut)
            )
        return "p" + digest([self._traits[part.id].settings, self._length(bar), notes])

    def _dry(self, part: Part, bar: int) -> np.ndarray | None:
        """The part's notes laid out, before its effects."""
        key = self._dry_key(part, bar)
        if key is None:
            return None
        # Notes are kept; laying them out again costs little.
        return self.cache.get(key, lambda: self._lay_out(part, bar), passing=True)

    def _lay_out(self, part: Part, bar: int) -> np.ndarray:
        start, n = self._edge(bar), self._length(bar)
        out = np.zeros((2, n), np.float32)
        for event in self._by_bar[part.id][bar]:
            note = self._note(part, event)
            if event.cut is not None and event.cut < note.shape[1]:
                end = min(event.cut + CHOKE_FADE, note.shape[1])
                note = note[:, :end].copy()
                note[:, event.cut :] *= np.linspace(1, 0, CHOKE_FADE, dtype=np.float32)[: end - event.cut]
            begin, end = max(event.start, start), min(event.start + note.shape[1], start + n)
            if begin < end:
                out[:, begin - start : end - start] += note[:, begin - event.start : end - event.start]
        return out

    def _chained_key(self, part: Part, bar: int) -> str | None:
        if not part.effects:
            return self._dry_key(part, bar)
        return self._known(
            "chained", part.id, bar, lambda: self._chain_key(part.effects, part.automation, lambda b: self._dry_key(part, b), bar)
        )

    def _chained(self, part: Part, bar: int) -> np.ndarray | None:
        """The part behind its effects, before its fader."""
        key = self._chained_key(part, bar)
        if key is None or not part.effects:
            return self._dry(part, bar)
        return self.cache.get(
            key, lambda: self._run_chain(part.effects, part.automation, lambda b: self._dry(part, b), bar), on_disk=True
        )

    # Chains of effects ------------------------------------------------------------------------------------------

    def _reach(self, effects: tuple[Effect, ...]) -> tuple[int, int]:
        before, after = reach_s(effects, self.song.bpm)
        return int(np.ceil(before * RATE_HZ)), int(np.ceil(after * RATE_HZ))

    def _chain_key(self, effects: tuple[Effect, ...], automated: tuple[Automation, ...], source: Key, bar: int) -> str | None:
        before, after = self._reach(effects)
        sources = self._stretch_key(source, bar, before, after)
        if all(key is None for key, _ in sources):
            return None
        n = before + self._length(bar) + after
        moved = [[a.target, self._control(a, bar, before, n).tolist()] for a in automated if a.target.startswith("effects.")]
        keyed = [self._stretch_key(partial(self._key_signal_key, e.key), bar, before, after) for e in effects if e.key]
        return "c" + digest([ENGINE, self.song.bpm, to_json(effects), sources, moved, keyed, self._chain_start(effects, bar)])

    def _chain_start(self, effects: tuple[Effect, ...], bar: int) -> int:
        """Bar that the chain may take this one for: the first that stands at the same place of its LFOs."""
        period = period_beats(effects)
        if period == 0:
            return 0
        bars = period / self.song.grid.beats_per_bar
        if not np.isfinite(bars) or bars * 24 != round(bars * 24):
            return bar
        # So many bars until period and bar line fall together again.
        return bar % max(1, round(bars * 24) // int(np.gcd(round(bars * 24), 24)))

    def _control(self, a: Automation, bar: int, before: int, n: int) -> np.ndarray:
        return automation.control_values(a, self.song.grid, bar, before, n, RATE_HZ)

    def _run_chain(self, effects: tuple[Effect, ...], automated: tuple[Automation, ...], source: Node, bar: int) -> np.ndarray:
        before, after = self._reach(effects)
        x = self._stretch(source, bar, before, after).astype(np.float64)
        n = x.shape[1]
        start = self._edge(self._chain_start(effects, bar)) - before

        def moved(place: int) -> dict[str, np.ndarray]:
            prefix = f"effects.{place}."
            return {
                a.target.removeprefix(prefix): automation.curve(self._control(a, bar, before, n), n)
                for a in automated if a.target.startswith(prefix)
            }  # fmt: skip

        def keyed(part_id: str) -> tuple[np.ndarray, np.ndarray]:
            signal = self._stretch(lambda b: self._key_signal(part_id, b), bar, before, after)
            shift = self._edge(bar) - before - start
            hits = np.array([e.start for e in self._events.get(part_id, [])], np.int64) - shift
            return signal, hits

        out = run_chain(x, effects, Where(RATE_HZ, self.song.bpm, start), moved, keyed)
        return np.ascontiguousarray(out[:, before : before + self._length(bar)], np.float32)

    def _key_signal_key(self, part_id: str, bar: int) -> str | None:
        part = self.song.part(part_id)
        return None if part is None or self._dry_key(part, bar) is None else f"{self._dry_key(part, bar)}@{part.gain_db}"

    def _key_signal(self, part_id: str, bar: int) -> np.ndarray | None:
        """What another part is steered by: the part's notes at its level, without its effects, so that two may key each other."""
        part = self.song.part(part_id)
        samples = None if part is None else self._dry(part, bar)
        return None if samples is None or part is None else samples * np.float32(10 ** (part.gain_db / 20))

    # Fader ------------------------------------------------------------------------------------------------------

    @cached_property
    def _sections(self) -> list[tuple[int, Any]]:
        """Per bar of the song: its place in the section and the section."""
        return [(k, section) for _, section in self.song.placed() for k in range(section.bars)]

    def _section(self, bar: int) -> tuple[int, Any]:
        """What rings on behind the song belongs to the last bar."""
        return self._sections[min(max(bar, 0), len(self._sections) - 1)]

    def _cell_db(self, part: Part, bar: int) -> float:
        cell = part.cell(self._section(bar)[1].id)
        return cell.level_db if cell else 0.0

    def _phrase_db(self, bar: int) -> float:
        """How loud the phrase plays, everything alike."""
        inside, section = self._section(bar)
        return float(section.level_db(inside))

    def _ramped_db(self, level: float, coming: float, bar: int) -> float | np.ndarray:
        """A level that has reached the next bar's at the bar line: in the last LEVEL_RAMP samples before it."""
        if coming == level:
            return level
        n = self._length(bar)
        return np.asarray(level + (coming - level) * np.clip((np.arange(n) - n + LEVEL_RAMP) / LEVEL_RAMP, 0, 1))

    @cached_property
    def _triggers(self) -> np.ndarray:
        return duck_triggers(self.song, RATE_HZ)

    @cached_property
    def _duck_key(self) -> str:
        return digest([self.song.bpm, to_json(self.song.ducking)])

    def _triggers_near(self, bar: int) -> list[int]:
        """Triggers that act on the bar, in samples from its line."""
        start = self._edge(bar)
        beat = self.song.grid.beat_s * RATE_HZ
        first, last = np.searchsorted(self._triggers, [start - 2 * beat, self._edge(bar + 1)])
        return [int(t) - start for t in self._triggers[first:last]]

    def _duck(self, bar: int) -> np.ndarray:
        """Reduction 0..1 of the bar, shape (samples,)."""
        near, n = self._triggers_near(bar), self._length(bar)
        key = "d" + digest([ENGINE, self._duck_key, near, n])
        shape = np.array(self.song.ducking.shape)
        beat = self.song.grid.beat_s * RATE_HZ
        return self.cache.get(key, lambda: duck_curve_db(0, n, np.array(near, np.int64), shape, beat).astype(np.float32))

    def _duck_gain(self, bar: int, depth_db: float) -> np.ndarray:
        """Gain of a ducker of this depth, shape (samples,)."""
        return np.asarray(np.exp(self._duck(bar) * np.float32(-depth_db / 20 * np.log(10))))

    def _fader_settings(self, part: Part, bar: int) -> list[Any]:
        duck = [part.duck_db, self._duck_key, self._triggers_near(bar)] if part.duck_db else 0
        moved = [
            [a.target, self._control(a, bar, 0, self._length(bar)).tolist()]
            for a in part.automation
            if a.target in ("gain_db", "pan")
        ]
        return [part.gain_db, part.pan, self._cell_db(part, bar), self._cell_db(part, bar + 1), duck, moved]

    def part_key(self, part: Part, bar: int) -> str | None:
        """None where the part is silent."""

        def make() -> str | None:
            chained = self._chained_key(part, bar)
            return None if chained is None else "f" + digest([ENGINE, chained, self._fader_settings(part, bar)])

        return self._known("part", part.id, bar, make)

    def part_block(self, part: Part, bar: int) -> np.ndarray | None:
        """Level, pan and ducking applied, shape (2, samples); None where the part is silent."""
        key = self.part_key(part, bar)
        return None if key is None else self.cache.get(key, lambda: self._render_part(part, bar), passing=True)

    def _moved(self, part: Part, target: str, bar: int, otherwise: float) -> float | np.ndarray:
        found = next((a for a in part.automation if a.target == target), None)
        n = self._length(bar)
        return otherwise if found is None else automation.curve(self._control(found, bar, 0, n), n)

    def _render_part(self, part: Part, bar: int) -> np.ndarray:
        chained = self._chained(part, bar)
        assert chained is not None
        level = self._ramped_db(self._cell_db(part, bar), self._cell_db(part, bar + 1), bar)
        gain_db = self._moved(part, "gain_db", bar, part.gain_db) + level
        angle = (np.clip(self._moved(part, "pan", bar, part.pan), -1, 1) + 1) * np.pi / 4
        linear = np.sqrt(2) * 10 ** (np.asarray(gain_db) / 20)
        gains = np.stack(np.broadcast_arrays(np.cos(angle) * linear, np.sin(angle) * linear)).reshape(2, -1)
        out = chained * gains.astype(np.float32)
        if part.duck_db > 0:
            out *= self._duck_gain(bar, part.duck_db)
        return out

    # Buses and returns --------------------------------------------------------------------------------------------

    def _bus_parts(self, bus: str) -> list[Part]:
        return [p for p in self.song.parts if p.bus == bus]

    def _bus_dry_key(self, bus: str, bar: int) -> str | None:
        keys = [key for p in self._bus_parts(bus) if (key := self.part_key(p, bar)) is not None]
        return digest(keys) if keys else None

    def _bus_dry(self, bus: str, bar: int) -> np.ndarray | None:
        return self._sum([(p, 0.0) for p in self._bus_parts(bus)], bar) if self._bus_dry_key(bus, bar) else None

    def _bus_key(self, bus: str, bar: int) -> str | None:
        effects = self.song.buses.get(bus, ())
        if not effects:
            return self._bus_dry_key(bus, bar)
        return self._known("bus", bus, bar, lambda: self._chain_key(effects, (), lambda b: self._bus_dry_key(bus, b), bar))

    def bus_block(self, bus: str, bar: int) -> np.ndarray | None:
        """Sum of the bus's parts through its effects, shape (2, samples); None where it is silent."""
        effects = self.song.buses.get(bus, ())
        key = self._bus_key(bus, bar)
        if key is None or not effects:
            return self._bus_dry(bus, bar)
        return self.cache.get(key, lambda: self._run_chain(effects, (), lambda b: self._bus_dry(bus, b), bar))

    def _sum(self, parts: list[tuple[Part, float | np.ndarray]], bar: int) -> np.ndarray:
        """Parts added up in the song's order, each at its gain in dB. Quick to do again, so it isn't kept."""
        out = np.zeros((2, self._length(bar)), np.float32)
        for part, gain_db in parts:
            samples = self.part_block(part, bar)
            if samples is not None:
                flat = np.ndim(gain_db) == 0 and gain_db == 0
                out += samples if flat else (10 ** (np.asarray(gain_db) / 20)).astype(np.float32) * samples
        return out

    @cached_property
    def _responses(self) -> dict[str, tuple[str, np.ndarray]]:
        """Per return: a key and its impulse response, shape (2, n)."""
        out = {}
        for name in RETURNS:
            settings = self._return(name)
            key = "i" + digest([ENGINE, name, to_json(settings) | {"duck_db": 0}, self.song.bpm if name == "delay" else 0])

            def compute(name: str = name) -> np.ndarray:
                if name == "reverb":
                    return space.reverb_response(self.song.reverb, RATE_HZ)
                return space.delay_response(self.song.delay, self.song.bpm, RATE_HZ)

            out[name] = (key, self.cache.get(key, compute))
        return out

    def _return(self, name: str) -> Any:
        return self.song.reverb if name == "reverb" else self.song.delay

    def _sends(self, name: str, bar: int) -> list[tuple[Part, float | np.ndarray]]:
        """Parts that sound in the bar and go to the return, with their send levels in dB."""
        if bar < 0:
            return []
        out: list[tuple[Part, float | np.ndarray]] = []
        for p in self.song.parts:
            if self.part_key(p, bar) is not None:
                level = self._moved(p, f"{name}_db", bar, p.reverb_db if name == "reverb" else p.delay_db)
                if np.max(level) > SILENT_SEND_DB:
                    out.append((p, level))
        return out

    def _send_key(self, name: str, bar: int) -> str | None:
        """None where nothing is sent."""

        def make() -> str | None:
            sends = self._sends(name, bar)
            levels = [[self.part_key(p, bar), db if np.ndim(db) == 0 else digest(np.round(db, 4).tolist())] for p, db in sends]
            return digest([self._length(bar), levels]) if sends else None

        return self._known("send", name, bar, make)

    def _echoed(self, name: str, bar: int) -> np.ndarray:
        """What the return makes of one bar's sends with all of its tail, shape (2, n): the bars after add it up."""
        response_key, response = self._responses[name]

        def compute() -> np.ndarray:
            x = self._sum(self._sends(name, bar), bar)
            n = x.shape[1] + response.shape[1] - 1
            size = fft.next_fast_len(n, real=True)
            spectrum = fft.rfft(x, size, axis=-1) * self._spectrum(name, size)
            return np.asarray(fft.irfft(spectrum, size, axis=-1)[:, :n], np.float32)

        return self.cache.get("e" + digest([ENGINE, response_key, self._send_key(name, bar)]), compute, on_disk=True)

    def _spectrum(self, name: str, size: int) -> np.ndarray:
        key, response = self._responses[name]
        return self.cache.get(f"s{key}.{size}", lambda: fft.rfft(response, size, axis=-1))

    def _return_bars(self, name: str, bar: int) -> list[int]:
        """Bars whose sends are still heard in this one."""
        reach = self._bars_around(bar, self._responses[name][1].shape[1], 0)
        return [b for b in reach if self._send_key(name, b) is not None]

    def _return_key(self, name: str, bar: int) -> str | None:
        def make() -> str | None:
            heard = [[self._edge(bar) - self._edge(b), self._send_key(name, b)] for b in self._return_bars(name, bar)]
            if not heard:
                return None
            duck_db = self._return(name).duck_db
            duck = [duck_db, self._duck_key, self._triggers_near(bar)] if duck_db else 0
            return "r" + digest([ENGINE, self._responses[name][0], self._length(bar), heard, duck])

        return self._known("return", name, bar, make)

    def return_block(self, name: str, bar: int) -> np.ndarray | None:
        """Reverb or delay return, ducked, shape (2, samples); None where it is silent."""
        key = self._return_key(name, bar)

        def compute() -> np.ndarray:
            n = self._length(bar)
            out = np.zeros((2, n), np.float32)
            for b in self._return_bars(name, bar):
                echoed = self._echoed(name, b)
                shift = self._edge(bar) - self._edge(b)
                piece = echoed[:, shift : shift + n]
                out[:, : piece.shape[1]] += piece
            duck_db = self._return(name).duck_db
            return out * self._duck_gain(bar, duck_db) if duck_db else out

        return None if key is None else self.cache.get(key, compute, passing=True)

    # Master -------------------------------------------------------------------------------------------------------

    def _mix_key(self, bar: int) -> str | None:
        """None outside the song and where nothing sounds."""

        def make() -> str | None:
            if not 0 <= bar < self.blocks:
                return None
            keys = [*(self._bus_key(bus, bar) for bus in BUSES), *(self._return_key(name, bar) for name in RETURNS)]
            return None if all(key is None for key in keys) else "m" + digest([ENGINE, self._length(bar), keys])

        return self._known("mix", "", bar, make)

    def mix_block(self, bar: int) -> np.ndarray:
        """Buses and returns summed, before the master, shape (2, samples)."""
        key = self._mix_key(bar)

        def compute() -> np.ndarray:
            out = np.zeros((2, self._length(bar)), np.float32)
            for block in (*(self.bus_block(bus, bar) for bus in BUSES), *(self.return_block(name, bar) for name in RETURNS)):
                if block is not None:
                    out += block
            return out

        return np.zeros((2, self._length(bar)), np.float32) if key is None else self.cache.get(key, compute, passing=True)

    def _levelled(self, samples: np.ndarray | None, bar: int) -> np.ndarray | None:
        """A bar at the level of its phrase. Late, so that a pattern that comes again at another level is the same until here."""
        level = self._ramped_db(self._phrase_db(bar), self._phrase_db(bar + 1), bar)
        if samples is None or (np.ndim(level) == 0 and level == 0):
            return samples
        return np.asarray(samples * (10 ** (np.asarray(level) / 20)).astype(np.float32))

    @cached_property
    def _tone_settings(self) -> str:
        m = self.song.master
        return digest([ENGINE, to_json(m.eq), m.low_cut_hz, m.width, m.mono_below_hz])

    def _tone_key(self, bar: int) -> str:
        around = self._known("tone", "", bar, lambda: digest(self._stretch_key(self._mix_key, bar, CONTEXT, 0)))
        return f"t{self._tone_settings}.{around}"

    def _tone(self, bar: int) -> np.ndarray:
        """The mix through the master's width and EQ: what is linear, before the phrase's level."""
        return self.cache.get(
            self._tone_key(bar), lambda: tone(self._stretch(self.mix_block, bar, CONTEXT, 0), self.song.master)[:, CONTEXT:].copy()
        )

    def _mastering_key(self, bar: int) -> str:
        """Of the tone at its level, through the master's effects."""

        def levelled(b: int) -> str:
            return f"{self._tone_key(b)}@{self._phrase_db(b)}>{self._phrase_db(b + 1)}"

        effects = self.song.master.effects
        return (
            self._known("effects", "", bar, lambda: self._chain_key(effects, (), levelled, bar)) if effects else ""
        ) or levelled(bar)

    def _mastering(self, bar: int) -> np.ndarray:
        effects = self.song.master.effects

        def levelled(b: int) -> np.ndarray | None:
            return self._levelled(self._tone(b), b)

        if not effects:
            return np.asarray(levelled(bar))
        return self.cache.get(self._mastering_key(bar), lambda: self._run_chain(effects, (), levelled, bar))

    def master_block(self, bar: int) -> np.ndarray:
        """The finished mix, shape (2, samples)."""
        around = self._stretch_key(self._mastering_key, bar, limiter.CONTEXT, limiter.CONTEXT)
        m = self.song.master
        key = "o" + digest([ENGINE, m.gain_db, m.ceiling_dbtp, around])

        def compute() -> np.ndarray:
            return finish(self._stretch(self._mastering, bar, limiter.CONTEXT, limiter.CONTEXT), m)

        return self.cache.get(key, compute, on_disk=True)

    def mastered(self, mix: np.ndarray, master: Master) -> np.ndarray:
        """A mix of the whole song through another master without its effects, for trying masters on one mix: what `samples`
        gives, but for the level, which is in the mix already and changes before the EQ instead of behind it."""
        before, after = CONTEXT + limiter.CONTEXT, limiter.CONTEXT
        padded = np.pad(mix, ((0, 0), (before, after)))

        def piece(bar: int) -> np.ndarray:
            x = padded[:, self._edge(bar) : self._edge(bar + 1) + before + after]
            return finish(tone(x, master)[:, CONTEXT:], master)

        with ThreadPoolExecutor(WORKERS) as pool:
            return np.concatenate(list(pool.map(piece, range(self.blocks))), axis=1)

    # Ranges -------------------------------------------------------------------------------------------------------

    def _joined(self, node: Node, start: int, stop: int, progress: Progress = lambda fraction: None) -> np.ndarray:
        """A node's samples start..stop-1, shape (2, n), rendered by WORKERS threads. What `progress` raises stops it."""
        first = next(b for b in range(self.blocks + 1) if self._edge(b + 1) > start)
        last = next(b for b in range(first, self.blocks + 1) if self._edge(b + 1) >= stop)
        blocks: dict[int, np.ndarray] = {}
        stopped = Event()

        def run(bars: range) -> None:
            for bar in bars:
                if stopped.is_set():
                    return
                block = node(bar)
                blocks[bar] = np.zeros((2, self._length(bar)), np.float32) if block is None else block

        # One run for each thread, far apart: neighbours need the same bars around them and would wait for each other.
        count = last + 1 - first
        share = -(-count // WORKERS)
        with ThreadPoolExecutor(WORKERS) as pool:
            runs = {pool.submit(run, range(b, min(b + share, last + 1))) for b in range(first, last + 1, share)}
            try:
                while runs:
                    done, runs = wait(runs, PROGRESS_S, FIRST_COMPLETED)
                    for future in done:
                        future.result()
                    progress(len(blocks) / count)
            finally:
                # What `progress` raises ends the others at their next bar.
                stopped.set()
        joined = np.concatenate([blocks[bar] for bar in range(first, last + 1)], axis=1)
        return joined[:, start - self._edge(first) : stop - self._edge(first)]

    def samples(self, start: int, stop: int, progress: Progress = lambda fraction: None, stage: str = "master") -> np.ndarray:
        """Samples start..stop-1 of the finished mix ("master") or of the mix before the master ("mix"), (2, n)."""
        node = self.master_block if stage == "master" else lambda bar: self._levelled(self.mix_block(bar), bar)
        return self._joined(node, start, stop, progress)

    def bar_range(self, first_bar: int, last_bar: int) -> tuple[int, int]:
        """Sample range of bars first..last, both included, 1-based."""
        return self._edge(first_bar - 1), self._edge(last_bar)

    def whole(self, progress: Progress = lambda fraction: None) -> Audio:
        """The whole song with its tail, cut where it has rung out."""
        x = self.samples(0, self.frames, progress)
        end = self._edge(self.song.bars)
        tail = np.abs(x[:, end:]).max(axis=0)
        loud = np.flatnonzero(tail > 10 ** (-72 / 20))
        keep = min(end + (int(loud[-1]) + RATE_HZ // 4 if len(loud) else 0), x.shape[1])
        return Audio(np.ascontiguousarray(x[:, :keep]), RATE_HZ)

    def solo_part(self, part: Part, start: int, stop: int) -> np.ndarray:
        """One part behind its fader, dry, shape (2, n)."""
        return self._joined(lambda bar: self._levelled(self.part_block(part, bar), bar), start, stop)

    def solo_return(self, name: str, start: int, stop: int) -> np.ndarray:
        """One return, shape (2, n)."""
        return self._joined(lambda bar: self._levelled(self.return_block(name, bar), bar), start, stop)


def tone(x: np.ndarray, master: Master) -> np.ndarray:
    """The linear part of the master, width and EQ, from silence, shape (2, n)."""
    sections = [eq.low_cut(master.low_cut_hz, RATE_HZ), *(eq.bell(b, RATE_HZ)[None] for b in master.eq)]
    mid, side = (x[0] + x[1]) * 0.5, (x[0] - x[1]) * (0.5 * master.width)
    side = eq.apply(eq.low_cut(master.mono_below_hz, RATE_HZ), side.astype(np.float64))
    return np.ascontiguousarray(eq.apply(np.concatenate(sections), np.stack([mid + side, mid - side])), np.float32)


def finish(x: np.ndarray, master: Master) -> np.ndarray:
    """Gain, clipping and limiting of a block with the limiter's context on both sides, shape (2, n less the context)."""
    x = limiter.limit(limiter.soft_clip(x * 10 ** (master.gain_db / 20)), master.ceiling_dbtp)
    return np.ascontiguousarray(x[:, limiter.CONTEXT : -limiter.CONTEXT], np.float32)


def stems(mixdown: Mixdown, start: int, stop: int) -> dict[str, np.ndarray]:
    """Every part dry and both returns, by name, each (2, n): they sum to the mix before the master where no bus has effects."""
    out = {part.id: mixdown.solo_part(part, start, stop) for part in mixdown.song.parts}
    for name in RETURNS:
        out[f"return-{name}"] = mixdown.solo_return(name, start, stop)
    return out


def with_master_gain(song: Song, gain_db: float) -> Song:
    return replace(song, master=replace(song.master, gain_db=round(gain_db, 3)))
