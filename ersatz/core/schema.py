"""A document's dataclasses as JSON Schema (draft 2020-12) and in words: both follow from the types that serial.py reads by, so that
they can't say anything else."""

from __future__ import annotations

import inspect
import types
from dataclasses import MISSING, Field, fields, is_dataclass
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

from ersatz.core.serial import LARGEST_INT, Most, Within, to_json

DIALECT = "https://json-schema.org/draft/2020-12/schema"


def json_schema(cls: type, name: str) -> dict[str, Any]:
    """Of a document of dataclass `cls` whose "schema" field is `name`. Fields that aren't known are allowed, as serial.py allows
    them."""
    described = {kind.__name__: _object(kind) for kind in dataclasses_of(cls)}
    top = described.pop(cls.__name__)
    top["properties"] = {"schema": {"const": name}, **top["properties"]}
    top["required"] = ["schema", *top["required"]]
    return {"$schema": DIALECT, "title": name, **top, "$defs": described}


def dataclasses_of(cls: type) -> list[type]:
    """`cls` and every dataclass that it holds, in the order in which they are met."""
    found: list[type] = []

    def meet(hint: Any) -> None:
        if is_dataclass(hint) and isinstance(hint, type):
            if hint not in found:
                found.append(hint)
                for inner in _hints(hint).values():
                    meet(inner)
        else:
            for inner in get_args(hint):
                meet(inner)

    meet(cls)
    return found


def _hints(cls: type) -> dict[str, Any]:
    return get_type_hints(cls, include_extras=True)


def is_needed(field: Field[Any]) -> bool:
    """Whether a dataclass’s field has no default, so that documents must hold it."""
    return field.default is MISSING and field.default_factory is MISSING


def default_of(field: Field[Any]) -> Any:
    """JSON of what a field is where it is left out."""
    return to_json(field.default_factory() if field.default_factory is not MISSING else field.default)


def _object(cls: type) -> dict[str, Any]:
    hints = _hints(cls)
    rows = fields(cls)
    return {
        "type": "object",
        "description": inspect.cleandoc(cls.__doc__ or "").replace("\n", " "),
        "properties": {f.name: _schema(hints[f.name]) for f in rows},
        "required": [f.name for f in rows if is_needed(f)],
    }


def _schema(hint: Any) -> dict[str, Any]:
    origin, arguments = get_origin(hint), get_args(hint)
    if origin is Annotated:
        return _schema(arguments[0]) | {k: v for bound in arguments[1:] for k, v in _bound(arguments[0], bound).items()}
    if origin in (Union, types.UnionType):
        inner = next(a for a in arguments if a is not type(None))
        return {"anyOf": [_schema(inner), {"type": "null"}]}
    if origin is tuple:
        if arguments[-1] is Ellipsis:
            return {"type": "array", "items": _schema(arguments[0])}
        return {
            "type": "array",
            "prefixItems": [_schema(a) for a in arguments],
            "minItems": len(arguments),
            "maxItems": len(arguments),
        }
    if origin is dict:
        return {"type": "object", "additionalProperties": _schema(arguments[1])}
    if origin is Literal:
        return {"enum": list(arguments)}
    if is_dataclass(hint):
        return {"$ref": f"#/$defs/{_name(hint)}"}
    if hint is int:
        return {"type": "integer", "minimum": -LARGEST_INT, "maximum": LARGEST_INT}
    return {"type": {float: "number", bool: "boolean", str: "string"}[hint]}


def _bound(inner: Any, bound: Within | Most) -> dict[str, Any]:
    if isinstance(bound, Within):
        return {"minimum": bound.low, "maximum": bound.high}
    if get_origin(inner) is tuple:
        return {"maxItems": bound.length}
    return {"maxProperties" if get_origin(inner) is dict else "maxLength": bound.length}


def said(hint: Any) -> str:
    """A type in a few words: "number 0 to 1", "list of Effect"."""
    origin, arguments = get_origin(hint), get_args(hint)
    if origin is Annotated:
        bounds = [f" {b.low:g} to {b.high:g}" if isinstance(b, Within) else f", at most {b.length}" for b in arguments[1:]]
        return said(arguments[0]) + "".join(bounds)
    if origin in (Union, types.UnionType):
        return f"{said(next(a for a in arguments if a is not type(None)))}, or null"
    if origin is tuple:
        return f"list of {said(arguments[0])}" if arguments[-1] is Ellipsis else f"[{', '.join(said(a) for a in arguments)}]"
    if origin is dict:
        return f"object of {said(arguments[1])}"
    if origin is Literal:
        return " or ".join(f"“{a}”" for a in arguments)
    if is_dataclass(hint):
        return _name(hint)
    return {int: "whole number", float: "number", bool: "true or false", str: "text"}[hint]


def _name(cls: Any) -> str:
    return str(cls.__name__)
