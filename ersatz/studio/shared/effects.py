"""Effects and values as the pages draw them: tables with values, and a curve where one says it all."""

from __future__ import annotations

from typing import Any

from ersatz.core.effects.chain import spec_of
from ersatz.core.effects.pictures import picture_of
from ersatz.core.params import Choice, Param
from ersatz.core.serial import to_json
from ersatz.core.song.strips import Effect


def field(param: Param, value: float) -> dict[str, Any]:
    return {"name": param.name, "unit": param.unit, "low": param.low, "high": param.high, "value": value, "title": param.title,
            "scale": param.scale, "step": param.step, "moves": param.moves}  # fmt: skip


def option(choice: Choice, value: str) -> dict[str, Any]:
    return {"name": choice.name, "options": choice.options, "value": value, "title": choice.title}


def effect_state(effect: Effect) -> dict[str, Any]:
    spec = spec_of(effect)
    return {
        **to_json(effect), "title": spec.title, "keyed": spec.keyed, "picture": picture_of(effect),
        "fields": [field(p, p.value(effect.params)) for p in spec.params],
        "options": [option(c, c.value(effect.choices, spec.name)) for c in spec.choices],
    }  # fmt: skip
