"""Saved chains of effects: how one is kept, and what it is in another song."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from ersatz.core.effects.chain import spec_of
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.song.strips import Effect
from ersatz.studio.models import SavedChain


@dataclass(frozen=True)
class ChainChoice:
    """A saved chain as a song can play it; `lost` says what of it that can't be."""

    id: int
    name: str
    effects: list[Effect]
    lost: str


def kept_chain(effects: tuple[Effect, ...], song: Song) -> list[dict[str, Any]]:
    """A chain as it is saved: beside the part that steers an effect its role, by which another song finds one."""
    steering = {p.id: p.role for p in song.parts}
    return [{**to_json(replace(e, id="")), "sidechain_role": steering.get(e.sidechain, "")} for e in effects]


def chain_in(chain: SavedChain, song: Song | None) -> ChainChoice:
    """A saved chain for a song: each effect steered by the part that it was steered by, or else by the first of its role."""
    effects, lost = [], []
    for effect, kept in zip(chain.effects, chain.effects_json):
        role = kept.get("sidechain_role", "")
        parts = [p for p in song.parts if p.role == role] if song and effect.sidechain else []
        steered_by = next((p.id for p in parts if p.id == effect.sidechain), parts[0].id if parts else "")
        if effect.sidechain and not steered_by:
            lost.append(f"{spec_of(effect).title} was steered by a part that plays {role or 'something'}; this song has none.")
        effects.append(replace(effect, sidechain=steered_by))
    return ChainChoice(chain.pk, chain.name, effects, " ".join(lost))


def chains_for(user: Any, song: Song | None) -> list[ChainChoice]:
    """A user's saved chains as a song can play them."""
    return [chain_in(c, song) for c in SavedChain.objects.of(user)]


def save_chain(user: Any, name: str, effects: tuple[Effect, ...], song: Song) -> None:
    """Keeps a chain under a name; what has that name already is replaced."""
    kept = {"effects_json": kept_chain(effects, song)}
    SavedChain.objects.update_or_create(owner=user, name=name, deleted_at=None, defaults=kept)
