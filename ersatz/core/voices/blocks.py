"""Blocks of a voice's signal path, by the beginnings of its parameters' names: how a page and a sentence group them."""

from __future__ import annotations

#: Beginnings of names, and what their block is called.
BLOCKS = (
    ("sample_", "Sample"), ("time_", "Time"), ("loop_", "Loop"), ("slice_", "Slices"),
    ("osc1_", "Oscillator 1"), ("osc2_", "Oscillator 2"), ("filter1_", "Filter 1"), ("filter2_", "Filter 2"),
    ("env1_", "Envelope 1: level"), ("env2_", "Envelope 2"), ("env3_", "Envelope 3"), ("lfo1_", "LFO 1"), ("lfo2_", "LFO 2"),
)  # fmt: skip
MIX = ("fm", "ring", "sync", "sub_level", "sub_octave", "sub_wave", "noise_level", "noise_colour", "drive")
#: In the order that the sound goes through them, what moves it behind.
ORDER = (
    "Sample", "Time", "Loop", "Slices", "Oscillator 1", "Oscillator 2", "Mix and drive", "Filter 1", "Filter 2",
    "Envelope 1: level", "Envelope 2", "Envelope 3", "LFO 1", "LFO 2", "Notes and level",
)  # fmt: skip


def block_of(name: str) -> str:
    """Of a parameter or a choice."""
    return next((title for start, title in BLOCKS if name.startswith(start)), "Mix and drive" if name in MIX else "Notes and level")
