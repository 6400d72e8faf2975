"""The cases of ./run fuzz: something valid, damaged, at every door of the core and of the application.

A case is a function of a world and a source of chance that says how it ended, and raises what went wrong.
"""

from __future__ import annotations

import base64
import io
import json
import random
import struct
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from ersatz.core.audio import LOUDEST_PEAK, Limits, read_audio
from ersatz.core.draft.asks import ASKS
from ersatz.core.edits import EDITS, parse_edit
from ersatz.core.exchange.midi import read_midi, write_midi
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.samples import read_sample
from ersatz.core.serial import from_json, read_json
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Corrections

#: Values that are put in place of others.
ODD: tuple[Any, ...] = (
    None, True, False, 0, -1, 1, 2, 7, 16, 10**6, 2**31, 2**53, 2**63, 10**300, -(2**63), 0.5, -0.5, 1e-300, 1e300, 3.7, "", "x",
    "A", "²",
    "fader.gain_db", "bus:drums", "s1", "kick", "~", "\u0000", "\ud800", "9" * 5000, "ä" * 300, [], {}, [[]], [None], {"a": 1},
    [1] * 50,
)  # fmt: skip
#: Text that JSON readers let pass.
RAW = (
    "NaN",
    "Infinity",
    "-Infinity",
    "1e999",
    "9" * 6000,
    "[" * 50_000,
    '{"a":' * 20_000,
    '"\\ud800"',
    '"\\u0000"',
    "",
    "{",
    "\xff",
)


@dataclass
class World:
    """What the cases are made from: a song, and a way to ask the application; `client` is Django's."""

    song: Song
    client: Any
    remake: int
    reference: int
    folder: Path


Case = Callable[[World, random.Random], str]


def damaged(value: Any, chance: random.Random, much: int = 2) -> Any:
    """A copy of JSON with some values replaced, taken out, doubled, or put elsewhere."""
    copy = json.loads(json.dumps(value))
    for _ in range(chance.randint(1, much)):
        places: list[tuple[Any, Any]] = []

        def walk(node: Any, places: list[tuple[Any, Any]] = places) -> None:
            for key in list(node) if isinstance(node, dict) else range(len(node)):
                places.append((node, key))
                if isinstance(node[key], (dict, list)):
                    walk(node[key])

        walk(copy)
        if not places:
            return copy
        node, key = chance.choice(places)
        act = chance.random()
        if act < 0.5 and isinstance(node[key], (int, float)):
            # Near to what it was: more of these are taken, and have to be rendered.
            node[key] = chance.choice((0, 1, type(node[key])(node[key] * chance.choice((0.5, 2, 10, -1))), node[key] + 1))
        elif act < 0.65:
            node[key] = chance.choice(ODD)
        elif act < 0.8:
            del node[key]
        elif act < 0.9 and isinstance(node[key], list) and node[key]:
            node[key] = node[key] * chance.choice((2, 40))
        else:
            other, there = chance.choice(places)
            try:
                node[key] = json.loads(json.dumps(other[there]))
            except (LookupError, TypeError):
                node[key] = None
    return copy


def _bits(data: bytes, chance: random.Random) -> bytes:
    """Bytes flipped, cut, repeated or exchanged."""
    out = bytearray(data)
    for _ in range(chance.randint(1, 12)):
        if not out:
            break
        at = chance.randrange(len(out))
        act = chance.random()
        if act < 0.6:
            out[at] = chance.choice((0, 1, 0x7F, 0x80, 0xFF, chance.randrange(256)))
        elif act < 0.75:
            del out[at : at + chance.randint(1, 400)]
        elif act < 0.9:
            out[at:at] = out[max(0, at - 40) : at] * chance.randint(1, 4)
        else:
            out = out[:at]
    return bytes(out)


# The core ------------------------------------------------------------------------------------------------------------


def audio(world: World, chance: random.Random) -> str:
    """A file of samples that are odd, or whose bytes are."""
    rng = np.random.default_rng(chance.randrange(1 << 30))
    rate = chance.choice((8000, 11_025, 44_100, 48_000, 192_000))
    kind, subtype, suffix = chance.choice(
        (
            ("WAV", "PCM_16", "wav"),
            ("WAV", "FLOAT", "wav"),
            ("FLAC", "PCM_24", "flac"),
            ("AIFF", "PCM_16", "aiff"),
            ("OGG", "VORBIS", "ogg"),
        )
    )
    x = rng.standard_normal((int(rate * chance.choice((0.0, 0.01, 0.4, 2.0))), chance.choice((1, 2, 6)))) * 0.2
    x *= chance.choice((0.0, 1e-30, 1.0, 1.0, 4.0, LOUDEST_PEAK, 1e30))
    if chance.random() < 0.2 and len(x):
        x[chance.randrange(len(x))] = chance.choice((np.nan, np.inf, 1e38))
    path = world.folder / f"fuzz.{chance.choice((suffix, suffix, 'mp3', 'txt'))}"
    file = io.BytesIO()
    soundfile.write(
        file, np.clip(x, -3e38, 3e38) if subtype == "FLOAT" else np.clip(np.nan_to_num(x), -1, 1), rate, subtype, format=kind
    )
    data = file.getvalue()
    path.write_bytes(_bits(data, chance) if chance.random() < 0.6 else data)
    if chance.random() < 0.5:
        return f"{read_sample(path).frames} frames"
    # As a track, only shorter: the survey itself takes seconds.
    return f"{read_audio(path, None, Limits(0.3, 60.0, 'x', 'x', 'survey it')).frames} frames"


def document(world: World, chance: random.Random) -> str:
    """A damaged song: refused, or rendered."""
    song = Song.from_json(read_json(json.dumps(damaged(world.song.to_json(), chance, 2))))
    mixdown = Mixdown(song)
    first = chance.randint(1, song.bars)
    mixdown.samples(*mixdown.bar_range(first, first))
    return "rendered"


def raw(world: World, chance: random.Random) -> str:
    text = json.dumps(damaged(world.song.to_json(), chance))
    at = chance.randrange(len(text))
    odd = chance.choice(RAW)
    read_json(chance.choice((odd, text[:at] + odd + text[at + 3 :], _bits(text.encode(), chance))))
    return "read"


def corrections(world: World, chance: random.Random) -> str:
    whole = {"bpm": 121.0, "first_downbeat_s": 0.3, "tonic": "Bb", "mode": "minor", "beats_per_bar": 4,
             "sections": [{"label": "intro", "start_bar": 1, "bars": 8}, {"label": "drop", "start_bar": 9,
             "bars": 8}]}  # fmt: skip
    from_json(Corrections, damaged(whole, chance))
    return "read"


def midi(world: World, chance: random.Random) -> str:
    path = world.folder / "song.mid"
    if not path.exists():
        write_midi(world.song, path)
    return f"{len(read_midi(_bits(path.read_bytes(), chance)).tracks)} tracks"


# Over the wire -------------------------------------------------------------------------------------------------------


def _answered(answer: Any) -> str:
    if answer.status_code >= 500:
        raise AssertionError(f"answered {answer.status_code}: {answer.content[:200]!r}")
    return str(answer.status_code)


def _field(hint: str, world: World, chance: random.Random) -> Any:
    """A value that may fit a field of an edit."""
    song = world.song
    part = chance.choice(song.parts)
    likely = {
        "part": part.id, "section": chance.choice(song.sections).id, "to": chance.choice(song.sections).id, "pattern": "A",
        "target": {"strip": part.id, "device": "fader", "param": "gain_db"}, "strip": part.id,
        "bars": chance.choice((1, 4)), "value": 0.5, "how": "transpose", "what": "riser", "beats": 4.0,
        "role": "lead",
        "name": "Fuzz", "title": "Fuzz", "first": 1, "last": 2, "place": 0, "id": "t1", "label": "drop",
        "effects": [{"kind": "reverb"}],
        "points": [{"tick": 0, "value": 0.0}, {"tick": 3840, "value": -3.0}], "notes": [{"tick": 0, "ticks": 240, "midi": 60,
        "velocity": 0.9}],
        "cells": [{"part": part.id, "section": song.sections[0].id, "on": True, "pattern": "A"}], "parts": [part.id],
        "sections": [],
        "sound": {"voice": "synth"}, "modulations": [{"source": "lfo 1", "target": "pan", "amount": 0.2}], "on": [], "seed": 3,
        "shape": "rise",
        "edits": [{"kind": "rename", "title": "x"}], "said": "fuzz", "bpm": 121.0, "gain_db": -3.0, "duck_db": 3.0, "choke": "a",
        "group": "a",
        "tracks": [{"name": "x", "role": "lead", "notes": [{"tick": 0, "ticks": 9, "midi": 60, "velocity": 1.0}]}], "amount": 0.5,
        "start": 1, "count": 2, "bar": 1, "degree": 1, "voices": 3, "tick": 0, "answers": song.parts[0].id,
        "answer_pattern": "A", "offer": 0,
        "alternative": {"pattern": "A"}, "groove": {"name": "x"}, "slot": "sample", "sample": "abc", "option": "sine",
        "standstill": 0,
    }  # fmt: skip
    return likely.get(hint, chance.choice(ODD)) if chance.random() < 0.85 else chance.choice(ODD)


def _made(kinds: dict[str, type], world: World, chance: random.Random) -> dict[str, Any]:
    kind = chance.choice(sorted(kinds))
    names = [n for n in kinds[kind].__dataclass_fields__ if n != "kind"]
    made = {"kind": kind, **{n: _field(n, world, chance) for n in names if chance.random() < 0.9}}
    return damaged(made, chance) if chance.random() < 0.5 else made


def edit_alone(world: World, chance: random.Random) -> str:
    """An edit on the song, which must come back from its JSON and can be rendered."""
    edit = parse_edit(read_json(json.dumps(_made(EDITS, world, chance))))
    edit.sentence(world.song)
    song = edit.apply(world.song)
    assert Song.from_json(read_json(json.dumps(song.to_json()))) == song, "the edited song doesn't come back from its document"
    if chance.random() < 0.2:
        mixdown = Mixdown(song)
        mixdown.samples(*mixdown.bar_range(1, 1))
    return edit.kind


def edit_sent(world: World, chance: random.Random) -> str:
    from ersatz.studio.models import Remake

    remake = Remake.objects.get(pk=world.remake)
    what = {"ask": _made(ASKS, world, chance)} if chance.random() < 0.3 else {"edit": _made(EDITS, world, chance)}
    body = json.dumps({"revision": remake.head if chance.random() < 0.9 else chance.choice(ODD), **what})
    if chance.random() < 0.15:
        at = chance.randrange(len(body))
        body = body[:at] + chance.choice(RAW) + body[at + 2 :]
    doors = ("edit/", "edit/?show=sound&part=kick", "edit/?show=notes&part=kick", "edit/?show=balance", "edit/?show=nothing")
    door = chance.choice((*doors, "parts/bass/preview/"))
    answer = world.client.post(f"/remakes/{world.remake}/{door}", body.encode("utf-8", "replace"), content_type="application/json")
    said = _answered(answer)
    # Whatever was kept can be read and shown.
    page = world.client.get(f"/remakes/{world.remake}/", headers={"accept": "text/html"})
    assert page.status_code == 200, f"after {body[:300]} the plan answers {page.status_code}"
    return said


def variant(world: World, chance: random.Random) -> str:
    from ersatz.studio.models import Remake

    sha = Remake.objects.get(pk=world.remake).revision.sha
    body = damaged({"edit": _made(EDITS, world, chance), "heard": ["kick"]}, chance)
    code = base64.urlsafe_b64encode(json.dumps(body).encode("utf-8", "replace")).decode().rstrip("=")
    code = code if chance.random() < 0.8 else code[: chance.randrange(len(code))] + chance.choice(("", "A", "_-"))
    return _answered(world.client.get(f"/listen/remake/{world.remake}/{sha}/with/{code}/1-1.flac"))


def form(world: World, chance: random.Random) -> str:
    """A form with odd values in it."""
    r, m = world.reference, world.remake
    doors: tuple[tuple[str, dict[str, Any]], ...] = (
        (f"/references/{r}/correct/", {"what": "tempo", "bpm": "121"}), (f"/references/{r}/correct/", {"what": "key",
        "tonic": "C", "mode": "minor"}),
        (f"/references/{r}/correct/", {"what": "sections", "sections": '[{"label": "drop", "start_bar": 1, "bars": 32}]'}),
        (f"/references/{r}/correct/", {"what": "shift", "beats": "1", "ms": "0"}), (f"/references/{r}/correct/",
        {"what": "metre", "beats": "4"}),
        (f"/references/{r}/rename/", {"title": "Cold Pier"}), ("/targets/new/", {"title": "x", "style": "tech-house",
        "members": [str(r)]}),
        (f"/remakes/{m}/milestones/keep/", {"name": "x"}), (f"/remakes/{m}/milestones/take/", {"milestone": "1"}),
        (f"/remakes/{m}/parts/kick/save/", {"what": "sound", "name": "x"}), (f"/remakes/{m}/export/", {"format": "wav"}),
        (f"/remakes/{m}/midi/", {"revision": "1"}), ("/references/upload/", {}), ("/samples/", {"role": "kick",
        "remake": str(m)}),
        ("/sounds/forget/chain/1/", {"role": "kick"}), (f"/remakes/{m}/undo/", {}), (f"/remakes/{m}/return/1/", {}),
    )  # fmt: skip
    path, fields = chance.choice(doors)
    odd = [o for o in ODD if not isinstance(o, (dict, list)) and o is not None]
    for name in list(fields):
        if chance.random() < 0.5:
            fields[name] = str(chance.choice(odd))
    if "midi" in path or "upload" in path or "samples" in path:
        file = io.BytesIO(
            _bits(struct.pack("<4sI4s", b"RIFF", 40, b"WAVE") + bytes(40) if chance.random() < 0.5 else b"MThd" + bytes(30), chance)
        )
        file.name = chance.choice(("x.wav", "x.mid", "x", "ä" * 90 + ".wav", "../../x.flac", "x\u0000.wav"))
        fields["file"] = file
    fields = {k: v.encode("utf-8", "replace") if isinstance(v, str) else v for k, v in fields.items()}
    return _answered(world.client.post(path, fields))


def address(world: World, chance: random.Random) -> str:
    """An address with odd numbers and names in it."""
    r, m = str(world.reference), str(world.remake)
    number = chance.choice((r, m, "0", "1", "999", "9" * 9, "9" * 10, "9" * 300, "9" * 6000, "²", "-1", "1.5", "%00", "x"))
    name = chance.choice(("kick", "bass", "master", "bus:drums", "~", "²", "%E4", "a" * 400, "..", "%2e%2e", "x%00"))
    shape = chance.choice((
        "/", "/?q={name}&sort={name}", "/references/{number}/", "/references/{number}/sheet/",
        "/references/{number}/beside/{number}/", "/targets/new/?members={name}",
        "/targets/new/?members={number}", "/remakes/{number}/", "/remakes/{number}/gap/?section={number}",
        "/remakes/{number}/handover/", "/remakes/{number}/parts/{name}/",
        "/remakes/{number}/parts/{name}/notes/", "/remakes/{number}/targets/{name}/", "/remakes/{number}/standing-still/",
        "/remakes/{number}/now/", "/jobs/{number}/",
        "/listen/remake/{number}/{name}/{number}-{number}.flac", "/listen/reference/{number}/{name}/1-4.flac",
        "/listen/remake/{number}/{name}/peaks/{name}/1-4.json",
        "/listen/remake/{number}/{name}/than/{name}/{number}-{number}.json",
        "/listen/remake/{number}/{name}/note/kick/{number}.flac",
        "/listen/sound/{name}.flac",
        "/listen/saved/{number}.flac", "/remakes/{number}/parts/kick/level/{number}/", "/remakes/{number}/export/{name}/wav/",
        "/static/{name}", "/nowhere/{name}",
        "/remakes/{number}/parts/kick/patterns/{name}.mid",
    ))  # fmt: skip
    path = shape.format(number=number, name=name)
    method = chance.choice(
        (world.client.get, world.client.get, world.client.head, world.client.post, world.client.put, world.client.options)
    )
    return _answered(method(path))


#: Cases by what they try, and how often each is tried.
CASES: dict[str, tuple[Case, int]] = {
    "audio": (audio, 2), "documents": (document, 2), "raw JSON": (raw, 2), "corrections": (corrections, 1), "MIDI": (midi, 2),
    "edits": (edit_alone, 4), "edits sent": (edit_sent, 4), "variants": (variant, 1), "forms": (form, 3), "addresses": (address,
    4),
}  # fmt: skip
