"""Edits: small values with `apply(song) -> song` and a sentence that names them. Invalid ones raise InvalidEdit."""

from __future__ import annotations

from typing import Any, get_args

from ersatz.core.edits.arrangement import Rename, SetCell, SetPartDuck, SetPartGain, SwitchPart, section_name
from ersatz.core.edits.automation import CopyAutomation, SetAutomation, ShapeAutomation
from ersatz.core.edits.cells import FlipCell, KeepAlternative, PutCells
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.edits.parts import (
    AddPart,
    AddPattern,
    MovePart,
    RenamePart,
    SetChoke,
    SetGroove,
    SetTempo,
    TakeOutPart,
    TakeOutPattern,
)
from ersatz.core.edits.sections import (
    AdoptPlan,
    AdoptSection,
    CloseUp,
    DoubleSection,
    JoinSection,
    MakeRoom,
    MoveSection,
    RelabelSection,
    RepeatBars,
    ResizeSection,
    SplitSection,
    TakeOutSection,
)
from ersatz.core.edits.sound import (
    SetEffects,
    SetModulations,
    SetSample,
    SetShape,
    SetSoundChoice,
    SetSoundValue,
    TakeSound,
)
from ersatz.core.edits.transitions import PutTransition, TakeOutTransition
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import from_json, to_json

Edit = (
    SwitchPart | SetCell | SetPartGain | SetPartDuck | Rename
    | ResizeSection | RelabelSection | MoveSection | DoubleSection | SplitSection | JoinSection | TakeOutSection | AdoptPlan
    | AdoptSection | MakeRoom | CloseUp | RepeatBars
    | PutCells | KeepAlternative | FlipCell
    | PutTransition | TakeOutTransition
    | AddPart | TakeOutPart | RenamePart | MovePart | SetChoke | SetGroove | AddPattern | TakeOutPattern | SetTempo
    | SetSoundValue | SetSoundChoice | SetModulations | SetShape | TakeSound | SetSample | SetEffects
    | SetAutomation | ShapeAutomation | CopyAutomation
    | WriteNotes
)  # fmt: skip
EDITS: dict[str, type[Edit]] = {e.kind: e for e in get_args(Edit)}

__all__ = ["EDITS", "Edit", "edit_json", "parse_edit", "section_name"]


def parse_edit(data: Any) -> Edit:
    """An edit from `{"kind": ..., fields}`. Raises InvalidEdit for an unknown kind, UnusableDocument for bad fields."""
    kind = data.get("kind") if isinstance(data, dict) else None
    if kind not in EDITS:
        raise InvalidEdit(f"There is no edit “{kind}”.")
    return from_json(EDITS[kind], data)


def edit_json(edit: Edit) -> dict[str, Any]:
    return {"kind": edit.kind, **to_json(edit)}
