"""The next moves towards a reference: proposed by rules, predicted by a model, then rendered and measured."""

from ersatz.core.moves.find import SCHEMA, Move, MoveEffect, MoveReason, find_moves, moves_document

__all__ = ["SCHEMA", "Move", "MoveEffect", "MoveReason", "find_moves", "moves_document"]
