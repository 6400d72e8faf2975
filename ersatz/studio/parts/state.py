"""A part's sound as the page shows it: tables with values, curves, effects."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.urls import reverse

from ersatz.core.draft.build import ducker_of
from ersatz.core.effects import EFFECTS
from ersatz.core.samples import Samples
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Modulation, Part, Sound
from ersatz.core.song.strips import Effect
from ersatz.core.voices import complete, gone, library, voice_of
from ersatz.core.voices.blocks import BLOCKS, Block, block_of
from ersatz.core.voices.pictures import SoundPictures, pictures_of
from ersatz.studio.models import OwnSample, Remake, Revision, SavedSound
from ersatz.studio.shared.addresses import song_address
from ersatz.studio.shared.chains import ChainChoice, chains_for
from ersatz.studio.shared.edit import Steps, steps
from ersatz.studio.shared.effects import EffectState, Figure, Options, effect_state, figure, options
from ersatz.studio.shared.parts import middle_of


@dataclass(frozen=True)
class BlockState:
    """One stage of the signal path, or what moves it (core/voices/blocks.py)."""

    kind: str
    number: int
    title: str
    choices: list[Options]
    params: list[Figure]


@dataclass(frozen=True)
class SoundState:
    """`targets` of modulations: [name, title, unit]. `shapes`: drawn curves. `samples`: hashes by slot, those of `gone` can't be
    found."""

    voice: str
    title: str
    name: str
    pitched: bool
    blocks: dict[str, BlockState]
    sources: tuple[str, ...]
    targets: list[tuple[str, str, str]]
    modulations: tuple[Modulation, ...]
    shapes: dict[str, tuple[float, ...]]
    pictures: SoundPictures
    samples: dict[str, str]
    gone: tuple[str, ...]


@dataclass(frozen=True)
class OpenPart:
    """`middle`: the note that it is first heard at."""

    id: str
    name: str
    role: str
    middle: int


@dataclass(frozen=True)
class PlayedPattern:
    """The pattern that a line played in goes to, with the sections that play it as [first bar, bars]."""

    name: str
    bars: int
    sections: list[tuple[int, int]]


@dataclass(frozen=True)
class PartState(Steps):
    """`note`: where notes are heard, by MIDI number. `parts`: all of the song as [id, name, sound]. `ducker`: the reference's own
    ducking as an effect, for a part that isn't its trigger."""

    bars: int
    remake: int
    part: OpenPart
    note: str
    parts: list[tuple[str, str, str]]
    key: tuple[str, str]
    pattern: PlayedPattern | None
    sound: SoundState
    effects: list[EffectState]
    ducker: Effect | None


@dataclass(frozen=True)
class SoundChoice:
    """A sound to load, shipped or, with an `id`, saved by the producer. `listen`: where it is heard; `forget`: where it is
    deleted, "" for shipped ones."""

    id: int | None
    name: str
    role: str
    kind: str
    character: str
    brightness: str
    sound: Sound
    listen: str
    forget: str = ""


@dataclass(frozen=True)
class SampleChoice:
    id: int
    name: str
    sha: str
    seconds: float
    listen: str
    forget: str


@dataclass(frozen=True)
class BrowserState:
    """What can be loaded; kinds of effects as [name, title]."""

    sounds: list[SoundChoice]
    samples: list[SampleChoice]
    chains: list[ChainChoice]
    role: str
    kinds: list[tuple[str, str]]


def sound_state(sound: Sound, samples: Samples) -> SoundState:
    """A sound as blocks in the order of the signal, with what each can be set to."""
    spec, patch = voice_of(sound), complete(sound, samples)
    # A voice without choices is one block.
    own = Block(spec.name, spec.name, spec.title)
    names = [*(p.name for p in spec.params), *(c.name for c in spec.choices)]
    used = {block_of(name) for name in names}
    path = [block for block in BLOCKS if block in used] if spec.choices else [own]
    blocks = {b.id: BlockState(b.kind, b.number, b.title, [], []) for b in path}
    for c in spec.choices:
        blocks[block_of(c.name).id].choices.append(options(c, patch.choices[c.name]))
    for p in spec.params:
        blocks[block_of(p.name).id if spec.choices else own.id].params.append(figure(p, patch[p.name]))
    return SoundState(
        voice=spec.name,
        title=spec.title,
        name=sound.name,
        pitched=spec.pitched,
        blocks=blocks,
        sources=tuple(spec.sources),
        targets=[(p.name, f"{block_of(p.name).title}: {p.title}", p.moves) for p in spec.params if p.moves is not None],
        modulations=sound.modulations,
        shapes=sound.shapes,
        pictures=pictures_of(sound, samples),
        samples=sound.samples,
        gone=tuple(gone(sound, samples)),
    )


def part_state(remake: Remake, revision: Revision, part: Part) -> PartState:
    """All that the page of a part shows."""
    song = revision.song
    return PartState(
        **vars(steps(remake, revision)),
        bars=song.bars,
        remake=remake.pk,
        part=OpenPart(part.id, part.name, part.role, middle_of(part)),
        note=f"{song_address(remake.pk, revision.sha)}note/{part.id}/",
        parts=[(p.id, p.name, p.sound.name or voice_of(p.sound).title) for p in song.parts],
        key=(song.tonic, song.mode),
        pattern=_pattern(song, part),
        sound=sound_state(part.sound, OwnSample.objects.finder(remake.owner)),
        effects=[effect_state(e) for e in part.chain],
        ducker=_measured_ducker(remake, song, part),
    )


def _pattern(song: Song, part: Part) -> PlayedPattern | None:
    """The first one."""
    if not part.patterns:
        return None
    name = min(part.patterns)
    cells = {c.section: c.pattern for c in part.cells if c.on}
    starts = [(bar, s.bars) for bar, s in song.placed() if cells.get(s.id) == name]
    return PlayedPattern(name, part.patterns[name].bars, starts)


def _measured_ducker(remake: Remake, song: Song, part: Part) -> Effect | None:
    survey = remake.reference.survey
    ducker = None if survey is None else ducker_of(survey.pump)
    if ducker is None or (ducker.sidechain and (part.id == ducker.sidechain or song.part(ducker.sidechain) is None)):
        return None
    return ducker


def browser_state(user: Any, role: str, song: Song | None = None) -> BrowserState:
    """Sounds to choose from, shipped and saved, and saved chains as `song` can play them."""
    shipped = [
        SoundChoice(
            None, e.name, e.role, e.kind, " ".join(e.character), e.brightness, e.sound, reverse("listen-sound", args=[e.name])
        )
        for e in library.library().values()
    ]
    own = [
        SoundChoice(s.pk, s.name, s.role, "own", "", "", s.sound, reverse("listen-saved", args=[s.pk]), _forget("sound", s))
        for s in SavedSound.objects.of(user)
    ]
    brought = [
        SampleChoice(s.pk, s.name, s.sha, s.seconds, reverse("listen-sample", args=[s.pk]), _forget("sample", s))
        for s in OwnSample.objects.of(user)
    ]
    return BrowserState(own + shipped, brought, chains_for(user, song), role, [(s.name, s.title) for s in EFFECTS.values()])


def _forget(what: str, kept: SavedSound | OwnSample) -> str:
    return reverse("sound-forget", args=[what, kept.pk])
