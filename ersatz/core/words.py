"""Figures in sentences: as people write them."""

from __future__ import annotations


def minus(text: str) -> str:
    """With the sign that figures have, not the hyphen that programs print."""
    return text.replace("-", "−")


def rounded(value: float, decimals: int = 1) -> str:
    """A figure with a true minus sign and no negative zero."""
    return minus(f"{round(value, decimals) + 0.0:.{decimals}f}")
