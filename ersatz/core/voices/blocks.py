"""Blocks of a voice's signal path, by the beginnings of its parameters' names: how a page and a sentence group them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Block:
    """`kind` says what it does and how it is drawn, `number` which of its kind it is (0 for the only one); `title` is for people.
    `starts`: beginnings of the names of what belongs to it."""

    id: str
    kind: str
    title: str
    number: int = 0
    starts: tuple[str, ...] = ()


#: In the order that the sound goes through them, what moves it behind. The last takes what belongs nowhere else.
BLOCKS = (
    Block("sample", "sample", "Sample", 0, ("sample_",)),
    Block("time", "time", "Time", 0, ("time_",)),
    Block("loop", "loop", "Loop", 0, ("loop_",)),
    Block("slices", "slices", "Slices", 0, ("slice_",)),
    Block("osc1", "oscillator", "Oscillator 1", 1, ("osc1_",)),
    Block("osc2", "oscillator", "Oscillator 2", 2, ("osc2_",)),
    Block("mix", "mix", "Mix and drive", 0, ("fm", "ring", "sync", "sub_", "noise_", "drive")),
    Block("filter1", "filter", "Filter 1", 1, ("filter1_",)),
    Block("filter2", "filter", "Filter 2", 2, ("filter2_",)),
    Block("env1", "envelope", "Envelope 1: level", 1, ("env1_",)),
    Block("env2", "envelope", "Envelope 2", 2, ("env2_",)),
    Block("env3", "envelope", "Envelope 3", 3, ("env3_",)),
    Block("lfo1", "lfo", "LFO 1", 1, ("lfo1_",)),
    Block("lfo2", "lfo", "LFO 2", 2, ("lfo2_",)),
    Block("notes", "notes", "Notes and level"),
)


def block_of(name: str) -> Block:
    """Of a parameter or a choice."""
    return next((block for block in BLOCKS if name.startswith(block.starts)), BLOCKS[-1])
