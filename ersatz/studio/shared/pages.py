"""States of pages: dataclasses here, JSON in the page, TypeScript declarations for the modules that read it.

A page's own dataclasses (those of `ersatz.studio`) have camelCase names in JSON, as JavaScript writes them; documents of the core
that they hold keep the names that they are saved under.
"""

from __future__ import annotations

import types
from collections.abc import Iterable
from dataclasses import fields, is_dataclass
from functools import cache
from inspect import get_annotations
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints, is_typeddict

from ersatz.core.serial import to_json

SCALARS = {int: "number", float: "number", str: "string", bool: "boolean", type(None): "null", Any: "any", object: "object"}


def page_json(state: Any) -> Any:
    """JSON-ready copy of a page's state."""
    kind = type(state)
    if kind in (str, int, bool, float) or state is None:
        return to_json(state)
    if isinstance(state, (list, tuple)):
        return [page_json(item) for item in state]
    if isinstance(state, dict):
        return {key: page_json(item) for key, item in state.items()}
    names = _names(kind) if is_dataclass(kind) else None
    if names is None:
        return to_json(state)
    return {shown: page_json(getattr(state, name)) for name, shown in names.items()}


@cache
def _names(kind: type) -> dict[str, str] | None:
    """Field -> its name in JSON; None for a document of the core. Fields that a state inherits from one keep their names."""
    if not _is_page(kind):
        return None
    return {f.name: _camel(f.name) if _is_page(_declared_by(kind, f.name)) else f.name for f in fields(kind)}


def _is_page(kind: type) -> bool:
    return kind.__module__.startswith("ersatz.studio")


def _declared_by(kind: type, name: str) -> type:
    return next(cls for cls in reversed(kind.__mro__) if name in get_annotations(cls))


def _camel(name: str) -> str:
    first, *more = name.split("_")
    return first + "".join(word.capitalize() for word in more)


def declarations(roots: Iterable[type]) -> str:
    """TypeScript interfaces of dataclasses and typed dicts, and of all that they hold. Raises ValueError where two have one
    name."""
    found: dict[str, type] = {}

    def meet(hint: Any) -> None:
        if not _is_declared(hint):
            for inner in get_args(hint):
                meet(inner)
        elif found.setdefault(hint.__name__, hint) is not hint:
            raise ValueError(f"two classes are called {hint.__name__}")
        elif hint not in done:
            done.add(hint)
            for inner in _hints(hint).values():
                meet(inner)

    done: set[type] = set()
    for root in roots:
        meet(root)
    return "\n".join(_interface(kind) for _, kind in sorted(found.items()))


def _is_declared(hint: Any) -> bool:
    return isinstance(hint, type) and (is_dataclass(hint) or is_typeddict(hint))


def _hints(kind: type) -> dict[str, Any]:
    return get_type_hints(kind, include_extras=True)


def _interface(kind: type) -> str:
    hints = _hints(kind)
    if is_dataclass(kind):
        names = _names(kind) or {f.name: f.name for f in fields(kind)}
        rows = [f"  {shown}: {_typescript(hints[name])};" for name, shown in names.items()]
    else:
        needed = kind.__required_keys__  # type: ignore[attr-defined]
        rows = [f"  {name}{'' if name in needed else '?'}: {_typescript(hint)};" for name, hint in hints.items()]
    return "\n".join([f"export interface {kind.__name__} {{", *rows, "}", ""])


def _typescript(hint: Any) -> str:
    origin, arguments = get_origin(hint), get_args(hint)
    if origin is Annotated:
        return _typescript(arguments[0])
    if origin in (Union, types.UnionType):
        return " | ".join(_typescript(a) for a in arguments)
    if origin is Literal:
        return " | ".join(f'"{a}"' for a in arguments)
    if origin is tuple and arguments[-1] is not Ellipsis:
        return f"[{', '.join(_typescript(a) for a in arguments)}]"
    if origin in (tuple, list):
        inner = _typescript(arguments[0])
        return f"({inner})[]" if " | " in inner else f"{inner}[]"
    if origin is dict:
        return f"Record<string, {_typescript(arguments[1])}>"
    return hint.__name__ if _is_declared(hint) else SCALARS[hint]
