"""The mixdown, bar by bar: hit -> voice -> part -> bus -> returns -> tone -> level -> master, in this order.

Conventions: RATE_HZ; a bar's block runs from its bar line to the next (0-based `bar`; lengths differ by one sample where the bar
has no whole number of them); every node gives float32 of shape (2, samples of the bar) and is a pure function of its key.
Positions in keys are counted from the bar line, so that a bar that comes again is computed once: club music repeats.

Every process remembers a bounded stretch only (notes with their tails, impulse responses of finite length, effects run from their
reach in front of the bar), so any range of a song is the same samples as that range of the whole.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import cached_property, partial
from typing import Any

import numpy as np
from scipy import fft

from ersatz.core.audio import Audio
from ersatz.core.dsp.levels import factor
from ersatz.core.effects import eq, limiter, space
from ersatz.core.effects.chain import period_beats, reach, run_chain
from ersatz.core.effects.ducking import duck_curve_db
from ersatz.core.effects.spec import Where
from ersatz.core.mixdown import automation
from ersatz.core.mixdown.automation import CONTROL
from ersatz.core.mixdown.bars import RATE_HZ, Bars, Key, Node
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.notes import Notes
from ersatz.core.mixdown.schedule import duck_triggers
from ersatz.core.mixdown.staging import staged
from ersatz.core.mixdown.version import engine
from ersatz.core.mixdown.work import Work
from ersatz.core.samples import Samples, no_samples
from ersatz.core.serial import to_json
from ersatz.core.song.document import (
    BUSES,
    MASTER,
    RETURNS,
    Automation,
    Effect,
    Master,
    Part,
    Song,
    digest,
    effect_target,
    effect_value,
)
from ersatz.core.transitions.spec import BUS, base_of, versions_of
from ersatz.core.voices import gone

#: Filters of the master are started this early: over ten time constants of its narrowest low band.
CONTEXT = 16_384
#: After the last bar the tails ring out this long at the most.
TAIL_S = 6.0
WORKERS = 2
#: Bars that are worked on together: enough for two threads to share, few enough for the cache to hold all of their nodes.
SPAN_BARS = 8
SILENT_SEND_DB = -59.0
#: A change of level from one bar to the next is made over this much of the end of the first, so that the bar line has the new one.
LEVEL_RAMP = 882
#: Pieces of a bar in a picture of its level.
PEAKS_PER_BAR = 16

Progress = Callable[[float], None]
Want = Callable[[Work, int], None]


class Mixdown:
    """A song ready to be rendered. Cheap to make; the cache is where the work is kept. `samples` finds the audio that voices play;
    what it doesn't find is silent. `heard`: ids of the parts that sound, None for all; the others still steer and cut."""

    def __init__(
        self, song: Song, cache: RenderCache | None = None, samples: Samples = no_samples, heard: frozenset[str] | None = None
    ):
        self.song = staged(song)
        self._heard = heard
        self._samples = samples
        self.cache = cache or RenderCache()
        self.bars = Bars(song.grid)
        self.notes = Notes(self.song, self.bars, self.cache, samples)
        self.blocks = song.bars + int(np.ceil(TAIL_S / song.grid.bar_s))
        self.frames = self.bars.edge(self.blocks)
        self._keys: dict[tuple[str, str, int], str | None] = {}
        # By identity: the song and `_reduced` hold the chains for as long as they are rendered.
        self._settings: dict[int, str] = {}
        self._reduced: dict[tuple[int, int], tuple[Effect, ...]] = {}
        self._acts: dict[tuple[int, int], tuple[Effect, ...]] = {}

    @property
    def is_complete(self) -> bool:
        """Whether all samples of the song were found: else it will sound otherwise when they are back."""
        return not any(gone(part.sound, self._samples) for part in self.song.parts)

    def _known(self, node: str, name: str, bar: int, make: Callable[[], str | None]) -> str | None:
        place = (node, name, bar)
        if place not in self._keys:
            self._keys[place] = make()
        return self._keys[place]

    # Part -------------------------------------------------------------------------------------------------------

    def _chained_key(self, part: Part, bar: int) -> str | None:
        if not part.effects:
            return self.notes.key(part, bar)
        known = self._chained_keys[part.id]
        if bar not in known:
            known[bar] = self._chain_key(part.effects, part.automation, lambda b: self.notes.key(part, b), bar)
        return known[bar]

    @cached_property
    def _chained_keys(self) -> dict[str, dict[int, str | None]]:
        """Keys by part and bar, remembered for parts that stay as they are."""
        out: dict[str, dict[int, str | None]] = {}
        for part in self.song.parts:
            steering = [p for e in part.effects if e.key for p in versions_of(e.key, self.song)]
            steered_by = tuple((self.notes.made_of(p), p.gain_db) for p in steering)
            made_of = ("chained", self.notes.made_of(part), self._chain_settings(part.effects), part.automation, steered_by)
            out[part.id] = self.cache.remembered(made_of, dict)
        return out

    def _chained(self, part: Part, bar: int) -> np.ndarray | None:
        """The part behind its effects, before its fader."""
        key = self._chained_key(part, bar)
        if key is None or not self._acting(part.effects, part.automation, bar):
            return self.notes.block(part, bar)

        def compute() -> np.ndarray:
            return self._run_chain(part.effects, part.automation, lambda b: self.notes.block(part, b), bar, part)

        return self.cache.get(key, compute, on_disk=True)

    def _want_part(self, work: Work, part: Part, bar: int) -> None:
        """All but the laying out of notes and the fader, which are quick to do where they are needed."""
        acting = self._acting(part.effects, part.automation, bar)
        if not acting:
            # The chain's key is that of the notes there.
            self.notes.want(work, part, bar)
        elif work.want("part", self._chained_key(part, bar), partial(self._chained, part, bar), part.id):
            for b in self.bars.around(bar, *self._reach(acting)):
                self.notes.want(work, part, b)
                for effect in acting:
                    for other in versions_of(effect.key, self.song) if effect.key else ():
                        self.notes.want(work, other, b)

    # Chains of effects ------------------------------------------------------------------------------------------

    def _reach(self, effects: tuple[Effect, ...]) -> tuple[int, int]:
        return reach(effects, self.song.bpm, RATE_HZ)

    def _acting(self, effects: tuple[Effect, ...], automated: tuple[Automation, ...], bar: int) -> tuple[Effect, ...]:
        """The chain with those effects off that are automated to a blend of 0 all around a bar: they pass their input as it is, and
        what the chain does in all other bars isn't worked out anew for them. Empty where nothing is on."""
        known = self._acts.get((id(effects), bar))
        if known is None:
            known = self._acts[id(effects), bar] = self._act(effects, automated, bar)
        return known

    def _act(self, effects: tuple[Effect, ...], automated: tuple[Automation, ...], bar: int) -> tuple[Effect, ...]:
        blends = {a.target: a for a in automated if a.target.endswith(".blend")}
        if not blends:
            return effects
        before, after = self._reach(effects)
        ticks = self.song.grid.ticks_per_bar
        per_sample = ticks / self.bars.length(bar)
        first, last = bar * ticks - (before + CONTROL) * per_sample, (bar + 1) * ticks + (after + CONTROL) * per_sample
        off = 0
        for k, effect in enumerate(effects):
            blend = blends.get(effect_target(effect, "blend"))
            if not effect.on or (blend and automation.stands_at(blend, 0.0, first, last)):
                off |= 1 << k
        if off == (1 << len(effects)) - 1 and all(e.on or not e.bypass_db for e in effects):
            return ()
        if (id(effects), off) not in self._reduced:
            still = tuple(replace(e, on=False, bypass_db=0.0) if e.on and off >> k & 1 else e for k, e in enumerate(effects))
            self._reduced[id(effects), off] = effects if still == effects else still
        return self._reduced[id(effects), off]

    def _chain_key(self, chain: tuple[Effect, ...], automated: tuple[Automation, ...], source: Key, bar: int) -> str | None:
        effects = self._acting(chain, automated, bar)
        if not effects:
            return source(bar)
        before, after = self._reach(effects)
        sources = self.bars.stretch_key(source, bar, before, after)
        if all(key is None for key, _ in sources):
            return None
        n = before + self.bars.length(bar) + after
        moved = [[a.target, self._control(a, bar, before, n).tolist()] for a in automated if _moves_one_of(a, effects)]
        keyed = [self.bars.stretch_key(partial(self._key_signal_key, e.key), bar, before, after) for e in effects if e.key]
        return "c" + digest([self._chain_settings(effects), sources, moved, keyed, self._chain_start(effects, bar)])

    def _chain_settings(self, effects: tuple[Effect, ...]) -> str:
        """What of a chain doesn't depend on the bar; worked out once for each."""
        if id(effects) not in self._settings:
            self._settings[id(effects)] = digest([engine(), self.song.bpm, to_json(effects)])
        return self._settings[id(effects)]

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

    def _run_chain(
        self, chain: tuple[Effect, ...], automated: tuple[Automation, ...], source: Node, bar: int, own: Part | None = None
    ) -> np.ndarray:
        """`own`: the part whose chain it is, whose hits steer what nothing else does. They are in the keys of its notes."""
        effects = self._acting(chain, automated, bar)
        before, after = self._reach(effects)
        x = self.bars.stretch(source, bar, before, after).astype(np.float64)
        n = x.shape[1]
        start = self.bars.edge(self._chain_start(effects, bar)) - before

        def moved(effect_id: str) -> dict[str, np.ndarray]:
            return {
                effect_value(a.target)[1]: automation.curve(self._control(a, bar, before, n), n)
                for a in automated if a.effect == effect_id
            }  # fmt: skip

        def keyed(part_id: str) -> tuple[np.ndarray, np.ndarray]:
            signal = self.bars.stretch(lambda b: self._key_signal(part_id, b), bar, before, after)
            shift = self.bars.edge(bar) - before - start
            return signal, self._hits(versions_of(part_id, self.song)) - shift

        hits = self._hits([own] if own else []) - (self.bars.edge(bar) - before - start)
        out = run_chain(x, effects, Where(RATE_HZ, self.song.bpm, start, hits=hits), moved, keyed)
        return np.ascontiguousarray(out, np.float32)

    def _hits(self, parts: list[Part]) -> np.ndarray:
        """Song samples at which the parts have notes, in order."""
        return np.array(sorted(e.start for part in parts for e in self.notes.events(part)), np.int64)

    def _key_signal_key(self, part_id: str, bar: int) -> str | None:
        keys = [f"{key}@{p.gain_db}" for p in versions_of(part_id, self.song) if (key := self.notes.key(p, bar)) is not None]
        return "+".join(keys) or None

    def _key_signal(self, part_id: str, bar: int) -> np.ndarray | None:
        """What another part is steered by: the part's notes at its level, without its effects, so that two may key each other."""
        blocks = [
            samples * np.float32(factor(p.gain_db))
            for p in versions_of(part_id, self.song)
            if (samples := self.notes.block(p, bar)) is not None
        ]
        return np.asarray(sum(blocks[1:], blocks[0])) if blocks else None

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
        n = self.bars.length(bar)
        return np.asarray(level + (coming - level) * np.clip((np.arange(n) - n + LEVEL_RAMP) / LEVEL_RAMP, 0, 1))

    @cached_property
    def _triggers(self) -> np.ndarray:
        return duck_triggers(self.song, RATE_HZ)

    @cached_property
    def _duck_key(self) -> str:
        return digest([self.song.bpm, to_json(self.song.ducking)])

    def _triggers_near(self, bar: int) -> list[int]:
        """Triggers that act on the bar, in samples from its line."""
        start = self.bars.edge(bar)
        beat = self.song.grid.beat_s * RATE_HZ
        first, last = np.searchsorted(self._triggers, [start - 2 * beat, self.bars.edge(bar + 1)])
        return [int(t) - start for t in self._triggers[first:last]]

    def _duck_gain(self, bar: int, depth_db: float) -> np.ndarray:
        """Gain of a ducker of this depth, shape (samples,): the same for all parts that it moves as far."""
        near, n = self._triggers_near(bar), self.bars.length(bar)
        key = "d" + digest([engine(), self._duck_key, near, n, depth_db])

        def compute() -> np.ndarray:
            shape, beat = np.array(self.song.ducking.shape), self.song.grid.beat_s * RATE_HZ
            return factor(-depth_db * duck_curve_db(0, n, np.array(near, np.int64), shape, beat)).astype(np.float32)

        return self.cache.get(key, compute)

    def _fader_settings(self, part: Part, bar: int) -> list[Any]:
        duck = [part.duck_db, self._duck_key, self._triggers_near(bar)] if part.duck_db else 0
        moved = [
            [a.target, self._control(a, bar, 0, self.bars.length(bar)).tolist()]
            for a in part.automation
            if a.target in ("gain_db", "pan")
        ]
        return [part.gain_db, part.pan, self._cell_db(part, bar), self._cell_db(part, bar + 1), duck, moved]

    def part_key(self, part: Part, bar: int) -> str | None:
        """None where the part is silent."""

        def make() -> str | None:
            chained = self._chained_key(part, bar)
            return None if chained is None else "f" + digest([engine(), chained, self._fader_settings(part, bar)])

        return self._known("part", part.id, bar, make)

    def part_block(self, part: Part, bar: int) -> np.ndarray | None:
        """Level, pan and ducking applied, shape (2, samples); None where the part is silent."""
        key = self.part_key(part, bar)
        return None if key is None else self.cache.get(key, lambda: self._render_part(part, bar), passing=True)

    def _gain_key(self, owner: str, bar: int, before: int = 0, after: int = 0) -> list[float]:
        """Automated gain of a bus, a return or the master around a bar; empty where there is none."""
        found = next((a for a in self.song.automation.get(owner, ()) if a.target == "gain_db"), None)
        return [] if found is None else self._control(found, bar, before, before + self.bars.length(bar) + after).tolist()

    def _at_gain(self, owner: str, samples: np.ndarray, bar: int, before: int = 0, after: int = 0) -> np.ndarray:
        control = self._gain_key(owner, bar, before, after)
        return samples * factor(automation.curve(np.array(control), samples.shape[1])).astype(np.float32) if control else samples

    def _moved(self, part: Part, target: str, bar: int, otherwise: float) -> float | np.ndarray:
        found = next((a for a in part.automation if a.target == target), None)
        n = self.bars.length(bar)
        return otherwise if found is None else automation.curve(self._control(found, bar, 0, n), n)

    def _render_part(self, part: Part, bar: int) -> np.ndarray:
        chained = self._chained(part, bar)
        assert chained is not None
        level = self._ramped_db(self._cell_db(part, bar), self._cell_db(part, bar + 1), bar)
        gain_db = self._moved(part, "gain_db", bar, part.gain_db) + level
        angle = (np.clip(self._moved(part, "pan", bar, part.pan), -1, 1) + 1) * np.pi / 4
        linear = np.sqrt(2) * factor(gain_db)
        gains = np.stack(np.broadcast_arrays(np.cos(angle) * linear, np.sin(angle) * linear)).reshape(2, -1)
        out = chained * gains.astype(np.float32)
        if part.duck_db > 0:
            out *= self._duck_gain(bar, part.duck_db)
        return out

    # Buses and returns --------------------------------------------------------------------------------------------

    def _bus_parts(self, bus: str) -> list[Part]:
        return [p for p in self.song.parts if p.bus == bus and self._is_heard(p)]

    def _is_heard(self, part: Part) -> bool:
        return self._heard is None or base_of(part) in self._heard

    def _bus_dry_key(self, bus: str, bar: int) -> str | None:
        keys = [key for p in self._bus_parts(bus) if (key := self.part_key(p, bar)) is not None]
        return digest(keys) if keys else None

    def _bus_dry(self, bus: str, bar: int) -> np.ndarray | None:
        return self._sum([(p, 0.0) for p in self._bus_parts(bus)], bar) if self._bus_dry_key(bus, bar) else None

    def _bus_key(self, bus: str, bar: int) -> str | None:
        effects = self.song.buses.get(bus, ())
        if not effects:
            return self._bus_dry_key(bus, bar)
        automated = self.song.automation.get(bus, ())
        return self._known("bus", bus, bar, lambda: self._chain_key(effects, automated, lambda b: self._bus_dry_key(bus, b), bar))

    def bus_block(self, bus: str, bar: int) -> np.ndarray | None:
        """Sum of the bus's parts through its effects, before its automated gain, shape (2, samples); None where it is silent."""
        effects, automated = self.song.buses.get(bus, ()), self.song.automation.get(bus, ())
        key = self._bus_key(bus, bar)
        if key is None or not self._acting(effects, automated, bar):
            return self._bus_dry(bus, bar)
        return self.cache.get(key, lambda: self._run_chain(effects, automated, lambda b: self._bus_dry(bus, b), bar))

    def _want_bus(self, work: Work, bus: str, bar: int) -> None:
        acting = self._acting(self.song.buses.get(bus, ()), self.song.automation.get(bus, ()), bar)
        bars: range | tuple[int, ...] = (bar,)
        if acting:
            if not work.want("bus", self._bus_key(bus, bar), partial(self.bus_block, bus, bar)):
                return
            bars = self.bars.around(bar, *self._reach(acting))
        for part in self._bus_parts(bus):
            for b in bars:
                self._want_part(work, part, b)

    def _sum(self, parts: list[tuple[Part, float | np.ndarray]], bar: int) -> np.ndarray:
        """Parts added up in the song's order, each at its gain in dB. Quick to do again, so it isn't kept."""
        out = self.bars.silence(bar)
        for part, gain_db in parts:
            samples = self.part_block(part, bar)
            if samples is not None:
                flat = np.ndim(gain_db) == 0 and gain_db == 0
                out += samples if flat else factor(gain_db).astype(np.float32) * samples
        return out

    @cached_property
    def _responses(self) -> dict[str, tuple[str, np.ndarray]]:
        """Per return: a key and its impulse response, shape (2, n)."""
        out = {}
        for name in RETURNS:
            settings = self._return(name)
            key = "i" + digest([engine(), name, to_json(settings) | {"duck_db": 0}, self.song.bpm if name == "delay" else 0])

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
            if self._is_heard(p) and self.part_key(p, bar) is not None:
                level = self._moved(p, f"{name}_db", bar, p.reverb_db if name == "reverb" else p.delay_db)
                if np.max(level) > SILENT_SEND_DB:
                    out.append((p, level))
        return out

    def _send_key(self, name: str, bar: int) -> str | None:
        """None where nothing is sent."""

        def make() -> str | None:
            sends = self._sends(name, bar)
            levels = [[self.part_key(p, bar), db if np.ndim(db) == 0 else digest(np.round(db, 4).tolist())] for p, db in sends]
            return digest([self.bars.length(bar), levels]) if sends else None

        return self._known("send", name, bar, make)

    def _echoed_key(self, name: str, bar: int) -> str:
        return "e" + digest([engine(), self._responses[name][0], self._send_key(name, bar)])

    def _echoed(self, name: str, bar: int) -> np.ndarray:
        """What the return makes of one bar's sends with all of its tail, shape (2, n): the bars after add it up."""
        response = self._responses[name][1]

        def compute() -> np.ndarray:
            x = self._sum(self._sends(name, bar), bar)
            n = x.shape[1] + response.shape[1] - 1
            size = fft.next_fast_len(n, real=True)
            spectrum = fft.rfft(x, size, axis=-1) * self._spectrum(name, size)
            return np.asarray(fft.irfft(spectrum, size, axis=-1)[:, :n], np.float32)

        # Quick to do again, and long.
        return self.cache.get(self._echoed_key(name, bar), compute, passing=True)

    def _want_return(self, work: Work, name: str, bar: int) -> None:
        if self._return_key(name, bar) is None:
            return
        for b in self._return_bars(name, bar):
            if work.want("bus", self._echoed_key(name, b), partial(self._echoed, name, b)):
                for part, _ in self._sends(name, b):
                    self._want_part(work, part, b)

    def _spectrum(self, name: str, size: int) -> np.ndarray:
        key, response = self._responses[name]
        return self.cache.get(f"s{key}.{size}", lambda: fft.rfft(response, size, axis=-1))

    def _return_bars(self, name: str, bar: int) -> list[int]:
        """Bars whose sends are still heard in this one."""
        reach = self.bars.around(bar, self._responses[name][1].shape[1], 0)
        return [b for b in reach if self._send_key(name, b) is not None]

    def _return_key(self, name: str, bar: int) -> str | None:
        def make() -> str | None:
            heard = [[self.bars.edge(bar) - self.bars.edge(b), self._send_key(name, b)] for b in self._return_bars(name, bar)]
            if not heard:
                return None
            duck_db = self._return(name).duck_db
            duck = [duck_db, self._duck_key, self._triggers_near(bar)] if duck_db else 0
            return "r" + digest([engine(), self._responses[name][0], self.bars.length(bar), heard, duck, self._gain_key(name, bar)])

        return self._known("return", name, bar, make)

    def return_block(self, name: str, bar: int) -> np.ndarray | None:
        """Reverb or delay return, ducked, shape (2, samples); None where it is silent."""
        key = self._return_key(name, bar)

        def compute() -> np.ndarray:
            n = self.bars.length(bar)
            out = np.zeros((2, n), np.float32)
            for b in self._return_bars(name, bar):
                echoed = self._echoed(name, b)
                shift = self.bars.edge(bar) - self.bars.edge(b)
                piece = echoed[:, shift : shift + n]
                out[:, : piece.shape[1]] += piece
            duck_db = self._return(name).duck_db
            return self._at_gain(name, out * self._duck_gain(bar, duck_db) if duck_db else out, bar)

        return None if key is None else self.cache.get(key, compute, passing=True)

    # Master -------------------------------------------------------------------------------------------------------

    def _mix_key(self, bar: int) -> str | None:
        """None outside the song and where nothing sounds."""

        def make() -> str | None:
            if not 0 <= bar < self.blocks:
                return None
            keys = [*(self._bus_key(bus, bar) for bus in BUSES), *(self._return_key(name, bar) for name in RETURNS)]
            gains = [self._gain_key(bus, bar) for bus in BUSES]
            return None if all(key is None for key in keys) else "m" + digest([engine(), self.bars.length(bar), keys, gains])

        return self._known("mix", "", bar, make)

    def mix_block(self, bar: int) -> np.ndarray:
        """Buses and returns summed, before the master, shape (2, samples)."""
        key = self._mix_key(bar)

        def compute() -> np.ndarray:
            out = self.bars.silence(bar)
            for bus in BUSES:
                if (block := self.bus_block(bus, bar)) is not None:
                    out += self._at_gain(bus, block, bar)
            for name in RETURNS:
                if (block := self.return_block(name, bar)) is not None:
                    out += block
            return out

        return self.bars.silence(bar) if key is None else self.cache.get(key, compute, passing=True)

    def _want_mix(self, work: Work, bar: int) -> None:
        if work.want("mix", self._mix_key(bar), partial(self.mix_block, bar)):
            for bus in BUSES:
                self._want_bus(work, bus, bar)
            for name in RETURNS:
                self._want_return(work, name, bar)

    def _levelled(self, samples: np.ndarray | None, bar: int) -> np.ndarray | None:
        """A bar at the level of its phrase. Late, so that a pattern that comes again at another level is the same until here."""
        level = self._ramped_db(self._phrase_db(bar), self._phrase_db(bar + 1), bar)
        if samples is None or (np.ndim(level) == 0 and level == 0):
            return samples
        return np.asarray(samples * factor(level).astype(np.float32))

    @cached_property
    def _tone_settings(self) -> str:
        m = self.song.master
        return digest([engine(), to_json(m.eq), m.low_cut_hz, m.width, m.mono_below_hz])

    def _tone_key(self, bar: int) -> str:
        around = self._known("tone", "", bar, lambda: digest(self.bars.stretch_key(self._mix_key, bar, CONTEXT, 0)))
        return f"t{self._tone_settings}.{around}"

    def _tone(self, bar: int) -> np.ndarray:
        """The mix through the master's width and EQ: what is linear, before the phrase's level."""
        return self.cache.get(
            self._tone_key(bar),
            lambda: tone(self.bars.stretch(self.mix_block, bar, CONTEXT, 0), self.song.master)[:, CONTEXT:].copy(),
        )

    def _want_tone(self, work: Work, bar: int) -> None:
        if work.want("tone", self._tone_key(bar), partial(self._tone, bar)):
            for b in self.bars.around(bar, CONTEXT, 0):
                self._want_mix(work, b)

    def _mastering_key(self, bar: int) -> str:
        """Of the tone at its level, through the master's effects."""

        def levelled(b: int) -> str:
            return f"{self._tone_key(b)}@{self._phrase_db(b)}>{self._phrase_db(b + 1)}"

        effects, automated = self.song.master.effects, self.song.automation.get(MASTER, ())
        return (
            self._known("effects", "", bar, lambda: self._chain_key(effects, automated, levelled, bar)) if effects else ""
        ) or levelled(bar)

    def _mastering(self, bar: int) -> np.ndarray:
        effects, automated = self.song.master.effects, self.song.automation.get(MASTER, ())

        def levelled(b: int) -> np.ndarray | None:
            return self._levelled(self._tone(b), b)

        if not self._acting(effects, automated, bar):
            return np.asarray(levelled(bar))
        return self.cache.get(self._mastering_key(bar), lambda: self._run_chain(effects, automated, levelled, bar))

    def _want_mastering(self, work: Work, bar: int) -> None:
        acting = self._acting(self.song.master.effects, self.song.automation.get(MASTER, ()), bar)
        if not acting:
            self._want_tone(work, bar)
        elif work.want("mastering", self._mastering_key(bar), partial(self._mastering, bar)):
            for b in self.bars.around(bar, *self._reach(acting)):
                self._want_tone(work, b)

    def _master_key(self, bar: int) -> str | None:
        m = self.song.master

        def make() -> str:
            around = self.bars.stretch_key(self._mastering_key, bar, limiter.CONTEXT, limiter.CONTEXT)
            moved = self._gain_key(MASTER, bar, limiter.CONTEXT, limiter.CONTEXT)
            return "o" + digest([engine(), m.gain_db, m.ceiling_dbtp, around, moved])

        return self._known("master", "", bar, make)

    def master_block(self, bar: int) -> np.ndarray:
        """The finished mix, shape (2, samples)."""

        def compute() -> np.ndarray:
            mastered = self.bars.stretch(self._mastering, bar, limiter.CONTEXT, limiter.CONTEXT)
            return finish(self._at_gain(MASTER, mastered, bar, limiter.CONTEXT, limiter.CONTEXT), self.song.master)

        return self.cache.get(str(self._master_key(bar)), compute, on_disk=True)

    def _want_master(self, work: Work, bar: int) -> None:
        if work.want("master", self._master_key(bar), partial(self.master_block, bar)):
            for b in self.bars.around(bar, limiter.CONTEXT, limiter.CONTEXT):
                self._want_mastering(work, b)

    def mastered(self, mix: np.ndarray, master: Master, progress: Progress = lambda fraction: None) -> np.ndarray:
        """A mix of the whole song through another master without its effects, for trying masters on one mix: what `samples`
        gives, but for the level, which is in the mix already and changes before the EQ instead of behind it."""
        before, after = CONTEXT + limiter.CONTEXT, limiter.CONTEXT
        padded = np.pad(mix, ((0, 0), (before, after)))

        def piece(bar: int) -> np.ndarray:
            x = padded[:, self.bars.edge(bar) : self.bars.edge(bar + 1) + before + after]
            return finish(tone(x, master)[:, CONTEXT:], master)

        pieces = []
        with ThreadPoolExecutor(WORKERS) as pool:
            under_way = [pool.submit(piece, bar) for bar in range(self.blocks)]
            try:
                for bar, future in enumerate(under_way):
                    pieces.append(future.result())
                    progress(bar / self.blocks)
            finally:
                for future in under_way:
                    future.cancel()
        return np.concatenate(pieces, axis=1)

    # Ranges -------------------------------------------------------------------------------------------------------

    def _joined(self, node: Node, want: Want, start: int, stop: int, progress: Progress = lambda fraction: None) -> np.ndarray:
        """A node's samples start..stop-1, shape (2, n), rendered by WORKERS threads. `want` names what the node is made of; what
        `progress` raises stops it."""
        first = next(b for b in range(self.blocks + 1) if self.bars.edge(b + 1) > start)
        last = next(b for b in range(first, self.blocks + 1) if self.bars.edge(b + 1) >= stop)
        spans = [range(b, min(b + SPAN_BARS, last + 1)) for b in range(first, last + 1, SPAN_BARS)]
        out = np.zeros((2, stop - start), np.float32)
        with ThreadPoolExecutor(WORKERS) as pool:
            for k, span in enumerate(spans):
                work = Work(self.cache)
                for bar in span:
                    want(work, bar)
                work.run(pool, lambda done, k=k: progress((k + done) / len(spans)))  # type: ignore[misc]
                for bar in span:
                    block = node(bar)
                    a, b = max(self.bars.edge(bar), start), min(self.bars.edge(bar + 1), stop)
                    if block is not None:
                        out[:, a - start : b - start] = block[:, a - self.bars.edge(bar) : b - self.bars.edge(bar)]
                progress((k + 1) / len(spans))
        return out

    def samples(self, start: int, stop: int, progress: Progress = lambda fraction: None, stage: str = "master") -> np.ndarray:
        """Samples start..stop-1 of the finished mix ("master") or of the mix before the master ("mix"), (2, n)."""
        if stage == "master":
            return self._joined(self.master_block, self._want_master, start, stop, progress)
        return self._joined(lambda bar: self._levelled(self.mix_block(bar), bar), self._want_mix, start, stop, progress)

    def bar_range(self, first_bar: int, last_bar: int) -> tuple[int, int]:
        """Sample range of bars first..last, both included, 1-based."""
        return self.bars.edge(first_bar - 1), self.bars.edge(last_bar)

    def whole(self, progress: Progress = lambda fraction: None) -> Audio:
        """The whole song with its tail, cut where it has rung out."""
        x = self.samples(0, self.frames, progress)
        end = self.bars.edge(self.song.bars)
        tail = np.abs(x[:, end:]).max(axis=0)
        loud = np.flatnonzero(tail > 10 ** (-72 / 20))
        keep = min(end + (int(loud[-1]) + RATE_HZ // 4 if len(loud) else 0), x.shape[1])
        return Audio(np.ascontiguousarray(x[:, :keep]), RATE_HZ)

    def solo_part(self, part: Part, start: int, stop: int) -> np.ndarray:
        """One part behind its fader, dry, shape (2, n)."""
        return self._joined(
            lambda bar: self._levelled(self.part_block(part, bar), bar),
            lambda work, bar: self._want_part(work, part, bar),
            start,
            stop,
        )

    def peaks(self, owner: str, first_bar: int, last_bar: int, per_bar: int = PEAKS_PER_BAR) -> list[float]:
        """Highest level, 0..1, in each of `per_bar` pieces of 1-based bars first..last of a part, a bus ("bus:drums"), a return
        or the master: what is drawn behind its curves."""
        out: list[float] = []
        for bar in range(first_bar - 1, last_bar):
            block = self._block_of(owner, bar)
            if block is None:
                out += [0.0] * per_bar
            else:
                out += [round(float(np.abs(piece).max()), 3) for piece in np.array_split(block, per_bar, axis=1)]
        return out

    def _block_of(self, owner: str, bar: int) -> np.ndarray | None:
        versions = versions_of(owner, self.song)
        if versions:
            return next((b for p in versions if (b := self.part_block(p, bar)) is not None), None)
        if owner.removeprefix(BUS) in BUSES:
            return self.bus_block(owner.removeprefix(BUS), bar)
        return self.return_block(owner, bar) if owner in RETURNS else self.master_block(bar)

    def before_fader(self, part_id: str, first_bar: int, last_bar: int) -> np.ndarray:
        """A part with all of its sounds behind its effects and before its fader, 1-based bars first..last, shape (2, n)."""
        start, stop = self.bar_range(first_bar, last_bar)
        versions = versions_of(part_id, self.song)

        def node(bar: int) -> np.ndarray | None:
            blocks = [b for p in versions if self._chained_key(p, bar) is not None and (b := self._chained(p, bar)) is not None]
            return np.asarray(sum(blocks[1:], blocks[0])) if blocks else None

        def want(work: Work, bar: int) -> None:
            for part in versions:
                self._want_part(work, part, bar)

        return self._joined(node, want, start, stop)

    def plays_in(self, part_id: str) -> set[int]:
        """0-based bars of the song in which a part sounds."""
        versions = versions_of(part_id, self.song)
        return {b for b in range(self.song.bars) if any(self.notes.key(p, b) is not None for p in versions)}

    def solo_return(self, name: str, start: int, stop: int) -> np.ndarray:
        """One return, shape (2, n)."""
        return self._joined(
            lambda bar: self._levelled(self.return_block(name, bar), bar),
            lambda work, bar: self._want_return(work, name, bar),
            start,
            stop,
        )


def _moves_one_of(curve: Automation, effects: tuple[Effect, ...]) -> bool:
    """Whether a curve moves something of an effect that is on."""
    return any(e.on and e.id == curve.effect for e in effects)


def tone(x: np.ndarray, master: Master) -> np.ndarray:
    """The linear part of the master, width and EQ, from silence, shape (2, n)."""
    sections = [eq.low_cut(master.low_cut_hz, RATE_HZ), *(eq.bell(b, RATE_HZ)[None] for b in master.eq)]
    mid, side = (x[0] + x[1]) * 0.5, (x[0] - x[1]) * (0.5 * master.width)
    side = eq.apply(eq.low_cut(master.mono_below_hz, RATE_HZ), side.astype(np.float64))
    return np.ascontiguousarray(eq.apply(np.concatenate(sections), np.stack([mid + side, mid - side])), np.float32)


def finish(x: np.ndarray, master: Master) -> np.ndarray:
    """Gain, clipping and limiting of a block with the limiter's context on both sides, shape (2, n less the context)."""
    x = limiter.limit(limiter.soft_clip(x * float(factor(master.gain_db))), master.ceiling_dbtp)
    return np.ascontiguousarray(x[:, limiter.CONTEXT : -limiter.CONTEXT], np.float32)


def stems(mixdown: Mixdown, start: int, stop: int) -> dict[str, np.ndarray]:
    """Every part dry and both returns, by name, each (2, n): they sum to the mix before the master where buses do nothing."""
    out = {part.id: mixdown.solo_part(part, start, stop) for part in mixdown.song.parts}
    for name in RETURNS:
        out[f"return-{name}"] = mixdown.solo_return(name, start, stop)
    return out


def with_master_gain(song: Song, gain_db: float) -> Song:
    return replace(song, master=replace(song.master, gain_db=round(gain_db, 3)))
