"""The mixdown, block by block: hit -> voice -> part -> bus -> returns -> master, in the order of the code.

Conventions: RATE_HZ; a block is BLOCK samples on absolute multiples of BLOCK; every node gives float32 of shape (2, BLOCK) and is a
pure function of its key. Every process remembers a bounded stretch only (notes with their tails, impulse responses of
finite length, filters started CONTEXT early), so any range of a song is the same samples as that range of the whole.

A part's cuts are linear and therefore done once per note, where repetition is; ducking is a gain and done per block.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import cached_property

import numpy as np
from scipy import fft

from ersatz.core.audio import Audio
from ersatz.core.effects import eq, limiter, space
from ersatz.core.effects.ducking import duck_curve_db
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.schedule import Event, duck_triggers, schedule_part
from ersatz.core.serial import to_json
from ersatz.core.song.document import BUSES, Master, Part, Song, digest
from ersatz.core.voices import VOICES, complete_params, render_note

RATE_HZ = 44_100
BLOCK = 1 << 16
#: Filters of the master are started this early: over ten time constants of its narrowest low band.
CONTEXT = 16_384
#: After the last bar the tails ring out this long at the most.
TAIL_S = 6.0
#: Raised when what a node computes changes, so that nothing stale is read from disk.
ENGINE = 3
WORKERS = 2
SILENT_SEND_DB = -59.0

Progress = Callable[[float], None]


class Mixdown:
    """A song ready to be rendered. Cheap to make; the cache is where the work is kept."""

    def __init__(self, song: Song, cache: RenderCache | None = None):
        self.song = song
        self.cache = cache or RenderCache()
        self.frames = song.grid.sample_of_bar(song.bars + 1, RATE_HZ) + int(TAIL_S * RATE_HZ)
        self.blocks = -(-self.frames // BLOCK)
        self._part_keys: dict[tuple[str, int], str | None] = {}
        self._send_keys: dict[tuple[str, int], str] = {}

    # Notes ------------------------------------------------------------------------------------------------------

    @cached_property
    def _events(self) -> dict[str, list[Event]]:
        return {part.id: schedule_part(self.song, part, RATE_HZ) for part in self.song.parts}

    @cached_property
    def _by_block(self) -> dict[str, dict[int, list[Event]]]:
        """Events per part and per block that they can sound in."""
        out: dict[str, dict[int, list[Event]]] = {}
        for part in self.song.parts:
            table: dict[int, list[Event]] = {}
            reach = self._tail_samples(part)
            for event in self._events[part.id]:
                for block in range(event.start // BLOCK, (event.start + event.length + reach) // BLOCK + 1):
                    table.setdefault(block, []).append(event)
            out[part.id] = table
        return out

    @staticmethod
    def _tail_samples(part: Part) -> int:
        params = complete_params(part.sound)
        longest = max((v for k, v in params.items() if k in ("decay_ms", "tail_ms", "release_ms")), default=0.0)
        return int((0.5 + longest / 1000 * 6) * RATE_HZ)

    @cached_property
    def _part_settings(self) -> dict[str, str]:
        """Hash per part of what shapes a single note."""
        return {
            p.id: digest([ENGINE, p.sound.voice, complete_params(p.sound), p.low_cut_hz, p.high_cut_hz]) for p in self.song.parts
        }

    def _note(self, part: Part, event: Event) -> np.ndarray:
        pitched = VOICES[part.sound.voice].pitched
        midi = event.midi if pitched else 0
        velocity = round(event.velocity * 32) / 32
        variant = 0 if pitched or part.role == "kick" else event.variant
        # Unpitched hits have their own length, except a riser, which fills the time it is given.
        length = event.length if pitched or part.role == "noise" else 0
        key = f"n{self._part_settings[part.id]}.{midi}.{length}.{velocity}.{variant}"

        def compute() -> np.ndarray:
            note = render_note(part.sound, midi, max(length, 1), velocity, RATE_HZ, variant)
            sections = []
            if part.low_cut_hz > 0:
                sections.append(eq.low_cut(part.low_cut_hz, RATE_HZ))
            if part.high_cut_hz > 0:
                sections.append(eq.high_cut(part.high_cut_hz, RATE_HZ))
            if sections:
                note = eq.apply(np.concatenate(sections), note)
            return np.ascontiguousarray(note, np.float32)

        return self.cache.get(key, compute)

    # Part -------------------------------------------------------------------------------------------------------

    @cached_property
    def _triggers(self) -> np.ndarray:
        return duck_triggers(self.song, RATE_HZ)

    @cached_property
    def _duck_key(self) -> str:
        return digest([self.song.bpm, to_json(self.song.ducking)])

    def _triggers_near(self, block: int) -> np.ndarray:
        start = block * BLOCK
        beat = self.song.grid.beat_s * RATE_HZ
        first, last = np.searchsorted(self._triggers, [start - 2 * beat, start + BLOCK])
        return np.asarray(self._triggers[first:last])

    def _duck(self, block: int) -> np.ndarray:
        """Reduction 0..1 of the block, shape (BLOCK,)."""
        near = self._triggers_near(block)
        key = "d" + digest([ENGINE, self._duck_key, (near - block * BLOCK).tolist()])
        shape = np.array(self.song.ducking.shape)
        beat = self.song.grid.beat_s * RATE_HZ
        return self.cache.get(key, lambda: duck_curve_db(block * BLOCK, BLOCK, near, shape, beat).astype(np.float32))

    def _duck_gain(self, block: int, depth_db: float) -> np.ndarray:
        """Gain of a ducker of this depth, shape (BLOCK,)."""
        return np.asarray(np.exp(self._duck(block) * np.float32(-depth_db / 20 * np.log(10))))

    def part_key(self, part: Part, block: int) -> str | None:
        """None where the part is silent."""
        known = self._part_keys.get((part.id, block), "")
        if known == "":
            known = self._part_keys[part.id, block] = self._make_part_key(part, block)
        return known

    def _make_part_key(self, part: Part, block: int) -> str | None:
        events = self._by_block[part.id].get(block)
        if not events:
            return None
        notes = [(e.start - block * BLOCK, e.length, e.midi, e.velocity, e.level_db, e.variant) for e in events]
        duck = [part.duck_db, self._duck_key, (self._triggers_near(block) - block * BLOCK).tolist()]
        return "p" + digest([self._part_settings[part.id], part.gain_db, part.pan, duck if part.duck_db else 0, notes])

    def part_block(self, part: Part, block: int) -> np.ndarray | None:
        """Gain, pan and ducking applied, shape (2, BLOCK); None where the part is silent."""
        key = self.part_key(part, block)
        if key is None:
            return None
        # Notes are kept; laying them out again costs little.
        return self.cache.get(key, lambda: self._render_part(part, block), passing=True)

    def _render_part(self, part: Part, block: int) -> np.ndarray:
        out = np.zeros((2, BLOCK), np.float32)
        start = block * BLOCK
        for event in self._by_block[part.id][block]:
            note = self._note(part, event)
            begin, end = max(event.start, start), min(event.start + note.shape[1], start + BLOCK)
            if begin < end:
                gain = np.float32(10 ** (event.level_db / 20))
                out[:, begin - start : end - start] += gain * note[:, begin - event.start : end - event.start]
        angle = (part.pan + 1) * np.pi / 4
        pan = np.array([[np.cos(angle)], [np.sin(angle)]]) * np.sqrt(2) * 10 ** (part.gain_db / 20)
        out *= pan.astype(np.float32)
        if part.duck_db > 0:
            out *= self._duck_gain(block, part.duck_db)
        return out

    # Buses and returns --------------------------------------------------------------------------------------------

    def bus_block(self, bus: str, block: int) -> np.ndarray:
        """Sum of the bus's parts in the song's order, shape (2, BLOCK)."""
        return self._sum([(p, 0.0) for p in self.song.parts if p.bus == bus], block)

    def _sum(self, parts: list[tuple[Part, float]], block: int) -> np.ndarray:
        """Parts added up, each at its gain in dB. Quick to do again, so it isn't kept."""
        out = np.zeros((2, BLOCK), np.float32)
        for part, gain_db in parts:
            samples = self.part_block(part, block)
            if samples is not None:
                out += samples if gain_db == 0 else np.float32(10 ** (gain_db / 20)) * samples
        return out

    @cached_property
    def _responses(self) -> dict[str, tuple[str, np.ndarray]]:
        """Per return: a key and the spectra of its impulse response in blocks, shape (2, parts, bins)."""
        out = {}
        for name, settings in (("reverb", self.song.reverb), ("delay", self.song.delay)):
            key = "i" + digest([ENGINE, name, to_json(settings), self.song.bpm if name == "delay" else 0])

            def compute(name: str = name) -> np.ndarray:
                if name == "reverb":
                    response = space.reverb_response(self.song.reverb, RATE_HZ)
                else:
                    response = space.delay_response(self.song.delay, self.song.bpm, RATE_HZ)
                pad = -response.shape[1] % BLOCK
                pieces = np.pad(response, ((0, 0), (0, pad))).reshape(2, -1, BLOCK)
                return np.asarray(fft.rfft(pieces.astype(np.float32), 2 * BLOCK, axis=-1))

            out[name] = (key, self.cache.get(key, compute))
        return out

    def _sends(self, name: str, block: int) -> list[tuple[Part, float]]:
        """Parts that sound in the block and go to the return, with their send levels in dB."""
        if block < 0:
            return []
        sends = [(p, p.reverb_db if name == "reverb" else p.delay_db) for p in self.song.parts]
        return [(p, db) for p, db in sends if db > SILENT_SEND_DB and self.part_key(p, block)]

    def _send_key(self, name: str, block: int) -> str:
        if block < 0:
            return ""
        if (name, block) not in self._send_keys:
            sends = [(self.part_key(p, block), db) for p, db in self._sends(name, block)]
            self._send_keys[name, block] = digest(sends)
        return self._send_keys[name, block]

    def return_block(self, name: str, block: int) -> np.ndarray:
        """Reverb or delay return, ducked: uniformly partitioned convolution (overlap-save) on absolute blocks."""
        response_key, response = self._responses[name]
        duck_db = (self.song.reverb if name == "reverb" else self.song.delay).duck_db
        blocks = range(block - response.shape[1], block + 1)
        triggers = (self._triggers_near(block) - block * BLOCK).tolist() if duck_db else 0
        key = "r" + digest([response_key, duck_db, self._duck_key, triggers, [self._send_key(name, b) for b in blocks]])

        def compute() -> np.ndarray:
            spectrum: np.ndarray | None = None
            for k in range(response.shape[1]):
                send = self._send_spectrum(name, block - k)
                if send is not None:
                    product = send * response[:, k]
                    spectrum = product if spectrum is None else spectrum + product
            if spectrum is None:
                return np.zeros((2, BLOCK), np.float32)
            out = fft.irfft(spectrum, 2 * BLOCK, axis=-1)[:, BLOCK:]
            if duck_db:
                out = out * self._duck_gain(block, duck_db)
            return np.asarray(out, np.float32)

        return self.cache.get(key, compute)

    def _send_spectrum(self, name: str, block: int) -> np.ndarray | None:
        """Spectrum of a send's block and the one before it; None where both are silent."""
        if block < 0 or not (self._sends(name, block) or self._sends(name, block - 1)):
            return None

        def compute() -> np.ndarray:
            pair = [self._sum(self._sends(name, b), b) for b in (block - 1, block)]
            return np.asarray(fft.rfft(np.concatenate(pair, axis=1), axis=-1))

        key = "f" + digest([ENGINE, self._send_key(name, block - 1), self._send_key(name, block)])
        return self.cache.get(key, compute, passing=True)

    # Master -------------------------------------------------------------------------------------------------------

    def _mix_key(self, block: int) -> str:
        if not 0 <= block < self.blocks:
            return ""
        parts = [self.part_key(p, block) for p in self.song.parts]
        sends = []
        for name in ("reverb", "delay"):
            response_key, response = self._responses[name]
            settings = to_json(self.song.reverb if name == "reverb" else self.song.delay)
            sends.append([response_key, settings,
                          [self._send_key(name, b) for b in range(block - response.shape[1], block + 1)]])  # fmt: skip
        return "m" + digest([ENGINE, parts, [p.bus for p in self.song.parts], sends, self._duck_key,
                             (self._triggers_near(block) - block * BLOCK).tolist()])  # fmt: skip

    def mix_block(self, block: int) -> np.ndarray:
        """Buses and returns summed, before the master, shape (2, BLOCK)."""
        if not 0 <= block < self.blocks:
            return np.zeros((2, BLOCK), np.float32)

        def compute() -> np.ndarray:
            out = np.zeros((2, BLOCK), np.float32)
            for bus in BUSES:
                out += self.bus_block(bus, block)
            for name in ("reverb", "delay"):
                out += self.return_block(name, block)
            return out

        return self.cache.get(self._mix_key(block), compute, passing=True)

    def master_block(self, block: int) -> np.ndarray:
        """The finished mix, shape (2, BLOCK)."""
        around = [self._mix_key(b) for b in (block - 1, block, block + 1)]
        key = "o" + digest([ENGINE, to_json(self.song.master), around])
        return self.cache.get(key, lambda: self._render_master(block), on_disk=True)

    def _render_master(self, block: int) -> np.ndarray:
        left = self.mix_block(block - 1)[:, -(CONTEXT + limiter.CONTEXT) :]
        right = self.mix_block(block + 1)[:, : limiter.CONTEXT]
        return master_chain(np.concatenate([left, self.mix_block(block), right], axis=1), self.song.master)

    # Ranges -------------------------------------------------------------------------------------------------------

    def samples(self, start: int, stop: int, progress: Progress = lambda fraction: None, stage: str = "master") -> np.ndarray:
        """Samples start..stop-1 of the finished mix ("master") or of the mix before the master ("mix"), (2, n)."""
        first, last = start // BLOCK, -(-stop // BLOCK)
        node = self.master_block if stage == "master" else self.mix_block
        done = 0
        pieces = []
        with ThreadPoolExecutor(WORKERS) as pool:
            for piece in pool.map(node, range(first, last)):
                pieces.append(piece)
                done += 1
                progress(done / (last - first))
        joined = np.concatenate(pieces, axis=1)
        return joined[:, start - first * BLOCK : stop - first * BLOCK]

    def bar_range(self, first_bar: int, last_bar: int) -> tuple[int, int]:
        """Sample range of bars first..last, both included, 1-based."""
        grid = self.song.grid
        return grid.sample_of_bar(first_bar, RATE_HZ), grid.sample_of_bar(last_bar + 1, RATE_HZ)

    def whole(self, progress: Progress = lambda fraction: None) -> Audio:
        """The whole song with its tail, cut where it has rung out."""
        x = self.samples(0, self.frames, progress)
        end = self.song.grid.sample_of_bar(self.song.bars + 1, RATE_HZ)
        tail = np.abs(x[:, end:]).max(axis=0)
        loud = np.flatnonzero(tail > 10 ** (-72 / 20))
        keep = min(end + (int(loud[-1]) + RATE_HZ // 4 if len(loud) else 0), x.shape[1])
        return Audio(np.ascontiguousarray(x[:, :keep]), RATE_HZ)

    def solo_part(self, part: Part, start: int, stop: int) -> np.ndarray:
        """One part with gain, pan and ducking, dry, shape (2, n)."""
        first, last = start // BLOCK, -(-stop // BLOCK)
        silent = np.zeros((2, BLOCK), np.float32)
        pieces = []
        for block in range(first, last):
            piece = self.part_block(part, block)
            pieces.append(silent if piece is None else piece)
        return np.concatenate(pieces, axis=1)[:, start - first * BLOCK : stop - first * BLOCK]


def master_chain(x: np.ndarray, master: Master) -> np.ndarray:
    """Width, EQ, gain, soft clipping and limiting of a block that comes with its context on both sides, shape (2, BLOCK)."""
    sections = [eq.low_cut(master.low_cut_hz, RATE_HZ), *(eq.bell(b, RATE_HZ)[None] for b in master.eq)]
    mid, side = (x[0] + x[1]) * 0.5, (x[0] - x[1]) * (0.5 * master.width)
    side = eq.apply(eq.low_cut(master.mono_below_hz, RATE_HZ), side.astype(np.float64))
    x = eq.apply(np.concatenate(sections), np.stack([mid + side, mid - side]))[:, CONTEXT:]
    x = limiter.limit(limiter.soft_clip(x * 10 ** (master.gain_db / 20)), master.ceiling_dbtp)
    return np.ascontiguousarray(x[:, limiter.CONTEXT : limiter.CONTEXT + BLOCK], np.float32)


def mastered(mix: np.ndarray, master: Master) -> np.ndarray:
    """A mix that starts on a block, through the master: what `samples` gives, for trying masters on one mix."""
    before, after = CONTEXT + limiter.CONTEXT, limiter.CONTEXT
    blocks = -(-mix.shape[1] // BLOCK)
    padded = np.pad(mix, ((0, 0), (before, blocks * BLOCK - mix.shape[1] + after)))
    with ThreadPoolExecutor(WORKERS) as pool:
        pieces = pool.map(lambda b: master_chain(padded[:, b * BLOCK : (b + 1) * BLOCK + before + after], master), range(blocks))
        return np.concatenate(list(pieces), axis=1)[:, : mix.shape[1]]


def stems(mixdown: Mixdown, start: int, stop: int) -> dict[str, np.ndarray]:
    """Every part dry and both returns, by name, each (2, n): they sum to the mix before the master."""
    out = {part.id: mixdown.solo_part(part, start, stop) for part in mixdown.song.parts}
    first, last = start // BLOCK, -(-stop // BLOCK)
    for name in ("reverb", "delay"):
        joined = np.concatenate([mixdown.return_block(name, b) for b in range(first, last)], axis=1)
        out[f"return-{name}"] = joined[:, start - first * BLOCK : stop - first * BLOCK]
    return out


def with_master_gain(song: Song, gain_db: float) -> Song:
    return replace(song, master=replace(song.master, gain_db=round(gain_db, 3)))
