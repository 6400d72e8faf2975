"""States of pages: what the server writes into a page is what the declarations of its modules say."""

from __future__ import annotations

from dataclasses import dataclass, make_dataclass
from pathlib import Path
from typing import Annotated, Literal, TypedDict

import pytest

from bench import declarations as made
from bench.served import CHUNK_BARS
from ersatz.core.edits import parse_edit
from ersatz.core.errors import ErsatzError
from ersatz.core.serial import Within
from ersatz.core.song.strips import Send
from ersatz.studio.shared import pages
from ersatz.studio.shared.vocabulary import vocabulary

SCRIPTS = Path(made.FILE).parent


class Picture(TypedDict, total=False):
    values: list[float]


@dataclass(frozen=True)
class Inner:
    """Stands for a page's own."""

    low_hz: Annotated[float, Within(0, 1)]
    places: tuple[int, ...]


@dataclass(frozen=True, kw_only=True)
class Outer(Send):
    """A page's own that adds to a document of the core."""

    first_bar: int
    inner: list[Inner | None]
    kind: Literal["part", "bus"]
    pair: tuple[str, float]
    by_name: dict[str, bool]
    picture: Picture | None


@pytest.fixture
def as_pages(monkeypatch):
    """As if the two were written in a page's module."""
    monkeypatch.setattr(pages, "_is_page", lambda kind: kind in (Inner, Outer))


def test_pages_write_their_own_names_and_leave_those_of_documents(as_pages):
    state = Outer(
        db=-6.0, before_fader=True, first_bar=9, inner=[Inner(30.0, (1, 2)), None], kind="bus", pair=("a", float("nan")),
        by_name={"low_cut": True}, picture=None,
    )  # fmt: skip
    assert pages.page_json(state) == {
        "db": -6.0, "before_fader": True, "firstBar": 9, "inner": [{"lowHz": 30.0, "places": [1, 2]}, None], "kind": "bus",
        "pair": ["a", None], "byName": {"low_cut": True}, "picture": None,
    }  # fmt: skip


def test_declarations_say_the_same_names_with_their_types(as_pages):
    assert pages.declarations([Outer]).splitlines() == [
        "export interface Inner {", "  lowHz: number;", "  places: number[];", "}", "",
        "export interface Outer {", "  db: number;", "  before_fader: boolean;", "  firstBar: number;",
        "  inner: (Inner | null)[];", '  kind: "part" | "bus";', "  pair: [string, number];", "  byName: Record<string, boolean>;",
        "  picture: Picture | null;", "}", "",
        "export interface Picture {", "  values?: number[];", "}",
    ]  # fmt: skip


def test_two_classes_of_one_name_are_refused(as_pages):
    other = make_dataclass("Inner", [("x", int)])
    with pytest.raises(ValueError, match="two classes are called Inner"):
        pages.declarations([Outer, other])


def test_the_declarations_are_those_of_the_pages():
    assert made.text() == made.FILE.read_text(), "python -m bench.declarations --write"


def test_every_module_is_checked():
    modules = sorted(SCRIPTS.glob("*.js"))
    assert len(modules) > 60
    assert not [m.name for m in modules if not m.read_text().startswith("// @ts-check\n")]


#: What a limit of the vocabulary bounds, as an edit of a value.
BOUNDED = {
    "tempo_bpm": lambda song, v: {"kind": "set_tempo", "bpm": v},
    "swing_percent": lambda song, v: {"kind": "set_swing", "swing_percent": v},
    "section_bars": lambda song, v: {"kind": "resize_section", "section": song.sections[0].id, "bars": v},
    "pattern_bars": lambda song, v: {"kind": "add_pattern", "part": song.parts[0].id, "bars": v},
    "fader_db": lambda song, v: {"kind": "set_strip", "strip": song.parts[0].id, "name": "gain_db", "value": v},
}


@pytest.mark.parametrize("name", BOUNDED)
def test_limits_are_where_edits_begin_to_refuse(name, song):
    def applied(value) -> None:
        parse_edit(BOUNDED[name](song, value)).apply(song)

    low, high = getattr(vocabulary().limits, name)
    for inside in (low, high):
        applied(inside)
    for outside in (low - 1, high + 1):
        with pytest.raises(ErsatzError):
            applied(outside)


def test_the_benches_ask_for_audio_as_the_player_does():
    assert f"export const CHUNK = {CHUNK_BARS};" in (SCRIPTS / "track.js").read_text()
