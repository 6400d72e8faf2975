"""Where do strips get into each other's way, and what would help?

Each rule is a function of what was measured (lanes.py) that yields clashes: what is wrong, between which strips and frequencies, by
how much over what is accepted, and edits that cure it. They are ranked by that amount. The thresholds are the trade's own figures:
one owner of the sub, low cuts by role, mono lows, a swell at 200 to 300 Hz, over-full upper mids, no more than a few dB into the
limiter. Masking is judged by the louder of two parts per third octave and frame, only where both play (Moore, Glasberg & Baer 1997
for why levels within a few dB of each other in a band matter).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ersatz.core.balance.lanes import Lane, Lanes
from ersatz.core.bands import NOMINAL_HZ, hz_said
from ersatz.core.dsp.levels import to_db
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.effects.eq import BAND_HZ
from ersatz.core.serial import to_json
from ersatz.core.song.document import PUMP, Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import Effect, Strip
from ersatz.core.survey.document import Pump
from ersatz.core.voices import complete
from ersatz.core.words import minus

HZ = np.array(NOMINAL_HZ, float)
MOST_CLASHES = 8
#: The kick and the part under it share these; the kick owns them while it sounds.
LOW_HZ = (40.0, 125.0)
#: A bass this far under the kick at its hits lets it through, dB.
KICK_FREE_DB = -6.0
#: Two low tones nearer than the one and farther than the other don't beat; nor does a bass this far under the kick at its hits.
IN_TUNE_CENTS, FAR_CENTS, BEATS_DB = 60.0, 300.0, -10.0
#: Lows of a part under this frequency help nobody, by role; low cuts start from there.
NEEDLESS_HZ = {"clap": 125.0, "hats": 200.0, "perc": 125.0, "chords": 80.0, "lead": 110.0, "noise": 110.0}
CUT_HZ = {"clap": 180.0, "hats": 400.0, "perc": 220.0, "chords": 140.0, "lead": 200.0, "noise": 220.0}
#: Under the mix by this much in its needless lows, a part isn't heard there.
UNHEARD_DB = -14.0
#: Share of the sides in a strip's lows, of both channels' power: 0 mono, 0.5 unrelated sides.
MOST_SIDE, MONO_HZ = 0.08, 120.0
#: What the mix may differ from its reference in a region, dB.
REGION_DB = 3.0
REGIONS = {
    "sub": (25.0, 55.0), "bass": (55.0, 140.0), "low mids": (180.0, 330.0), "mids": (400.0, 1700.0), "upper mids": (2000.0, 5500.0),
    "highs": (5600.0, 16_500.0),
}  # fmt: skip
#: The band in which a part comes through best must not lie further under the rest.
BURIED_DB = {"lead": -8.0, "bass": -7.0, "chords": -11.0, "clap": -9.0, "kick": -4.0}
AUDIBLE_DB = -4.0
MOST_LIMITED_DB = 4.0
#: A narrow peak over a part's own spectrum.
RINGS_DB = 9.5
#: Two parts within this of each other, over so many third octaves in a row, share a place.
ALIKE_DB, ALIKE_BANDS = 4.0, 4
PRIORITY = ("kick", "bass", "lead", "clap", "chords", "hats", "perc", "impact", "noise")
MOST_CUT_DB, MOST_LIFT_DB = 6.0, 9.0


@dataclass(frozen=True)
class Clash:
    """`amount_db`: how far over what is accepted. `cure`: the sentence of `edits`, which are as the pages send them."""

    kind: str
    strips: tuple[str, ...]
    low_hz: float
    high_hz: float
    amount_db: float
    sentence: str
    cure: str
    edits: tuple[dict[str, Any], ...] = field(default=(), compare=False)

    @property
    def weight(self) -> float:
        """How bad it is against clashes of other kinds: dB times the weight of its kind."""
        return self.amount_db * WEIGHTS.get(self.kind, 1.0)


#: What the ear forgives least.
WEIGHTS = {
    "kick and bass": 1.2, "tuning": 0.6, "ducking": 1.1, "limiter": 0.6, "buried": 1.2, "too much": 1.0, "missing": 0.9,
    "resonance": 1.1, "stereo lows": 1.3, "lows": 1.0, "one place": 0.9,
}  # fmt: skip


@dataclass(frozen=True)
class Measured:
    """What the rules read. `reference_db`: the reference's section at the mix's loudness, or None; `limited_db`: what the limiter
    takes from the peaks of most readings; `rings`: narrow peaks by strip, (Hz, dB over the surroundings); `tones_hz`: the lowest
    strong tone of kicks and basses by strip; `ducks`: whether the section does."""

    song: Song
    lanes: Lanes
    reference_db: np.ndarray | None = None
    pump: Pump | None = None
    limited_db: float = 0.0
    rings: dict[str, list[tuple[float, float]]] = field(default_factory=dict)
    tones_hz: dict[str, float] = field(default_factory=dict)
    ducks: bool = True

    def parts(self) -> list[tuple[Part, Lane]]:
        """The parts that sound in this section, each with its lane."""
        return [(p, self.lanes.lanes[p.id]) for p in self.song.parts if p.id in self.lanes.lanes]


def find_clashes(measured: Measured) -> list[Clash]:
    """The worst first, at most MOST_CLASHES; none where nothing sounds."""
    if not measured.parts():
        return []
    found = [clash for rule in RULES for clash in rule(measured) if clash.amount_db > 0.3]
    return sorted(found, key=lambda c: -c.weight)[:MOST_CLASHES]


def _bands(low_hz: float, high_hz: float) -> np.ndarray:
    return (low_hz <= HZ) & (high_hz >= HZ)


def _under(db: float) -> str:
    return f"{-db:.1f} dB under" if db < 0 else f"{db:.1f} dB over"


def _plays(lane: Lane) -> np.ndarray:
    """Frames in which a part sounds."""
    total = lane.frames.sum(axis=0)
    return np.asarray(total > total.max() * 10**-4) if total.size and total.max() > 0 else np.zeros(lane.frames.shape[1], bool)


def _kick_and_bass(m: Measured) -> Iterator[Clash]:
    """At the kick's hits whatever plays under it steps back."""
    for first, part, apart in _under_the_kick(m):
        if apart <= KICK_FREE_DB:
            continue
        over = apart - KICK_FREE_DB
        depth = min(MOST_DUCKED_DB, part.duck_db + over + 2.0)
        curve = part.duck.curve if part.duck else (m.song.curves[0].id if m.song.curves else "")
        edits: tuple[dict[str, Any], ...]
        if curve and depth <= 24.0:
            edits = ({"kind": "set_duck", "strip": part.id, "depth_db": round(depth, 1), "curve": curve},)
            cure = f"Duck {part.name} by {depth:.1f} dB"
        else:
            edits = (_with_band(part, "bell", 62.0, -min(MOST_CUT_DB, over + 2), 1.0),)
            cure = minus(f"{part.name} {-min(MOST_CUT_DB, over + 2):.1f} dB at 62 Hz")
        said = f"{first.name} and {part.name} between 40 and 125 Hz: at its hits {part.name} is {_under(apart)} the kick"
        yield Clash("kick and bass", (first.id, part.id), *LOW_HZ, round(over, 1), said, cure, edits)


def _under_the_kick(m: Measured) -> Iterator[tuple[Part, Part, float]]:
    """The loudest kick, each bass that plays at the kicks' hits, and its level there against theirs within LOW_HZ, dB."""
    inside = _bands(*LOW_HZ)
    kicks = [
        (float(lane.frames[inside].sum()), part, lane.frames[inside].sum(axis=0)) for part, lane in m.parts() if part.role == "kick"
    ]
    if not kicks:
        return
    loudest = max(kicks, key=lambda row: row[0])[1]
    kick = np.sum([power for _, _, power in kicks], axis=0)
    hits = kick > np.percentile(kick, 95) * 10**-0.6
    for part, lane in m.parts():
        if part.role != "bass":
            continue
        both = hits & _plays(lane)[: len(hits)]
        if both.sum() >= 4:
            yield loudest, part, float(to_db(lane.frames[inside].sum(axis=0)[both].mean()) - to_db(kick[both].mean()))


def _tuning(m: Measured) -> Iterator[Clash]:
    """A kick whose fundamental lies between the bass's tones beats against them while both sound."""
    for kick, bass, apart in _under_the_kick(m):
        ours, theirs = m.tones_hz.get(kick.id, 0.0), m.tones_hz.get(bass.id, 0.0)
        if not ours or not theirs or apart <= BEATS_DB:
            continue
        cents = 1200 * float(np.log2(theirs / ours))
        if not IN_TUNE_CENTS < abs(cents) < FAR_CENTS:
            continue
        where = f"{abs(cents) / 100:.1f} semitones {'under' if cents > 0 else 'over'}"
        said = f"{kick.name} at {ours:.1f} Hz lies {where} {bass.name} at {theirs:.1f} Hz"
        tuned = complete(kick.sound).params.get("fundamental_hz", 0.0) * theirs / ours
        edits: tuple[dict[str, Any], ...]
        if 30.0 <= tuned <= 110.0:
            edits, cure = (
                ({"kind": "set_sound_value", "part": kick.id, "name": "fundamental_hz", "value": round(tuned, 2)},),
                f"{kick.name} tuned to {theirs:.1f} Hz",
            )
        else:
            edits, cure = (
                (_with_band(bass, "bell", ours, -MOST_CUT_DB, 3.0),),
                f"{bass.name} −{MOST_CUT_DB:.1f} dB at {ours:.0f} Hz, narrow",
            )
        yield Clash(
            "tuning",
            (kick.id, bass.id),
            min(ours, theirs) / 1.1,
            max(ours, theirs) * 1.1,
            round(apart - BEATS_DB, 1),
            said,
            cure,
            edits,
        )


def _ducking(m: Measured) -> Iterator[Clash]:
    """Parts that the reference's pump would move and that stand still here."""
    if m.pump is None or not m.pump.told or m.pump.depth_db < 3 or not m.ducks or m.song.curve(PUMP) is None:
        return
    still = [p for p, _ in m.parts() if p.role in ("bass", "chords") and p.duck_db < m.pump.depth_db / 3]
    if not still:
        return
    depth = round(m.pump.depth_db, 1)
    edits = tuple({"kind": "set_duck", "strip": p.id, "depth_db": depth, "curve": PUMP} for p in still)
    names = " and ".join(p.name for p in still[:3])
    missing = m.pump.depth_db - float(np.mean([p.duck_db for p in still]))
    yield Clash(
        "ducking", tuple(p.id for p in still), 40.0, 8000.0, round(missing, 1),
        f"{names}: hardly ducked, the reference by {depth:.1f} dB", f"Duck {names} by {depth:.1f} dB", edits,
    )  # fmt: skip


def needless_lows(rows: Iterable[tuple[Part, np.ndarray]], mix: np.ndarray) -> list[tuple[float, Part]]:
    """Parts that are heard in lows which only kick and bass need, by how much (dB), the worst first. `rows`: parts with their power
    per third octave; `mix`: that of all of them; shape (BANDS,)."""
    found = []
    for part, power in rows:
        top = NEEDLESS_HZ.get(part.role)
        if top is None:
            continue
        inside = _bands(20.0, top)
        over = float(to_db(power[inside].sum()) - to_db(mix[inside].sum())) - UNHEARD_DB
        if over > 0 and part.low_cut_hz < top:
            found.append((over, part))
    return sorted(found, key=lambda row: -row[0])


def _needless_lows(m: Measured) -> Iterator[Clash]:
    rows = [(part, lane.power) for part, lane in m.parts()]
    found = needless_lows(rows, np.sum([power for _, power in rows], axis=0))
    if not found:
        return
    parts = [p for _, p in found]
    edits = tuple({"kind": "set_cuts", "part": p.id, "low_cut_hz": CUT_HZ[p.role], "high_cut_hz": p.high_cut_hz} for p in parts)
    names = ", ".join(p.name for p in parts[:3]) + (f" and {len(parts) - 3} more" if len(parts) > 3 else "")
    yield Clash(
        "lows", tuple(p.id for p in parts), 20.0, NEEDLESS_HZ[parts[0].role], round(found[0][0], 1),
        f"{names}: lows that only the kick and the bass need",
        f"Low cut {'by role' if len(parts) > 1 else hz_said(CUT_HZ[parts[0].role])}", edits,
    )  # fmt: skip


def _stereo_lows(m: Measured) -> Iterator[Clash]:
    if m.song.master.mono_below_hz >= 100:
        return
    inside = _bands(20.0, MONO_HZ)
    mix = sum(float(lane.power[inside].sum()) for _, lane in m.parts())
    for part, lane in m.parts():
        low = float(lane.power[inside].sum())
        if low < mix * 10**-1.2:
            continue
        share = float(lane.side[inside].sum()) / max(low, 1e-15)
        if share > MOST_SIDE:
            yield Clash(
                "stereo lows", (part.id,), 20.0, MONO_HZ, round(float(10 * np.log10(share / MOST_SIDE)), 1),
                f"{part.name}: {share:.0%} of its lows are in the sides", f"{part.name} mono below {MONO_HZ:.0f} Hz",
                ({"kind": "set_strip", "strip": part.id, "name": "mono_below_hz", "value": MONO_HZ},),
            )  # fmt: skip


def _regions(m: Measured) -> Iterator[Clash]:
    """Against the reference; without one, only a swell of the low mids over their neighbours."""
    mix = m.lanes.mix.level_db
    if m.reference_db is not None:
        difference = mix - m.reference_db
        for name, (low, high) in REGIONS.items():
            off = float(difference[_bands(low, high)].mean())
            if abs(off) > REGION_DB:
                yield _off_region(m, name, low, high, off)
        return
    inside, around = _bands(180, 330), _bands(110, 165) | _bands(390, 640)
    off = float(mix[inside].mean() - mix[around].mean())
    if off > REGION_DB + 1:
        yield _off_region(m, "low mids", 180.0, 330.0, off)


def _off_region(m: Measured, name: str, low: float, high: float, off: float) -> Clash:
    inside = _bands(low, high)
    shares = sorted(((float(lane.power[inside].sum()), part, lane) for part, lane in m.parts()), key=lambda row: -row[0])
    _, part, lane = shares[0]
    total = sum(power for power, _, _ in shares)
    at_home = lane.power[inside].sum() > 0.45 * lane.power.sum() and shares[0][0] > 0.5 * total
    over = abs(off) - REGION_DB
    middle = float(np.sqrt(low * high))
    if off > 0:
        by = -min(MOST_CUT_DB, off - 1)
        sentence = f"Too much in the {name}: {off:+.1f} dB against the reference, most of it {part.name}"
        if name == "low mids":
            sentence = f"Swollen at 200 to 300 Hz: {off:+.1f} dB, most of it {part.name}"
        kind = "too much"
    else:
        by = min(MOST_CUT_DB, -off - 1)
        sentence = f"The reference has more in the {name}: {off:+.1f} dB here; {part.name} could fill it"
        kind = "missing"
    if at_home:
        edits = ({"kind": "set_strip", "strip": part.id, "name": "gain_db", "value": round(part.gain_db + by, 2)},)
        cure = f"{part.name} {by:+.1f} dB"
    else:
        shape = "high shelf" if name == "highs" else "low shelf" if name == "sub" else "bell"
        edits = (_with_band(part, shape, middle, by, 0.7 if shape == "bell" else 0.71),)
        cure = f"{part.name} {by:+.1f} dB at {hz_said(middle)}"
    return Clash(kind, (part.id,), low, high, round(over, 1), minus(sentence), minus(cure), edits)


def _buried(m: Measured) -> Iterator[Clash]:
    """A part that comes through in no band, while it plays; a layer is there to colour another."""
    whole = np.sum([lane.frames for _, lane in m.parts()], axis=0)
    for part, lane in m.parts():
        limit = BURIED_DB.get(part.role)
        plays = _plays(lane)
        if limit is None or part.follows or plays.sum() < 8:
            continue
        own = lane.frames[:, plays].mean(axis=1)
        rest = np.maximum(whole[:, plays].mean(axis=1) - own, 1e-15)
        level = to_db(own)
        margin = np.where(level > level.max() - 20, level - to_db(rest), -200.0)
        best = int(margin.argmax())
        if margin[best] >= limit:
            continue
        by = min(MOST_LIFT_DB + 3, AUDIBLE_DB - float(margin[best]))
        yield Clash(
            "buried", (part.id,), HZ[best] / 1.3, HZ[best] * 1.3, round(limit - float(margin[best]), 1),
            f"{part.name} is buried: at best {-margin[best]:.0f} dB under the rest, at {hz_said(HZ[best])}",
            f"{part.name} {by:+.1f} dB",
            ({"kind": "set_strip", "strip": part.id, "name": "gain_db", "value": round(part.gain_db + by, 2)},),
        )  # fmt: skip


def _one_place(m: Measured) -> Iterator[Clash]:
    """Two parts with the same third octaves at the same time and level, but for a layer and the part that it follows."""
    parts = [(p, lane) for p, lane in m.parts() if p.role in ("bass", "chords", "lead", "noise")]
    whole = to_db(np.sum([lane.power for _, lane in m.parts()], axis=0))
    middle = _bands(140.0, 9000.0)
    for k, (one, first) in enumerate(parts):
        for other, second in parts[k + 1 :]:
            if any(a.follows and a.follows.part == b.id for a, b in ((one, other), (other, one))):
                continue
            plays, too = _plays(first), _plays(second)
            both = plays & too
            if both.sum() < max(8, 0.4 * (plays | too).sum()):
                continue
            a, b = to_db(first.frames[:, both].mean(axis=1)), to_db(second.frames[:, both].mean(axis=1))
            near = middle & (np.abs(a - b) < ALIKE_DB) & (np.minimum(first.level_db, second.level_db) > whole - 8.0)
            begin, length = _longest(near)
            if length < ALIKE_BANDS:
                continue
            loser = max((one, other), key=lambda p: (PRIORITY.index(p.role), p.id))
            keeper = other if loser is one else one
            low, high = HZ[begin], HZ[begin + length - 1]
            closeness = float(ALIKE_DB - np.abs(a - b)[begin : begin + length].mean())
            at = float(np.sqrt(low * high))
            yield Clash(
                "one place", (keeper.id, loser.id), low, high, round(closeness * length / ALIKE_BANDS, 1),
                f"{keeper.name} and {loser.name} in one place, {hz_said(low)} to {hz_said(high)}",
                f"{loser.name} −4.0 dB at {hz_said(at)}",
                (_with_band(loser, "bell", at, -4.0, 0.8),),
            )  # fmt: skip


def _longest(row: np.ndarray) -> tuple[int, int]:
    """Start and length of the longest run of True."""
    best, start = (0, 0), None
    for i, on in enumerate([*row, False]):
        if on and start is None:
            start = i
        elif not on and start is not None:
            best, start = max(best, (start, i - start), key=lambda run: run[1]), None
    return best


def _resonances(m: Measured) -> Iterator[Clash]:
    mix = m.lanes.mix.level_db
    whole = to_db(np.sum([lane.power for _, lane in m.parts()], axis=0))
    for part, lane in m.parts():
        if part.role not in ("bass", "chords", "lead", "noise"):
            continue
        hz, over, q = max((*((hz, over, 7.0) for hz, over in m.rings.get(part.id, [])), (*_bump(lane), 4.0)), key=lambda r: r[1])
        band = int(np.abs(np.log(HZ / hz)).argmin())
        if over < RINGS_DB or lane.level_db[band] < whole[band] - 9 or mix[band] < mix.max() - 30:
            continue
        by = -min(9.0, over - 2)
        yield Clash(
            "resonance", (part.id,), hz / 1.12, hz * 1.12, round(over - RINGS_DB + 1.5, 1),
            f"{part.name} rings at {hz_said(hz)}, {over:.0f} dB over its surroundings",
            minus(f"{part.name} {by:.1f} dB at {hz_said(hz)}, narrow"), (_with_band(part, "bell", hz, by, q),),
        )  # fmt: skip


def _bump(lane: Lane) -> tuple[float, float]:
    """The third octave between 800 Hz and 8 kHz that stands out most over its neighbours: Hz and dB. Of a part that holds few notes
    a resonance raises single partials, which no finer look would tell from notes."""
    level = lane.level_db
    over = [level[b] - (max(level[b - 2 : b]) + max(level[b + 1 : b + 3])) / 2 for b in range(16, 27)]
    best = int(np.argmax(over))
    return float(HZ[16 + best]), float(over[best])


def _limiter(m: Measured) -> Iterator[Clash]:
    if m.limited_db <= MOST_LIMITED_DB:
        return
    by = -(m.limited_db - MOST_LIMITED_DB + 0.5)
    yield Clash(
        "limiter", ("master",), 20.0, 20_000.0, round(m.limited_db - MOST_LIMITED_DB, 1),
        f"The limiter takes {m.limited_db:.1f} dB from the peaks", minus(f"Master fader {by:.1f} dB"),
        ({"kind": "set_strip", "strip": "master", "name": "gain_db", "value": round(m.song.master.gain_db + by, 2)},),
    )  # fmt: skip


def _with_band(strip: Strip, kind: str, hz: float, db: float, q: float) -> dict[str, Any]:
    """The edit that gives a strip one EQ band more: in its equaliser's first free band, or in one of its own."""
    if isinstance(strip, Master):
        raise ValueError("the master has bells of its own")
    chain = list(strip.chain)
    for i, effect in enumerate(chain):
        free = next((k for k in range(1, len(BAND_HZ) + 1) if effect.choices.get(f"band{k}_kind", "off") == "off"), None)
        if effect.kind == "eq" and effect.on and free and effect.choices.get("channels", "both sides") == "both sides":
            chain[i] = _banded(effect, free, kind, hz, db, q)
            break
    else:
        chain.append(_banded(Effect("eq"), 1, kind, hz, db, q))
    return {"kind": "set_effects", "strip": strip.id, "effects": to_json(chain)}


def _banded(effect: Effect, k: int, kind: str, hz: float, db: float, q: float) -> Effect:
    params = {**effect.params, f"band{k}_hz": round(hz, 1), f"band{k}_db": round(db, 2), f"band{k}_q": q}
    return replace(effect, params=params, choices={**effect.choices, f"band{k}_kind": kind})


RULES = (
    _kick_and_bass, _tuning, _ducking, _needless_lows, _stereo_lows, _regions, _buried, _one_place, _resonances, _limiter,
)  # fmt: skip
