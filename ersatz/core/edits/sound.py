"""Edits of a part's sound and its effects."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, TypeVar

from ersatz.core.edits.arrangement import part_of, strip_of
from ersatz.core.effects.chain import spec_of
from ersatz.core.errors import InvalidEdit, UnusableDocument
from ersatz.core.params import Choice, Param
from ersatz.core.song.document import Song, settled, with_strip
from ersatz.core.song.parts import Modulation, Part, Sound
from ersatz.core.song.strips import Effect, identified, kept_automation
from ersatz.core.voices import complete, library, path, sampler, synth, voice_of
from ersatz.core.words import minus

Row = TypeVar("Row", Param, Choice)

#: Roles whose notes have a pitch that counts.
PITCHED_ROLES = ("bass", "chords", "lead")
MOST_EFFECTS = 12
MOST_MODULATIONS = 24
MOST_POINTS = 64
#: What a drawn curve may be called.
SHAPES = ("lfo1", "lfo2")


def _checked(song: Song, part: Part, sound: Sound) -> Song:
    try:
        complete(sound)
    except UnusableDocument as error:
        raise InvalidEdit(str(error)) from error
    return with_strip(song, replace(part, sound=sound))


def _named(table: tuple[Row, ...], name: str) -> Row:
    found = next((row for row in table if row.name == name), None)
    if found is None:
        raise InvalidEdit(f"This sound has no “{name}”.")
    return found


def figure(value: float, unit: str) -> str:
    """As a sentence says it: three significant digits, a true minus."""
    text = f"{value:.0f}" if abs(value) >= 100 else f"{value:.3g}"
    return minus(f"{text} {unit}".strip())


def check_range(param: Param, value: float) -> None:
    """Raises InvalidEdit for a value that the parameter can't have."""
    if not param.low <= value <= param.high:
        raise InvalidEdit(f"{param.title} lies between {figure(param.low, '')} and {figure(param.high, param.unit)}.")


@dataclass(frozen=True)
class SetSoundValue:
    """A parameter of the part's voice."""

    kind: ClassVar[str] = "set_sound_value"
    part: str
    name: str
    value: float

    def _param(self, song: Song) -> Param:
        return _named(voice_of(part_of(song, self.part).sound).params, self.name)

    def apply(self, song: Song) -> Song:
        part, param = part_of(song, self.part), self._param(song)
        check_range(param, self.value)
        value = round(self.value / param.step) * param.step if param.step else round(self.value, 5)
        return _checked(song, part, replace(part.sound, params={**part.sound.params, self.name: value}))

    def sentence(self, song: Song) -> str:
        param = self._param(song)
        return f"{part_of(song, self.part).name}: {param.title} {figure(self.value, param.unit)}"


@dataclass(frozen=True)
class SetSoundChoice:
    """An option of the part's voice."""

    kind: ClassVar[str] = "set_sound_choice"
    part: str
    name: str
    option: str

    def _choice(self, song: Song) -> Choice:
        return _named(voice_of(part_of(song, self.part).sound).choices, self.name)

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        self._choice(song)
        return _checked(song, part, replace(part.sound, choices={**part.sound.choices, self.name: self.option}))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name}: {self._choice(song).title} {self.option}"


@dataclass(frozen=True)
class SetModulations:
    """The list of what moves what."""

    kind: ClassVar[str] = "set_modulations"
    part: str
    modulations: tuple[Modulation, ...]

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        if len(self.modulations) > MOST_MODULATIONS:
            raise InvalidEdit(f"A sound has at most {MOST_MODULATIONS} modulations.")
        if path.in_circles(self.modulations):
            raise InvalidEdit("An LFO can’t move its own rate, by itself or through the other LFO.")
        return _checked(song, part, replace(part.sound, modulations=self.modulations))

    def sentence(self, song: Song) -> str:
        part = part_of(song, self.part)
        old = part.sound.modulations
        if len(self.modulations) < len(old):
            return f"{part.name}: a modulation less"
        changed = [m for m in self.modulations if m not in old]
        if not changed:
            return f"{part.name}: modulations"
        titles = {p.name: p.title for p in voice_of(part.sound).params}
        return f"{part.name}: {changed[0].source} moves {titles.get(changed[0].target, changed[0].target)}"


@dataclass(frozen=True)
class SetShape:
    """A drawn LFO cycle, -1..1."""

    kind: ClassVar[str] = "set_shape"
    part: str
    name: str
    points: tuple[float, ...]

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        if self.name not in SHAPES or not 2 <= len(self.points) <= MOST_POINTS or max(map(abs, self.points)) > 1:
            raise InvalidEdit(f"A drawn curve has 2 to {MOST_POINTS} points between −1 and 1.")
        return _checked(song, part, replace(part.sound, shapes={**part.sound.shapes, self.name: self.points}))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name}: {self.name.replace('lfo', 'LFO ')} drawn"


@dataclass(frozen=True)
class LoadSound:
    """Another sound for the part: a sound as it is, or a shipped one by its name."""

    kind: ClassVar[str] = "load_sound"
    part: str
    sound: Sound | None = None
    shipped: str = ""

    def apply(self, song: Song) -> Song:
        return _checked(song, part_of(song, self.part), self._sound())

    def _sound(self) -> Sound:
        if self.sound is not None:
            return self.sound
        if self.shipped not in library.library():
            raise InvalidEdit(f"There is no shipped sound “{self.shipped}”.")
        return library.sound(self.shipped)

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} plays {self._sound().name or 'another sound'}"


@dataclass(frozen=True)
class SetSample:
    """Audio for a slot of the part's voice, by its hash; `name` is what the producer calls it."""

    kind: ClassVar[str] = "set_sample"
    part: str
    slot: str
    sample: str
    name: str

    def apply(self, song: Song) -> Song:
        part = part_of(song, self.part)
        sound = part.sound
        if self.slot == sampler.SLOT and sound.voice != sampler.SPEC.name:
            # The part plays it instead of what it had.
            dropped = dict(sampler.AS_DROPPED[part.role not in PITCHED_ROLES])
            sound = Sound(sampler.SPEC.name, choices=dropped, kind=library.kind_of(sound, part.role))
        if self.slot not in voice_of(sound).slots or not self.sample.isalnum() or not 0 < len(self.name) <= 120:
            raise InvalidEdit("This sound takes no sample there.")
        choices = sound.choices
        if self.slot in synth.TABLE_SLOTS:
            choices = {**choices, self.slot.replace("table", "wave"): synth.OWN_TABLE}
        name = self.name[:60] if self.slot == sampler.SLOT else sound.name
        samples = {**sound.samples, self.slot: self.sample}
        return _checked(song, part, replace(sound, samples=samples, choices=choices, name=name))

    def sentence(self, song: Song) -> str:
        return f"{part_of(song, self.part).name} plays {self.name}"


@dataclass(frozen=True)
class SetEffects:
    """A strip's effects, in order. One with the id of an effect that was there is that effect, and its automation goes with it."""

    kind: ClassVar[str] = "set_effects"
    strip: str
    effects: tuple[Effect, ...]

    def apply(self, song: Song) -> Song:
        strip = strip_of(song, self.strip)
        if len(self.effects) > MOST_EFFECTS:
            raise InvalidEdit(f"A chain has at most {MOST_EFFECTS} effects.")
        for effect in self.effects:
            try:
                spec_of(effect).settings(effect)
            except UnusableDocument as error:
                raise InvalidEdit(str(error)) from error
            if not 0 <= effect.blend <= 1:
                raise InvalidEdit("A blend lies between 0 and 1.")
            if min(effect.above_hz, effect.below_hz) < 0 or max(effect.above_hz, effect.below_hz) > 20_000:
                raise InvalidEdit("An effect’s range lies between 0 and 20 kHz.")
            if effect.id and not effect.id.isalnum():
                raise InvalidEdit("An effect’s id is made of letters and figures.")
            if effect.sidechain == strip.id or (effect.sidechain and song.part(effect.sidechain) is None):
                raise InvalidEdit("Another part of the song steers an effect, never its own.")
        kinds = {e.id: e.kind for e in strip.chain}
        if any(kinds.get(e.id, e.kind) != e.kind for e in self.effects):
            raise InvalidEdit("These effects aren’t there any more.")
        effects = identified(self.effects, kinds)
        return settled(with_strip(song, replace(strip, chain=effects, automation=kept_automation(strip.automation, effects))))

    def sentence(self, song: Song) -> str:
        strip = strip_of(song, self.strip)
        old, new = {e.id: e for e in strip.chain}, {e.id: e for e in self.effects}
        added = [spec_of(e).title for e in self.effects if e.id not in old]
        gone = [spec_of(e).title for e in strip.chain if e.id not in new]
        if added and gone:
            return f"{strip.name}: {', '.join(added)} for {', '.join(gone)}"
        if added or gone:
            return f"{strip.name}: {', '.join(added or gone)} {'added' if added else 'deleted'}"
        if list(old) != list(new):
            return f"{strip.name}: effects in another order"
        changed = next((e for e in self.effects if e != old[e.id]), None)
        return f"{strip.name}: {spec_of(changed).title} changed" if changed else f"{strip.name}: effects"
