"""Strips as nodes, bar by bar, in the order of the signal: source -> gain in, chain, width -> fader, pan, ducking -> output, sends.

Parts, buses, returns and the master go through the same functions; what differs is where the source comes from: a part's notes, or
the sum of what other strips send there. Positions in settings are counted from the bar line, so that a bar that comes again is
computed once: club music repeats. Every process remembers a bounded stretch only (effects run from their reach in front of the
bar), so any range of a song is the same samples as that range of the whole.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from typing import Any, TypeVar, cast

import numpy as np

from ersatz.core.dsp.control import CONTROL
from ersatz.core.dsp.levels import add, add_along, factor, panned
from ersatz.core.effects.chain import period_beats, reach, run_chain, spec_of
from ersatz.core.effects.spec import Where
from ersatz.core.mixdown import automation
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.ducks import Ducks
from ersatz.core.mixdown.graph import Graph, Inputs, Kept, Node, Source, fingerprint, hashed
from ersatz.core.mixdown.notes import Notes
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song, SongSection, digest
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import FADER, MASTER, SENDS, Effect, Strip, sends_of
from ersatz.core.transitions.spec import base_of, versions_of

#: A change of level from one bar to the next is made over this much of the end of the first, so that the bar line has the new one.
LEVEL_RAMP = 882
#: A send under this is as good as closed.
SILENT_SEND_DB = -59.0

Chain = tuple[Effect, ...]
#: Gain and pan of a fader, and what is added to the gain: the cell's level, the next bar's, and the gain in front of the chain
#: where no chain has taken it.
Levels = tuple[float | np.ndarray, float | np.ndarray, tuple[float, float, float]]
T = TypeVar("T")
#: Stands for a node that wasn't asked for yet; None is silence.
UNMADE = object()


@dataclass(frozen=True, slots=True)
class Tap:
    """What leaves a strip in a bar, for who sums it up: a node at a gain for each side, pulled down by `duck`."""

    node: Node
    sides: tuple[float, float] = (1.0, 1.0)
    duck: Node | None = None


class Strips:
    """The strips of a staged song. `heard`: ids of the parts that sound, None for all; the others still steer and cut."""

    def __init__(self, song: Song, bars: Bars, notes: Notes, heard: frozenset[str] | None, graph: Graph):
        self._song, self._bars, self._notes, self._heard, self._graph = song, bars, notes, heard, graph
        self._ducks = Ducks(song, bars)
        self._values = notes.values
        self._values.listen(self._sound)
        self._made: dict[tuple[str, str, int], Any] = {}
        self._chains = {strip.id: self._with_width(strip) for strip in song.strips()}
        self._fed_by = {strip.id: self._feeders(strip) for strip in song.strips() if not isinstance(strip, Part)}
        self._acts: dict[tuple[str, int], Chain] = {}
        self._reduced: dict[tuple[str, int], Chain] = {}
        # By identity: `_chains` and `_reduced` hold the chains for as long as they are asked for.
        self._settings: dict[tuple[str, int], str] = {}
        self._keys: dict[str, dict[int, str | None]] = {}
        self._reaches: dict[str, list[tuple[int, int]]] = {}
        self._periods: dict[int, float] = {}
        self._hits_of: dict[tuple[str, ...], np.ndarray] = {}
        self._sections = [(k, section) for _, section in song.placed() for k in range(section.bars)]
        self._cells: dict[str, dict[str, float]] = {p.id: {c.section: c.level_db for c in reversed(p.cells)} for p in song.parts}

    def _once(self, stage: str, strip: Strip, bar: int, make: Callable[[], T]) -> T:
        place = (stage, strip.id, bar)
        # Another thread may let go of the nodes meanwhile.
        made = self._made.get(place, UNMADE)
        if made is UNMADE:
            made = self._made[place] = make()
        return cast(T, made)

    def forget(self) -> None:
        """Lets go of the nodes: they hold on to everything that they are made of, and are quick to make again."""
        self._made.clear()

    # Source -----------------------------------------------------------------------------------------------------

    def source(self, strip: Strip, bar: int) -> Node | None:
        """What comes into a strip; None where that is silence."""
        if isinstance(strip, Part):
            return self._notes.node(strip, bar)
        return self._once("sum", strip, bar, lambda: self._sum(strip, bar))

    def _sum(self, strip: Strip, bar: int) -> Node | None:
        """Strips that go there, in the song's order, then what is sent there."""
        taps: list[tuple[Tap, float | np.ndarray]] = []
        for feeder, goes, sends in self._fed_by[strip.id]:
            if goes and (tap := self._tap(feeder, bar)):
                taps.append((tap, 0.0))
            if bar >= 0 and sends and (tap := self._sent(feeder, strip.id, bar)):
                level = self._value(feeder, SENDS, strip.id, bar, feeder.send_db(strip.id))
                if np.max(level) > SILENT_SEND_DB:
                    taps.append((tap, level))
        if not taps:
            return None
        n = self._bars.length(bar)
        nodes = [*(tap.node for tap, _ in taps), *(tap.duck for tap, _ in taps)]

        def compute(inputs: Inputs) -> np.ndarray:
            out = np.zeros((2, n), np.float32)
            for (tap, level), samples, ducked in zip(taps, inputs, inputs[len(taps) :]):
                _mix_in(out, samples, tap.sides, _per_sample(level, n), ducked)
            return out

        return Node("sum", (n, [(tap.sides, fingerprint(level)) for tap, level in taps]), lambda: nodes, compute, "quick")

    def _feeders(self, strip: Strip) -> list[tuple[Strip, bool, bool]]:
        """Strips that go to this one or send to it, and which of both."""
        all_of_them = ((s, s.out == strip.id, strip.id in self._sends(s)) for s in self._song.strips())
        return [row for row in all_of_them if row[1] or row[2]]

    def _sends(self, strip: Strip) -> set[str]:
        """Returns that a strip sends to, or may, as its values move."""
        return sends_of(strip) | (self._values.moves(strip, SENDS) if isinstance(strip, Part) else set())

    def _sent(self, strip: Strip, to: str, bar: int) -> Tap | None:
        if to in strip.sends and strip.sends[to].before_fader:
            chained = self.chained(strip, bar) if self._is_open(strip) else None
            return None if chained is None else Tap(chained)
        return self._tap(strip, bar)

    def _tap(self, strip: Strip, bar: int) -> Tap | None:
        """What leaves a strip; None where it is silent. A fader that stands is applied by who sums up: most do, and samples are
        gone through once less."""
        return self._once("tap", strip, bar, lambda: self._tapped(strip, bar)) if self._is_open(strip) else None

    def _tapped(self, strip: Strip, bar: int) -> Tap | None:
        chained = self.chained(strip, bar)
        if chained is None:
            return None
        gain, pan, (cell, coming, gain_in) = levels = self._levels(strip, bar)
        if isinstance(gain, float) and isinstance(pan, float) and cell == coming:
            return Tap(chained, _sides(pan, gain + cell + gain_in), self._ducks.gain(strip.duck, bar))
        return Tap(self._once("out", strip, bar, lambda: self._faded(strip, bar, chained, levels)))

    def _is_open(self, strip: Strip) -> bool:
        heard = self._heard is None or not isinstance(strip, Part) or base_of(strip) in self._heard
        return heard and not strip.mute

    # Chain ------------------------------------------------------------------------------------------------------

    def chained(self, strip: Strip, bar: int, source: Source | None = None) -> Node | None:
        """A strip behind its chain and width, before its fader. Where the chain does nothing, that is its source. `source`: where
        something else comes in than the strip's own."""
        comes_in = source or (lambda b: self.source(strip, b))
        chain = self._acting(strip, bar)
        if not chain:
            return comes_in(bar)
        return self._once("chain", strip, bar, lambda: self._chain(strip, chain, comes_in, bar))

    def _chain(self, strip: Strip, chain: Chain, source: Source, bar: int) -> Node | None:
        keys = self._keys_of(strip)
        if bar not in keys:
            node = self._processed(strip, chain, source, bar)
            keys[bar] = None if node is None else node.key
            return node
        if (key := keys[bar]) is None:
            return None
        # Most such bars are kept, and then nothing but the key is asked for.
        whole = cache(lambda: cast(Node, self._processed(strip, chain, source, bar)))
        return Node("chain", None, lambda: whole().inputs, lambda inputs: whole().compute(inputs), _kept(strip), key)

    def _keys_of(self, strip: Strip) -> dict[int, str | None]:
        """Keys behind a strip's chain by bar. Those of a part stay from song to song: most edits leave most parts alone. Where
        other parts steer it or a modulator moves it, they aren't its own alone, and are found anew."""
        if strip.id not in self._keys:
            chain, keys = self._chains[strip.id], {}
            if isinstance(strip, Part) and not self._values.is_steered(strip) and not any(e.sidechain for e in chain):
                keys = self._notes.keys_behind(strip, (self._chain_settings(strip, chain), strip.automation))
            self._keys[strip.id] = keys
        return self._keys[strip.id]

    def _processed(self, strip: Strip, chain: Chain, source: Source, bar: int) -> Node | None:
        # Those that are off hear nothing.
        reaches = [pair if effect.on else (0, 0) for effect, pair in zip(chain, self._reaches_of(strip))]
        before, after = (sum(pair[k] for pair in reaches) for k in (0, 1))
        bars = self._bars.around(bar, before, after)
        sources = [source(b) for b in bars]
        if all(node is None for node in sources):
            return None
        n = before + self._bars.length(bar) + after
        control = {
            (effect.id, param): self._over(strip, effect.id, param, bar, before, n)
            for effect in chain if effect.on
            for param in sorted(self._values.moves(strip, effect.id)) if _has(effect, param)
        }  # fmt: skip
        steering = [e.sidechain for e in chain if e.sidechain]
        steered = [self._side_chain(part_id, b) for part_id in steering for b in bars]
        begins = self._begins(chain, bar)
        start, shift = self._bars.edge(begins) - before, self._bars.edge(bar) - self._bars.edge(begins)
        gain_in = float(factor(strip.gain_in_db))
        own = (strip,) if isinstance(strip, Part) else ()

        def compute(inputs: Inputs) -> np.ndarray:
            x = self._bars.stretch(inputs[: len(bars)], bars, bar, before, after, np.float64)
            if strip.gain_in_db:
                x *= gain_in

            def moved(effect_id: str) -> dict[str, np.ndarray]:
                return {param: automation.curve(c, n) for (device, param), c in control.items() if device == effect_id}

            def sidechain(part_id: str) -> tuple[np.ndarray, np.ndarray]:
                at = (steering.index(part_id) + 1) * len(bars)
                signal = self._bars.stretch(inputs[at : at + len(bars)], bars, bar, before, after)
                return signal, self._hits(tuple(versions_of(part_id, self._song))) - shift

            where = Where(RATE_HZ, self._song.bpm, start, hits=self._hits(own) - shift)
            out = run_chain(x, chain, where, moved, sidechain, reaches)
            return np.ascontiguousarray(out, np.float32)

        moved_by = [(target, fingerprint(c)) for target, c in control.items()]
        settings = (self._chain_settings(strip, chain), self._bars.lengths(bars), before, after, moved_by, begins)
        return Node("chain", settings, lambda: [*sources, *steered], compute, _kept(strip))

    def _reaches_of(self, strip: Strip) -> list[tuple[int, int]]:
        """Samples before and after a stretch that each effect of a strip hears."""
        if strip.id not in self._reaches:
            chain = self._chains[strip.id]
            drawn = {e.id: self._values.extremes(strip, e.id) for e in chain}
            moved = tuple((name, *values.tolist()) for e in chain for name, values in sorted(drawn[e.id].items()))

            def found() -> list[tuple[int, int]]:
                return [reach((e,), self._song.bpm, RATE_HZ, drawn.__getitem__) for e in chain]

            made_of = ("reach", self._chain_settings(strip, chain), moved)
            self._reaches[strip.id] = self._graph.cache.remembered(made_of, found)
        return self._reaches[strip.id]

    def _acting(self, strip: Strip, bar: int) -> Chain:
        """The chain with those effects off that are automated to a blend of 0 in a bar and as far around it as the effects behind
        them hear: there they pass their input as it is, and what the chain does in all other bars isn't worked out anew for them.
        Empty where nothing is on."""
        known = self._acts.get((strip.id, bar))
        if known is None:
            known = self._acts[strip.id, bar] = self._act(strip, bar)
        return known

    def _act(self, strip: Strip, bar: int) -> Chain:
        chain = self._chains[strip.id]
        if not any(a.param == "blend" for a in strip.automation):
            return chain
        # A value is heard as far as it is joined to the next one.
        first, n, off = CONTROL, CONTROL + self._bars.length(bar), 0
        for k, (effect, (before, after)) in reversed([*enumerate(zip(chain, self._reaches_of(strip)))]):
            if not effect.on or self._values.standing(strip, effect.id, "blend", bar, first, n) == 0.0:
                off |= 1 << k
            else:
                first, n = first + before, n + before + after
        if off == (1 << len(chain)) - 1 and all(e.on or not e.bypass_db for e in chain):
            return ()
        if (strip.id, off) not in self._reduced:
            still = tuple(replace(e, on=False, bypass_db=0.0) if e.on and off >> k & 1 else e for k, e in enumerate(chain))
            self._reduced[strip.id, off] = chain if still == chain else still
        return self._reduced[strip.id, off]

    def _chain_settings(self, strip: Strip, chain: Chain) -> str:
        """What of a chain doesn't depend on the bar; worked out once for each."""
        place = (strip.id, id(chain))
        if place not in self._settings:
            self._settings[place] = hashed(self._song.bpm, strip.gain_in_db, digest(to_json(chain)))
        return self._settings[place]

    def _begins(self, chain: Chain, bar: int) -> int:
        """The first bar at which the chain's LFOs stand where they stand in this one, so that equal bars share a key."""
        if id(chain) not in self._periods:
            self._periods[id(chain)] = period_beats(chain)
        period = self._periods[id(chain)]
        if period == 0:
            return 0
        bars = period / self._song.grid.beats_per_bar
        if not np.isfinite(bars) or bars * 24 != round(bars * 24):
            return bar
        # So many bars until period and bar line fall together again.
        return bar % max(1, round(bars * 24) // int(np.gcd(round(bars * 24), 24)))

    def _side_chain(self, part_id: str, bar: int) -> Node | None:
        """What a part steers others by: its notes at its level, without its effects, so that two may steer each other."""
        versions = [(p.gain_db, node) for p in versions_of(part_id, self._song) if (node := self._notes.node(p, bar)) is not None]
        if not versions:
            return None
        gains = tuple(gain_db for gain_db, _ in versions)

        def compute(inputs: Inputs) -> np.ndarray:
            return np.asarray(sum(samples * np.float32(factor(db)) for samples, db in zip(inputs, gains) if samples is not None))

        return Node("side", gains, lambda: [node for _, node in versions], compute, "quick")

    def _sound(self, part_id: str, bar: int, before: int, after: int) -> np.ndarray:
        """What a part steers others by, over a stretch. Computed at once: values are in the keys of what they move."""
        bars = self._bars.around(bar, before, after)
        nodes = [self._side_chain(part_id, b) for b in bars]
        return self._bars.stretch([None if node is None else self._graph.samples(node) for node in nodes], bars, bar, before, after)

    def _hits(self, parts: tuple[Part, ...]) -> np.ndarray:
        """Song samples at which the parts have notes, in order. They are in the keys of the parts' notes."""
        ids = tuple(p.id for p in parts)
        if ids not in self._hits_of:
            self._hits_of[ids] = np.sort(np.concatenate([np.zeros(0, np.int64), *(self._notes.hits(p) for p in parts)]))
        return self._hits_of[ids]

    # Fader ------------------------------------------------------------------------------------------------------

    def out(self, strip: Strip, bar: int) -> Node | None:
        """What leaves a strip: level, pan and ducking applied; None where it is silent."""
        if not self._is_open(strip):
            return None
        return self._once("out", strip, bar, lambda: self.faded(strip, bar, self.chained(strip, bar)))

    def faded(self, strip: Strip, bar: int, chained: Node | None) -> Node | None:
        """A strip's bar from behind its chain through its fader."""
        return None if chained is None else self._faded(strip, bar, chained, self._levels(strip, bar))

    def _faded(self, strip: Strip, bar: int, chained: Node, levels: Levels) -> Node:
        n, (gain, pan, added) = self._bars.length(bar), levels
        duck = self._ducks.gain(strip.duck, bar)
        if duck is None and not any(np.ndim(v) or v for v in (gain, pan, *added)):
            return chained

        def compute(inputs: Inputs) -> np.ndarray:
            samples, ducked = inputs
            gain_db = _per_sample(gain, n) + ramped_db(added[0], added[1], n) + added[2]
            out = samples * panned(_per_sample(pan, n), gain_db).astype(np.float32)
            return out if ducked is None else np.multiply(out, ducked, out)

        return Node("fader", (n, fingerprint(gain), fingerprint(pan), added), lambda: (chained, duck), compute, "quick")

    def _levels(self, strip: Strip, bar: int) -> Levels:
        gain, pan = (self._value(strip, FADER, name, bar, at) for name, at in (("gain_db", strip.gain_db), ("pan", strip.pan)))
        gain_in = 0.0 if self._acting(strip, bar) else strip.gain_in_db
        return gain, pan, (self._cell_db(strip, bar), self._cell_db(strip, bar + 1), gain_in)

    def _cell_db(self, strip: Strip, bar: int) -> float:
        return self._cells.get(strip.id, {}).get(self.section(bar)[1].id, 0.0)

    def section(self, bar: int) -> tuple[int, SongSection]:
        """A bar's place in its section and the section; what rings on behind the song belongs to the last bar."""
        return self._sections[min(max(bar, 0), len(self._sections) - 1)]

    # Values -----------------------------------------------------------------------------------------------------

    def _value(self, strip: Strip, device: str, param: str, bar: int, otherwise: float) -> float | np.ndarray:
        """A value in a bar: control values where it moves, one number where it stands."""
        if not self._values.is_moved(strip, device, param):
            return float(otherwise)
        return self._over(strip, device, param, bar, 0, self._bars.length(bar))

    def _over(self, strip: Strip, device: str, param: str, bar: int, before: int, n: int) -> float | np.ndarray:
        """A moving value over a stretch of n samples that begins so many before a bar: one number where it stands all the same."""
        stands = self._values.standing(strip, device, param, bar, before, n)
        return self._values.control(strip, device, param, bar, before, n) if stands is None else stands

    def _with_width(self, strip: Strip) -> Chain:
        """A strip's chain with its width behind it; the master has its own in front of everything."""
        moves = self._values.is_moved(strip, FADER, "width")
        if strip.id == MASTER or (strip.width == 1 and not strip.mono_below_hz and not moves):
            return strip.chain
        return (*strip.chain, Effect("width", {"width": strip.width, "mono_below_hz": strip.mono_below_hz}, id=FADER))


def _kept(strip: Strip) -> Kept:
    return "disk" if isinstance(strip, Part) else "memory"


@lru_cache(maxsize=4096)
def _sides(pan: float, gain_db: float) -> tuple[float, float]:
    """Gains of both sides."""
    if pan == 0 and gain_db == 0:
        return 1.0, 1.0
    left, right = panned(pan, gain_db)[:, 0]
    return float(left), float(right)


def _mix_in(
    out: np.ndarray, samples: np.ndarray, sides: tuple[float, float], gain_db: float | np.ndarray, ducked: np.ndarray | None
) -> None:
    """Onto `out`, shape (2, n), float32: samples at a gain for each side and one for both, which may move, pulled down."""
    moves = factor(gain_db).astype(np.float32)
    along = ducked if moves.ndim == 0 else moves if ducked is None else moves * ducked
    for side, gain in enumerate(sides):
        level = np.float32(gain * moves if moves.ndim == 0 else gain)
        if along is None:
            add(out[side], level, samples[side])
        else:
            add_along(out[side], level, along, samples[side])


def ramped_db(level: float, coming: float, n: int) -> float | np.ndarray:
    """A bar's level that has reached the next bar's at the bar line: in the last LEVEL_RAMP of its n samples."""
    if coming == level:
        return level
    out, ramp = np.full(n, level), min(n, LEVEL_RAMP)
    out[n - ramp :] += (coming - level) * np.arange(LEVEL_RAMP - ramp, LEVEL_RAMP) / LEVEL_RAMP
    return out


def _per_sample(value: float | np.ndarray, n: int) -> float | np.ndarray:
    return automation.curve(value, n) if isinstance(value, np.ndarray) else value


def _has(effect: Effect, param: str) -> bool:
    return param == "blend" or any(p.name == param for p in spec_of(effect).params)
