"""What of a strip can be moved, by automation or by modulators: every value with its name, range and where it stands."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.effects.chain import spec_of
from ersatz.core.params import Param
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import CLOSED_DB, FADER, MASTER, MOST_WIDTH, SEND_HIGH_DB, SENDS, VOICE, Strip, Target
from ersatz.core.voices import voice_of
from ersatz.core.voices.blocks import block_of

#: One figure of every strip each. Level is the fader; the gain lies in front of the chain.
STRIP_VALUES = {
    p.name: p for p in (
        Param("gain_in_db", "dB", -24, 24, 0, "Gain in"), Param("gain_db", "dB", CLOSED_DB, 24, 0, "Level", moves=""),
        Param("pan", "", -1, 1, 0, "Pan", moves=""), Param("width", "", 0, MOST_WIDTH, 1, "Width", moves=""),
        Param("mono_below_hz", "Hz", 0, 500, 0, "Mono below"),
    )
}  # fmt: skip
BLEND = Param("blend", "", 0, 1, 1, "Blend", moves="")


@dataclass(frozen=True)
class Value:
    """`group`: what it is a value of, "" for the strip itself. `param`: its range, unit and the unit in which it is moved.
    `stands`: where it is when nothing moves it."""

    group: str
    param: Param
    stands: float

    @property
    def title(self) -> str:
        """The parameter’s title behind its group’s, as pages show it."""
        return f"{self.group}: {self.param.title}" if self.group else self.param.title


def value_of(strip: Strip, device: str, param: str) -> Value | None:
    """None where the strip has no such value, or none that moves."""
    if device == FADER:
        found = STRIP_VALUES.get(param)
        # The master's width stands in front of everything that is rendered bar by bar with it.
        if found is None or found.moves is None or (strip.id == MASTER and param == "width"):
            return None
        return Value("", found, float({"gain_db": strip.gain_db, "pan": strip.pan, "width": strip.width}[param]))
    if device == SENDS:
        return Value("", Param(param, "dB", CLOSED_DB, SEND_HIGH_DB, CLOSED_DB, "Send", moves=""), strip.send_db(param))
    if device == VOICE:
        return _voice_value(strip, param) if isinstance(strip, Part) else None
    effect = strip.effect(device)
    if effect is None:
        return None
    spec = spec_of(effect)
    if param == BLEND.name:
        return Value(spec.title, BLEND, effect.blend)
    row = next((p for p in spec.params if p.name == param and p.moves is not None), None)
    return Value(spec.title, row, row.value(effect.params)) if row else None


def _voice_value(part: Part, param: str) -> Value | None:
    voice = voice_of(part.sound)
    row = next((p for p in voice.params if p.name == param), None)
    if row is None:
        return None
    return Value(block_of(param).title if voice.choices else voice.title, row, row.value(part.sound.params))


def moves_inside_a_note(part: Part, param: Param) -> bool:
    """Whether a value of the voice moves while a note sounds; else it is read where the note begins."""
    return bool(voice_of(part.sound).sources) and param.moves is not None


def values_of(song: Song, strip: Strip) -> dict[Target, Value]:
    """Everything of a strip that can be moved. A part may begin to send by its curve; what a bus or a return sends to stands in it,
    so that nothing goes in a circle."""
    names = [(FADER, name) for name in STRIP_VALUES]
    names += [(SENDS, r.id) for r in song.returns if isinstance(strip, Part) or r.id in strip.sends]
    for effect in strip.chain:
        names += [(effect.id, BLEND.name), *((effect.id, p.name) for p in spec_of(effect).params)]
    if isinstance(strip, Part):
        names += [(VOICE, p.name) for p in voice_of(strip.sound).params]
    found = ((Target(strip.id, device, param), value_of(strip, device, param)) for device, param in names)
    return {target: value for target, value in found if value is not None}
