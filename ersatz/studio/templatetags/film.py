"""Figures as the trade writes them."""

from django import template

from ersatz.core.pitch import written
from ersatz.core.words import rounded

register = template.Library()


@register.filter
def level(value: float, decimals: int = 1) -> str:
    """A level with a true minus sign and no negative zero."""
    return rounded(float(value), int(decimals))


@register.filter(name="written")
def written_tonic(tonic: str) -> str:
    """A tonic with its accidental."""
    return written(tonic)


@register.filter
def tuning(cents: float) -> str:
    """Cents against A4 = 440 Hz as the frequency of that A."""
    return f"A = {440 * 2 ** (float(cents) / 1200):.1f} Hz"
