"""The song's schema and page are what its dataclasses say, and its documents fit them."""

import gzip
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, Literal

import pytest
from jsonschema import Draft202012Validator, ValidationError

from bench.song_format import DOCUMENT, TEXT, document, text
from ersatz.core.edits import EDITS
from ersatz.core.schema import dataclasses_of, json_schema, said
from ersatz.core.serial import Most, Within, from_json
from ersatz.core.song.document import Song


def test_the_written_page_and_schema_are_up_to_date():
    assert TEXT.read_text() == text(), "python -m bench.song_format --write"
    assert DOCUMENT.read_text() == document(), "python -m bench.song_format --write"


def test_every_edit_is_on_the_page():
    page = TEXT.read_text()
    assert all(f"| `{kind}` |" in page for kind in EDITS)


@dataclass(frozen=True)
class Leaf:
    """A leaf."""

    share: Annotated[float, Within(0, 1)] = 0.5


@dataclass(frozen=True)
class Tree:
    """A tree."""

    name: Annotated[str, Most(5)]
    kind: Literal["oak", "elm"]
    leaves: Annotated[tuple[Leaf, ...], Most(2)] = ()
    best: Leaf | None = None
    at: tuple[int, float] = (0, 0.0)
    by: dict[str, Leaf] = field(default_factory=dict)


VALIDATOR = Draft202012Validator(json_schema(Tree, "tree/1"))


@pytest.mark.parametrize("good", [
    {}, {"leaves": [{"share": 1}, {}]}, {"best": None}, {"best": {}}, {"at": [3, 1.5]}, {"by": {"x": {"share": 0}}}, {"more": 1},
])  # fmt: skip
def test_what_is_read_fits_the_schema(good):
    made = {"schema": "tree/1", "name": "ash", "kind": "oak", **good}
    VALIDATOR.validate(made)
    from_json(Tree, made)


@pytest.mark.parametrize("bad", [
    {"name": "too long"}, {"name": 3}, {"kind": "ash"}, {"leaves": [{"share": 2}]}, {"leaves": [{}] * 3}, {"best": 1}, {"at": [1]},
    {"at": [0.5, 1]}, {"by": {"x": {"share": -1}}}, {"by": []},
])  # fmt: skip
def test_what_is_refused_does_not_fit_the_schema(bad):
    made = {"schema": "tree/1", "name": "ash", "kind": "oak", **bad}
    with pytest.raises(ValidationError):
        VALIDATOR.validate(made)
    with pytest.raises(Exception, match="damaged"):
        from_json(Tree, made)


def test_types_are_said_in_words():
    assert said(Annotated[tuple[Leaf, ...], Most(2)]) == "list of Leaf, at most 2"
    assert said(Annotated[float, Within(-1, 1)] | None) == "number -1 to 1, or null"
    assert said(Literal["oak", "elm"]) == "“oak” or “elm”"
    assert dataclasses_of(Tree) == [Tree, Leaf]


def test_songs_fit_their_schema():
    songs = json.loads(gzip.decompress((Path(__file__).parent / "songs" / "earlier.json.gz").read_bytes()))
    validator = Draft202012Validator(json.loads(document()))
    for row in (songs[0], songs[20], songs[22], songs[23]):
        made = Song.from_json(row["song"]).to_json()
        validator.validate(made)
        made["parts"][0]["gain_db"] = "loud"
        with pytest.raises(ValidationError):
            validator.validate(made)
