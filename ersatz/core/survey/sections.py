"""Where do the sections lie, and what are they?

Method: bar-wise levels, presence and pitch classes; checkerboard novelty at two widths (Foote 2000); dynamic programming over the
bar lines with a prior that likes 8, 16 and 32 bars; labels by energy, kick, bass and position, as a listener counts them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import ROLES, Energy, Label, Presence
from ersatz.core.survey.shared import MIDI_LOW, TONAL_HOP, TONAL_HZ, Shared

MAX_BARS = 64
#: Cost of one more boundary, in units of the novelty's own scale.
BOUNDARY_COST = 0.32
#: A riser climbs at least this far.
RAMP_DB = 8.0
RAMP_BARS = (2, 4, 8, 16)
#: Amplitude over time: from a straight fade to a swell that comes late.
RAMP_EXPONENTS = (1.0, 1.5, 2.0, 2.5, 3.0, 3.5)
#: Misfit as a share of the climb from which it is no riser, and how much noise beside a riser counts.
RAMP_MISFIT, BESIDE = 0.055, 0.35
#: Where the tune has gone the middle lies at least this far under the drop's.
TUNELESS_DB = 1.2
#: Sections are divided until they are this long on average, at bar lines where the bands' steps add up to so many dB.
USUAL_BARS, PLAIN_DB = 10, 6.0
#: No part is shorter. With so few kinds of sections, or so few as long as a club form's, the form isn't clear, and all from
#: this length on are divided; else only those longer than a drop.
LEAST_BARS, UNCLEAR_KINDS, REGULAR, UNCLEAR_BARS, LONGEST_DROP_BARS = 4, 3, 0.6, 8, 32


@dataclass(frozen=True)
class Span:
    """A found section, before times and loudness are attached. `start` is a 0-based bar."""

    start: int
    bars: int
    label: Label
    confidence: float
    like: int | None


def find_sections(
    shared: Shared, bars: BarTable, presence: Presence, energy: Energy, noise_db: np.ndarray, changed_db: np.ndarray
) -> list[Span]:
    """`noise_db` as rising_noise gives it, `changed_db` how much changes at each bar line, as changes.leading does."""
    features = _features(shared, bars, presence, energy)
    novelty = _novelty(features)
    starts = _boundaries(novelty, bars.count)
    lengths = np.diff([*starts, bars.count])
    starts, labels = _merged(starts, _labels(starts, lengths, presence, energy))
    starts, labels = _builds(starts, labels, noise_db, bars.count)
    starts = _outro_start(starts, labels, np.array(energy.mid_db))
    starts, labels = without_fills(*divided(starts, labels, changed_db))
    lengths = np.diff([*starts, bars.count])
    spans: list[Span] = []
    for i, (start, length) in enumerate(zip(starts, lengths)):
        confidence = 0.9 if i == 0 else float(np.clip(0.4 + novelty[start], 0.2, 0.95))
        like = _like(features, spans, int(start), int(length), labels[i])
        spans.append(Span(int(start), int(length), labels[i], round(confidence, 2), like))
    return spans


def _features(shared: Shared, bars: BarTable, presence: Presence, energy: Energy) -> np.ndarray:
    """Shape (features, bars): presence of each role, levels, band balance, pitch classes."""
    roles = np.array([presence.of(role) for role in ROLES])
    weights = np.array([1.6, 1.0, 0.9, 0.7, 1.4, 0.9, 0.7, 0.7])[:, None]
    levels = np.array([energy.low_db, energy.mid_db, energy.high_db])
    levels = np.clip(levels, -40, 0) / 14
    balance = np.log10(bars.means(shared.mid_power + shared.side_power, shared.hop_s) + 1e-9)
    balance = np.clip(balance - balance.max(), -4, 0) * 0.35
    tonal = bars.means(shared.semitones, TONAL_HOP / TONAL_HZ)
    chroma = np.zeros((12, bars.count))
    np.add.at(chroma, np.arange(MIDI_LOW, MIDI_LOW + len(tonal)) % 12, np.sqrt(tonal))
    chroma /= np.maximum(np.linalg.norm(chroma, axis=0, keepdims=True), 1e-9)
    return np.concatenate([roles * weights, levels, balance, 0.5 * chroma])


def _novelty(features: np.ndarray) -> np.ndarray:
    """0..about 1 per bar line: distance between what lies before and after, at 2, 4 and 8 bars; index = the bar after."""
    n = features.shape[1]
    out = np.zeros(n)
    total = np.concatenate([np.zeros((len(features), 1)), np.cumsum(features, axis=1)], axis=1)
    for span, weight in ((2, 0.8), (4, 1.0), (8, 0.8)):
        for bar in range(2, n - 1):
            left, right = min(span, bar), min(span, n - bar)
            before = (total[:, bar] - total[:, bar - left]) / left
            after = (total[:, bar + right] - total[:, bar]) / right
            out[bar] += weight * float(np.linalg.norm(after - before))
    step = np.zeros(n)
    step[1:] = np.linalg.norm(np.diff(features, axis=1), axis=0)
    out += 0.5 * step
    # A flank next to a higher line belongs to that line.
    sharp = out.copy()
    for bar in range(1, n - 1):
        if out[bar] < max(out[bar - 1], out[bar + 1]):
            sharp[bar] *= 0.5
    return np.asarray(sharp / max(float(np.percentile(sharp, 98)), 1e-9))


def _boundaries(novelty: np.ndarray, count: int) -> list[int]:
    """Starts of the sections, the first 0, by dynamic programming."""
    best = np.full(count + 1, -np.inf)
    best[0] = 0.0
    back = np.zeros(count + 1, int)
    for end in range(1, count + 1):
        gain = 0.0 if end == count else novelty[end] - BOUNDARY_COST
        for start in range(max(0, end - MAX_BARS), end):
            value = best[start] + gain + _length_prior(end - start, end == count)
            if value > best[end]:
                best[end], back[end] = value, start
    starts = []
    end = count
    while end > 0:
        end = int(back[end])
        starts.append(end)
    return starts[::-1]


def _length_prior(bars: int, last: bool) -> float:
    if last:
        return 0.0 if bars >= 4 else -0.3
    if bars % 16 == 0:
        return 0.1
    if bars % 8 == 0:
        return 0.08
    if bars % 4 == 0:
        return -0.06
    return -0.28 if bars % 2 == 0 else -0.4


def _labels(starts: list[int], lengths: np.ndarray, presence: Presence, energy: Energy) -> list[Label]:
    def mean(values: tuple[float, ...], i: int) -> float:
        return float(np.mean(values[starts[i] : starts[i] + lengths[i]]))

    count = len(starts)
    level = np.array([mean(energy.full_db, i) for i in range(count)])
    low = np.array([mean(energy.low_db, i) for i in range(count)])
    middle = np.array([mean(energy.mid_db, i) for i in range(count)])
    rows = {role: np.array([mean(presence.of(role), i) for i in range(count)]) for role in ROLES}
    drive = np.maximum(rows["kick"] / max(float(rows["kick"].max()), 0.3), 0.7 * rows["bass"])
    body = np.maximum.reduce([rows["bass"], rows["chords"], rows["lead"]])
    # A drop is loud, driven from below and has something to play over the drums, as far as the track has it at all.
    full = (level >= level.max() - 3.5) & (low >= low.max() - 5) & (drive > 0.5) & (body > 0.55 * body.max())
    tune = rows["chords"] + rows["lead"]
    full &= (rows["bass"] > 0.45 * rows["bass"].max()) & (tune > 0.3 * tune.max())
    labels: list[Label] = ["bridge"] * count
    for i in range(count):
        if full[i]:
            labels[i] = "drop"
        elif drive[i] < 0.5 or low[i] < low.max() - 6:
            labels[i] = "breakdown"
    for i in range(1, count - 1):
        rising = lengths[i] <= 16 and _rises(energy, starts[i], int(lengths[i]))
        if labels[i] != "drop" and labels[i + 1] == "drop" and rising:
            labels[i] = "build"
    first_full = int(np.argmax(full)) if full.any() else count
    for i in range(first_full):
        if i == 0 or (labels[i - 1] == "intro" and labels[i] == "bridge"):
            labels[i] = "intro"
    last_full = count - 1 - int(np.argmax(full[::-1])) if full.any() else -1
    for i in range(count - 1, max(last_full, 0), -1):
        if i == count - 1 or (labels[i + 1] == "outro" and labels[i] == "bridge"):
            labels[i] = "outro"
    # At the end a drop that has lost its chords and lead is the outro.
    for i in range(count - 1, 0, -1):
        if labels[i] == "outro":
            continue
        earlier = full[:i]
        if labels[i] == "drop" and earlier.any():
            tuneless = tune[i] < 0.65 * tune[:i][earlier].max()
            if tuneless and middle[i] < middle[:i][earlier].max() - 1.5:
                labels[i] = "outro"
                continue
        break
    # A drop may hold its tune back: what comes in after a build at full level and goes over into a drop is its first half.
    for i in range(count - 2, 0, -1):
        opens = labels[i - 1] in ("build", "breakdown") and labels[i + 1] == "drop"
        if labels[i] == "bridge" and opens and level[i] > level[i + 1] - 1.0 and drive[i] > 0.5:
            labels[i] = "drop"
    # What rests on a short, loud first or last piece is still intro and outro: mixes begin and end there.
    for i, label in ((0, "intro"), (count - 1, "outro")):
        if count > 3 and labels[i] == "drop" and lengths[i] <= 4 and level[i] < level.max() - 1.5:
            labels[i] = label  # type: ignore[call-overload]
    return labels


def _merged(starts: list[int], labels: list[Label]) -> tuple[list[int], list[Label]]:
    """Neighbours of the same label are one section: its inner change is a phrase, not a section."""
    out_starts: list[int] = []
    out_labels: list[Label] = []
    for start, label in zip(starts, labels):
        if out_labels and out_labels[-1] == label and start - out_starts[-1] < MAX_BARS:
            continue
        out_starts.append(start)
        out_labels.append(label)
    return out_starts, out_labels


def divided(starts: list[int], labels: list[Label], changed_db: np.ndarray) -> tuple[list[int], list[Label]]:
    """Long sections divided where most changes, until sections are as long as usual or nothing plain is left: a track
    that keeps to no club form, and goes on as one drop, has sections too. Where the form is clear only what is longer than a drop
    is divided."""
    out_starts, out_labels, count = list(starts), list(labels), len(changed_db)
    clear = len(set(labels)) > UNCLEAR_KINDS and _regular(starts, count) >= REGULAR
    least = LONGEST_DROP_BARS + 1 if clear else UNCLEAR_BARS
    while len(out_starts) < count / USUAL_BARS:
        ends = [*out_starts[1:], count]
        best: tuple[float, int, int] | None = None
        for bar in (int(b) for b in np.flatnonzero(changed_db >= PLAIN_DB)):
            i = int(np.searchsorted(out_starts, bar, side="right")) - 1
            length = ends[i] - out_starts[i]
            if length >= least and min(bar - out_starts[i], ends[i] - bar) >= LEAST_BARS:
                best = max(best or (0.0, 0, 0), (float(changed_db[bar]), bar, i))
        if best is None:
            break
        _, bar, i = best
        out_starts.insert(i + 1, bar)
        out_labels.insert(i + 1, out_labels[i])
    return out_starts, out_labels


def without_fills(starts: list[int], labels: list[Label]) -> tuple[list[int], list[Label]]:
    """A single bar between two boundaries is a fill: it belongs to what it ends."""
    following = [*starts[1:], np.inf]
    kept = [i for i, start in enumerate(starts) if i == 0 or following[i] - start > 1]
    return [starts[i] for i in kept], [labels[i] for i in kept]


def _regular(starts: list[int], count: int) -> float:
    """Share of the sections inside a track that last a multiple of eight bars, as those of a club form do; of all where there is
    nothing inside."""
    lengths = np.diff([*starts, count])
    inside = lengths[1:-1] if len(lengths) > 2 else lengths
    return float((inside % 8 == 0).mean())


def rising_noise(shared: Shared, bars: BarTable) -> np.ndarray:
    """Level of the sustained noise above 2 kHz per half bar, dB: its quiet steps, which hits don't reach, shape (bars * 2,)."""
    per_bar = bars.steps * 2
    steps = bars.step_means(shared.noise(2000, 16_000), shared.hop_s, per_bar).reshape(bars.count * 2, per_bar // 2)
    return np.asarray(10 * np.log10(np.percentile(steps, 25, axis=1) + 1e-10))


def ramp(noise_db: np.ndarray, boundary: int) -> tuple[int, float]:
    """Length in bars of the climb of noise that ends at a boundary (a bar index), 0 if there is none, and how far it climbs, dB.

    A riser's amplitude grows as a power of the time since it began, over the floor of what sounds anyway. With the
    exponent kept between those of a straight fade and of a late swell, a length that is too long or too short doesn't fit: the
    longest that does is the riser's.
    """
    found = (0, 0.0)
    for length in RAMP_BARS:
        start = 2 * (boundary - length)
        if start < 0:
            break
        # The last bar may hold a gap.
        piece = noise_db[start : 2 * boundary - 2] if length > 2 else noise_db[start : 2 * boundary - 1]
        if length > 2:
            # Hits raise every other half bar: the lower of two neighbours is the noise.
            piece = np.minimum(piece, np.concatenate([piece[1:], piece[-1:]]))
        climb, error = _climb(piece, 2 * length)
        before = noise_db[max(0, start - 4) : start]
        # A riser is new: what precedes it lies lower than its end.
        fresh = len(before) == 0 or float(np.median(before)) < piece[-1] - RAMP_DB / 2
        if climb > RAMP_DB and error < RAMP_MISFIT * climb and fresh:
            found = (length, climb)
    return found


def _climb(piece: np.ndarray, whole: int) -> tuple[float, float]:
    """How far the best riser of `whole` steps climbs over a piece that begins with it, and how badly it fits, both dB."""
    progress = (np.arange(len(piece)) + 0.5) / whole
    floor = float(np.percentile(piece, 20)) if whole > 4 else float(piece.min())
    tail = slice(len(piece) * 2 // 3, None)
    best = (0.0, np.inf)
    for exponent in RAMP_EXPONENTS:
        grown = 20 * exponent * np.log10(progress)
        end = float(np.median(piece[tail] - grown[tail]))
        for ground in (floor, floor - 3):
            model = 10 * np.log10(10 ** (ground / 10) + 10 ** ((end + grown) / 10))
            off = piece - model
            # Other noise may sound beside a riser, but a riser has no holes.
            error = float(np.where(off < 0, -off, BESIDE * off).mean())
            if error < best[1]:
                best = (float(model[-1] - model[0]), error)
    return best


def _builds(starts: list[int], labels: list[Label], noise_db: np.ndarray, count: int) -> tuple[list[int], list[Label]]:
    """A climb of noise before a drop makes its stretch a build of its own, also where nothing else changes."""
    out_starts, out_labels = list(starts), list(labels)
    for start, label in zip(starts, labels):
        if label != "drop" or start == 0:
            continue
        i = out_starts.index(start)
        before = out_labels[i - 1]
        if before == "drop" or (before == "build" and start - out_starts[i - 1] <= 8):
            continue
        length, _ = ramp(noise_db, start)
        inside = start - out_starts[i - 1]
        if length >= 4 and length < inside and (inside - length >= 4):
            out_starts.insert(i, start - length)
            out_labels.insert(i, "build")
            if before == "build":
                out_labels[i - 1] = "breakdown"
        elif length >= 4 and length >= inside - 1 and before != "intro":
            out_labels[i - 1] = "build"
    return out_starts, out_labels


def _outro_start(starts: list[int], labels: list[Label], middle_db: np.ndarray) -> list[int]:
    """The outro begins where the last drop loses its tune, though drums and bass go on."""
    if len(starts) < 3 or labels[-1] != "outro" or labels[-2] != "drop":
        return starts
    drop, outro = starts[-2], starts[-1]
    best, found = TUNELESS_DB, outro
    for length in (4, 8, 16):
        if outro - length - drop < 8:
            break
        rest, tail = middle_db[drop : outro - length], middle_db[outro - length : outro]
        lost = float(np.median(rest) - np.median(tail)) - float(np.std(tail))
        if lost > best:
            # Of equals the longer one: its first half lacks the tune as well.
            best, found = lost - 0.3, outro - length
    return [*starts[:-1], found]


def _rises(energy: Energy, start: int, bars: int) -> bool:
    """Whether the upper bands climb through the section."""
    high = np.array(energy.high_db[start : start + bars])
    middle = np.array(energy.mid_db[start : start + bars])
    half = max(1, bars // 2)
    return bool(high[-half:].mean() > high[:half].mean() + 1.0 or middle[-half:].mean() > middle[:half].mean() + 1.5)


def _like(features: np.ndarray, spans: list[Span], start: int, bars: int, label: Label) -> int | None:
    """Index of the earlier section that this one repeats: same label, nearly the same features."""
    mine = features[:, start : start + bars].mean(axis=1)
    best: tuple[float, int] | None = None
    for i, span in enumerate(spans):
        if span.label != label:
            continue
        other = features[:, span.start : span.start + span.bars].mean(axis=1)
        distance = float(np.linalg.norm(mine - other))
        if distance < 1.0 and (best is None or distance < best[0]):
            best = (distance, i)
    return None if best is None else best[1]
