"""What a voice is made of: a table from which validation, defaults and documentation follow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

#: (params, midi, held samples, velocity, rate, random generator) -> float array (2, n)
Render = Callable[[dict[str, float], int, int, float, int, np.random.Generator], np.ndarray]


@dataclass(frozen=True)
class Param:
    name: str
    unit: str
    low: float
    high: float
    default: float


@dataclass(frozen=True)
class VoiceSpec:
    name: str
    title: str
    pitched: bool
    params: tuple[Param, ...]
    render: Render
