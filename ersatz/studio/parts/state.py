"""A part's sound as the page shows it: tables with values, curves, effects."""

from __future__ import annotations

from typing import Any

from django.urls import reverse

from ersatz.core.draft.build import ducker_of
from ersatz.core.effects import EFFECTS
from ersatz.core.samples import Samples
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part, Sound
from ersatz.core.voices import complete, gone, library, voice_of
from ersatz.core.voices.blocks import BLOCKS, Block, block_of
from ersatz.core.voices.pictures import pictures_of
from ersatz.studio.models import OwnSample, Remake, Revision, SavedSound
from ersatz.studio.shared.chains import chains_for
from ersatz.studio.shared.edit import steps
from ersatz.studio.shared.effects import effect_state, field, option
from ersatz.studio.shared.parts import middle_of


def sound_state(sound: Sound, samples: Samples) -> dict[str, Any]:
    spec, patch = voice_of(sound), complete(sound, samples)
    # A voice without choices is one block.
    own = Block(spec.name, spec.name, spec.title)
    names = [*(p.name for p in spec.params), *(c.name for c in spec.choices)]
    used = {block_of(name) for name in names}
    path = [block for block in BLOCKS if block in used] if spec.choices else [own]
    blocks: dict[str, dict[str, Any]] = {
        b.id: {"kind": b.kind, "number": b.number, "title": b.title, "choices": [], "params": []} for b in path
    }
    for c in spec.choices:
        blocks[block_of(c.name).id]["choices"].append(option(c, patch.choices[c.name]))
    for p in spec.params:
        blocks[block_of(p.name).id if spec.choices else own.id]["params"].append(field(p, patch[p.name]))
    targets = [[p.name, f"{block_of(p.name).title}: {p.title}", p.moves] for p in spec.params if p.moves is not None]
    return {
        "voice": spec.name, "title": spec.title, "name": sound.name, "pitched": spec.pitched, "blocks": blocks,
        "sources": spec.sources, "targets": targets, "modulations": to_json(sound.modulations), "shapes": to_json(sound.shapes),
        "pictures": pictures_of(sound, samples), "samples": sound.samples, "gone": gone(sound, samples),
    }  # fmt: skip


def part_state(remake: Remake, revision: Revision, part: Part) -> dict[str, Any]:
    song = revision.song
    samples = OwnSample.objects.finder(remake.owner)
    return {
        **steps(remake, revision),
        "bars": song.bars,
        "remake": remake.pk,
        "part": {"id": part.id, "name": part.name, "role": part.role, "middle": middle_of(part)},
        "note": f"/listen/note/{remake.pk}/{revision.sha}/{part.id}/",
        "parts": [[p.id, p.name, p.sound.name or voice_of(p.sound).title] for p in song.parts],
        "key": [song.tonic, song.mode],
        "pattern": _pattern(song, part),
        "sound": sound_state(part.sound, samples),
        "effects": [effect_state(e) for e in part.chain],
        "ducker": _measured_ducker(remake, song, part),
    }


def _measured_ducker(remake: Remake, song: Song, part: Part) -> dict[str, Any] | None:
    """The reference's own ducking as an effect, for a part that isn't its trigger."""
    survey = remake.reference.survey
    ducker = None if survey is None else ducker_of(survey.pump)
    if ducker is None or (ducker.key and (part.id == ducker.key or song.part(ducker.key) is None)):
        return None
    return to_json(ducker)


def _pattern(song: Song, part: Part) -> dict[str, Any] | None:
    """The pattern that a taken-down line goes to: the first, with the sections that play it."""
    if not part.patterns:
        return None
    name = min(part.patterns)
    cells = {c.section: c.pattern for c in part.cells if c.on}
    starts = [[bar, s.bars] for bar, s in song.placed() if cells.get(s.id) == name]
    return {"name": name, "bars": part.patterns[name].bars, "sections": starts}


def browser_state(user: Any, role: str, song: Song | None = None) -> dict[str, Any]:
    """Sounds to choose from, shipped and saved, and saved chains as `song` can play them."""
    shipped = [
        {"name": e.name, "role": e.role, "kind": e.kind, "character": " ".join(e.character), "brightness": e.brightness,
         "sound": to_json(e.sound), "listen": f"/listen/sound/{e.name}.flac"} for e in library.library().values()
    ]  # fmt: skip
    own = [
        {"id": s.pk, "name": s.name, "role": s.role, "kind": "own", "character": "", "brightness": "", "sound": to_json(s.sound),
         "listen": f"/listen/saved/{s.pk}.flac"} for s in SavedSound.objects.of(user)
    ]  # fmt: skip
    brought = [
        {"id": s.pk, "name": s.name, "sha": s.sha, "seconds": s.seconds, "listen": reverse("listen-sample", args=[s.pk])}
        for s in OwnSample.objects.of(user)
    ]
    return {
        "sounds": own + shipped,
        "samples": brought,
        "chains": chains_for(user, song),
        "role": role,
        "kinds": [[s.name, s.title] for s in EFFECTS.values()],
    }
