"""Edits: small values with `apply(song) -> song` and a sentence that names them. Invalid ones raise InvalidEdit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Protocol, get_args

from ersatz.core.edits.arrangement import Rename, SetCell, SwitchPart, section_name
from ersatz.core.edits.automation import CopyAutomation, DrawAutomation, SetAutomation, ShapeAutomation
from ersatz.core.edits.cells import FlipCell, KeepAlternative, PutCells
from ersatz.core.edits.ducking import AddCurve, DeleteCurve, DrawCurve, RenameCurve, SetTriggers
from ersatz.core.edits.imported import ImportArrangement
from ersatz.core.edits.notes import CallAndAnswer, TransformNotes, WriteChord, WriteNotes
from ersatz.core.edits.parts import (
    AddLayer,
    AddPart,
    AddPattern,
    DeletePart,
    DeletePattern,
    MovePart,
    SetChoke,
    SetGroove,
    SetLayer,
    SetTempo,
)
from ersatz.core.edits.sections import (
    AddSection,
    AdoptPlan,
    AdoptSection,
    DeleteBars,
    DeleteSection,
    DuplicateBars,
    DuplicateSection,
    InsertBars,
    MergeSection,
    MoveSection,
    RelabelSection,
    RenameSection,
    ResizeSection,
    SplitSection,
)
from ersatz.core.edits.sound import (
    LoadSound,
    SetEffects,
    SetModulations,
    SetSample,
    SetShape,
    SetSoundChoice,
    SetSoundValue,
)
from ersatz.core.edits.strips import (
    AddBus,
    AddReturn,
    CopyChain,
    DeleteStrip,
    MuteStrip,
    RenameStrip,
    SetCuts,
    SetDuck,
    SetModulators,
    SetOutput,
    SetSend,
    SetStrip,
    SwitchChain,
)
from ersatz.core.edits.transitions import DeleteTransition, PutTransition
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
    | SetStrip | MuteStrip | SetSend | SetOutput | SetDuck | AddBus | AddReturn | RenameStrip | DeleteStrip | CopyChain
    | SwitchChain | SetCuts | SetModulators
    | AddCurve | DrawCurve | SetTriggers | RenameCurve | DeleteCurve
    | SetKey | SetSwing | SetMaster | SetMasterEq
    | ResizeSection | RelabelSection | MoveSection | DuplicateSection | SplitSection | MergeSection | DeleteSection | AdoptPlan
    | RenameSection | AdoptSection | AddSection | InsertBars | DeleteBars | DuplicateBars
    | PutCells | KeepAlternative | FlipCell
    | PutTransition | DeleteTransition
    | AddPart | AddLayer | SetLayer | DeletePart | MovePart | SetChoke | SetGroove | AddPattern | DeletePattern | SetTempo
    | SetSoundValue | SetSoundChoice | SetModulations | SetShape | LoadSound | SetSample | SetEffects
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
    """An edit as a page sends it: `parse_edit` reads it again."""
    return {"kind": edit.kind, **to_json(edit)}
