"""Frozen dataclasses to JSON and back, by their type hints.

Handles nested dataclasses, tuples, dicts with string keys, optional values and plain scalars; unknown keys are
ignored, so that a document with more fields beside ours still reads.
"""

from __future__ import annotations

import types
from collections.abc import Callable
from dataclasses import MISSING, fields, is_dataclass
from functools import cache
from typing import Any, Literal, TypeVar, Union, get_args, get_origin, get_type_hints

from ersatz.core.errors import UnusableDocument

T = TypeVar("T")


def to_json(value: Any) -> Any:
    """JSON-ready copy: dataclasses as objects, tuples as arrays, non-finite numbers as null."""
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: to_json(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, (tuple, list)):
        return [to_json(item) for item in value]
    if isinstance(value, dict):
        return {key: to_json(item) for key, item in value.items()}
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        return None
    return value


@cache
def _hints(cls: type) -> dict[str, Any]:
    return get_type_hints(cls)


def from_json(cls: type[T], data: Any, path: str = "") -> T:
    """An instance of dataclass `cls`. Raises UnusableDocument, naming the place, if a field is missing or wrong."""
    if not isinstance(data, dict):
        raise UnusableDocument(f"The document is damaged: “{path or cls.__name__}” should be an object.")
    hints = _hints(cls)  # type: ignore[arg-type]
    arguments = {}
    for f in fields(cls):  # type: ignore[arg-type]
        where = f"{path}.{f.name}".lstrip(".")
        if f.name in data:
            arguments[f.name] = _convert(hints[f.name], data[f.name], where)
        elif f.default is MISSING and f.default_factory is MISSING:
            raise UnusableDocument(f"The document is damaged: “{where}” is missing.")
    try:
        return cls(**arguments)
    except (ValueError, TypeError) as error:
        raise UnusableDocument(f"The document is damaged at “{path or cls.__name__}”: {error}.") from error


def _convert(hint: Any, value: Any, path: str) -> Any:
    if hint is Any:
        return value
    origin = get_origin(hint)
    if origin in (Union, types.UnionType):
        if value is None:
            return None
        return _convert(next(a for a in get_args(hint) if a is not type(None)), value, path)
    if origin is tuple:
        if not isinstance(value, list):
            raise UnusableDocument(f"The document is damaged: “{path}” should be a list.")
        items = get_args(hint)
        if items[-1] is not Ellipsis:
            if len(items) != len(value):
                raise UnusableDocument(f"The document is damaged: “{path}” should have {len(items)} entries.")
            return tuple(_convert(item, v, f"{path}[{i}]") for i, (item, v) in enumerate(zip(items, value)))
        return tuple(_convert(items[0], v, f"{path}[{i}]") for i, v in enumerate(value))
    if origin is dict:
        if not isinstance(value, dict):
            raise UnusableDocument(f"The document is damaged: “{path}” should be an object.")
        return {k: _convert(get_args(hint)[1], v, f"{path}.{k}") for k, v in value.items()}
    if origin is Literal:
        if value not in get_args(hint):
            raise UnusableDocument(f"The document is damaged: “{path}” can't be “{value}”.")
        return value
    if is_dataclass(hint):
        return from_json(hint, value, path)  # type: ignore[arg-type]
    if hint in (int, float):
        ok = isinstance(value, (int, float)) and not isinstance(value, bool)
    else:
        ok = isinstance(value, hint) if isinstance(hint, type) else True
    if not ok:
        raise UnusableDocument(f"The document is damaged: “{path}” should be {getattr(hint, '__name__', hint)}.")
    converter: Callable[[Any], Any] = hint if hint in (int, float) else (lambda v: v)
    return converter(value)
