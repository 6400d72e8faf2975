"""Figures as the trade writes them."""

from django import template

from ersatz.core.pitch import written

register = template.Library()


@register.filter
def level(value: float, decimals: int = 1) -> str:
    """A level with a true minus sign and no negative zero."""
    text = f"{float(value):.{int(decimals)}f}"
    if float(text) == 0:
        text = text.lstrip("-")
    return text.replace("-", "−")


@register.filter(name="written")
def written_tonic(tonic: str) -> str:
    """A tonic with its accidental."""
    return written(tonic)


@register.filter
def tuning(cents: float) -> str:
    """Cents against A4 = 440 Hz as the frequency of that A."""
    return f"A = {440 * 2 ** (float(cents) / 1200):.1f} Hz"
