"""Figures as the page writes them."""

from __future__ import annotations

from ersatz.core.words import rounded

#: Decimals per unit, as the trade writes them.
DECIMALS = {"BPM": 2, "LUFS": 1, "LU": 1, "dBTP": 1, "dB": 1, "ms": 0, "Hz": 0, "%": 1, "": 2}


def figure_text(value: float | str | None, unit: str, sign: bool = False) -> str:
    """A value as the tables show it, with as many decimals as its unit takes; "" for none. `sign`: with a plus."""
    if value is None:
        return ""
    if isinstance(value, str):
        return value.replace("b ", "♭ ").replace("# ", "♯ ")
    shown = rounded(value, DECIMALS[unit])
    return f"+{shown}" if sign and value > 0 and shown.strip("0.") else shown
