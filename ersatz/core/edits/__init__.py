"""Edits: small values with `apply(song) -> song` and a sentence that names them. Invalid ones raise InvalidEdit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Protocol, get_args

from ersatz.core.edits.arrangement import Rename, SetCell, SwitchPart, section_name
from ersatz.core.edits.automation import CopyAutomation, DrawAutomation, SetAutomation, ShapeAutomation
from ersatz.core.edits.cells import FlipCell, KeepAlternative, PutCells
from ersatz.core.edits.ducking import AddCurve, DrawCurve, RenameCurve, SetTriggers, TakeOutCurve
from ersatz.core.edits.imported import ImportArrangement
from ersatz.core.edits.notes import CallAndAnswer, TransformNotes, WriteChord, WriteNotes
from ersatz.core.edits.parts import (
    AddLayer,
    AddPart,
    AddPattern,
    MovePart,
    SetChoke,
    SetGroove,
    SetLayer,
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
    RenameSection,
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
from ersatz.core.edits.strips import (
    AddBus,
    AddReturn,
    CopyChain,
    MuteStrip,
    RenameStrip,
    SetCuts,
    SetDuck,
    SetModulators,
    SetOutput,
    SetSend,
    SetStrip,
    TakeOutStrip,
)
from ersatz.core.edits.transitions import PutTransition, TakeOutTransition
from ersatz.core.edits.whole import SetKey, SetMaster, SetMasterEq, SetSwing
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import from_json, to_json
from ersatz.core.song.document import Song

MOST_AT_ONCE = 50


@dataclass(frozen=True)
class Several:
    """Edits one after the other, as one: undone together, named by one sentence."""

    kind: ClassVar[str] = "several"
    said: str
    edits: tuple[dict[str, Any], ...]

    def apply(self, song: Song) -> Song:
        if not 0 < len(self.edits) <= MOST_AT_ONCE:
            raise InvalidEdit(f"One to {MOST_AT_ONCE} edits are made at once.")
        for edit in self.edits:
            if edit.get("kind") == self.kind:
                raise InvalidEdit("Several edits at once hold no others of the kind.")
            song = parse_edit(edit).apply(song)
        return song

    def sentence(self, song: Song) -> str:
        return self.said[:160]


Edit = (
    SwitchPart | SetCell | Rename
    | SetStrip | MuteStrip | SetSend | SetOutput | SetDuck | AddBus | AddReturn | RenameStrip | TakeOutStrip | CopyChain
    | SetCuts | SetModulators
    | AddCurve | DrawCurve | SetTriggers | RenameCurve | TakeOutCurve
    | SetKey | SetSwing | SetMaster | SetMasterEq
    | ResizeSection | RelabelSection | MoveSection | DoubleSection | SplitSection | JoinSection | TakeOutSection | AdoptPlan
    | RenameSection | AdoptSection | MakeRoom | CloseUp | RepeatBars
    | PutCells | KeepAlternative | FlipCell
    | PutTransition | TakeOutTransition
    | AddPart | AddLayer | SetLayer | TakeOutPart | MovePart | SetChoke | SetGroove | AddPattern | TakeOutPattern | SetTempo
    | SetSoundValue | SetSoundChoice | SetModulations | SetShape | TakeSound | SetSample | SetEffects
    | SetAutomation | DrawAutomation | ShapeAutomation | CopyAutomation
    | WriteNotes | TransformNotes | WriteChord | CallAndAnswer | ImportArrangement | Several
)  # fmt: skip


class Change(Protocol):
    """What makes the next song of one and says so in a sentence: every Edit, and what others make of two songs."""

    def apply(self, song: Song) -> Song: ...

    def sentence(self, song: Song) -> str: ...


EDITS: dict[str, type[Edit]] = {e.kind: e for e in get_args(Edit)}

__all__ = ["EDITS", "Edit", "edit_json", "parse_edit", "section_name"]


def parse_edit(data: Any) -> Edit:
    """An edit from `{"kind": ..., fields}`. Raises InvalidEdit for an unknown kind, UnusableDocument for bad fields."""
    kind = data.get("kind") if isinstance(data, dict) else None
    if not isinstance(kind, str) or kind not in EDITS:
        raise InvalidEdit(f"There is no edit “{kind}”.")
    return from_json(EDITS[kind], data)


def edit_json(edit: Edit) -> dict[str, Any]:
    return {"kind": edit.kind, **to_json(edit)}
