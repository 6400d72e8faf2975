"""Frozen dataclasses to JSON and back, by their type hints; and the one reader of JSON that comes from outside.

Handles nested dataclasses, tuples, dicts with string keys, optional values and plain scalars; unknown keys are ignored, so that a
document with more fields beside ours still reads. Bounds stand in the types: `Annotated[int, Within(1, 16)]` for a number,
`Annotated[str, Most(200)]` for the length of a text, a tuple or a dict.
"""

from __future__ import annotations

import json
import math
import types
from collections.abc import Callable
from dataclasses import MISSING, dataclass, fields, is_dataclass
from functools import cache
from typing import Annotated, Any, Literal, TypeVar, Union, cast, get_args, get_origin, get_type_hints

from ersatz.core.errors import UnusableDocument

T = TypeVar("T")

#: Whole numbers that JSON keeps exactly everywhere (RFC 8259, section 6), and the largest magnitude of any other.
LARGEST_INT, LARGEST = 1 << 53, 1e16
MOST_BYTES = 64 * 1024 * 1024
#: Digits of a number.
MOST_DIGITS = 400


@dataclass(frozen=True)
class Within:
    """Bounds of a number, both included."""

    low: float
    high: float


@dataclass(frozen=True)
class Most:
    """Longest text, tuple or dict."""

    length: int


def read_json(text: str | bytes) -> Any:
    """JSON from outside. Raises UnusableDocument, with one sentence, for what isn't JSON or holds what no document may: NaN and
    infinity, whole numbers beyond 2^53, endless digits, nesting without end."""
    if len(text) > MOST_BYTES:
        raise UnusableDocument(f"The document is larger than {MOST_BYTES >> 20} MB.")
    try:
        value = json.loads(text, parse_constant=_constant, parse_float=_float, parse_int=_int)
        _check_texts(value, text)
        return value
    except RecursionError as error:
        raise UnusableDocument("The document is nested too deeply.") from error
    except ValueError as error:
        raise UnusableDocument("This is not a JSON document.") from error


def _check_texts(value: Any, text: str | bytes) -> None:
    """Raises UnusableDocument for half characters and for the one that ends texts, which no database takes."""
    escaped = b"\\u" in text if isinstance(text, bytes) else "\\u" in text
    if escaped:
        written = json.dumps(value, ensure_ascii=False)
        if "\\u0000" in written or any("\ud800" <= c <= "\udfff" for c in written):
            raise UnusableDocument("The document holds characters that can’t be kept.")


def _constant(name: str) -> Any:
    raise UnusableDocument(f"The document holds “{name}”, which is no number.")


def _float(text: str) -> float:
    value = float(text) if len(text) <= MOST_DIGITS else math.inf
    if not math.isfinite(value):
        raise UnusableDocument("The document holds a number that is too large.")
    return value


def _int(text: str) -> int:
    # Before it is turned into a number, which takes the square of its length.
    value = int(text) if len(text) <= 18 else LARGEST_INT + 1
    if abs(value) > LARGEST_INT:
        raise UnusableDocument("The document holds a number that is too large.")
    return value


def to_json(value: Any) -> Any:
    """JSON-ready copy: dataclasses as objects, tuples as arrays, non-finite numbers as null."""
    kind = type(value)
    if kind is float:
        return value if math.isfinite(value) else None
    if kind in (str, int, bool) or value is None:
        return value
    if isinstance(value, (tuple, list)):
        return [to_json(item) for item in value]
    if isinstance(value, dict):
        return {key: to_json(item) for key, item in value.items()}
    plan = _plan(kind)  # type: ignore[arg-type]
    if plan is not None:
        names, floats, others = plan
        row = {name: getattr(value, name) for name in names}
        for name in floats:
            if not math.isfinite(row[name]):
                row[name] = None
        for name in others:
            row[name] = to_json(row[name])
        return row
    return None if isinstance(value, float) and not math.isfinite(value) else value


@cache
def _plan(kind: type) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]] | None:
    """Of a dataclass all fields, those that are numbers and those that are more than plain values; None for another type."""
    if not is_dataclass(kind):
        return None
    hints = get_type_hints(kind)
    names = tuple(f.name for f in fields(kind))
    floats = tuple(name for name in names if hints[name] is float)
    plain = {name for name in names if hints[name] in (int, str, bool) or get_origin(hints[name]) is Literal}
    return names, floats, tuple(name for name in names if name not in plain and name not in floats)


class _Wrong(Exception):
    """What is wrong with a value; the place is put together on the way out."""

    def __init__(self, what: str):
        super().__init__(what)
        self.what, self.place = what, ""

    def at(self, step: str) -> _Wrong:
        self.place = step + ("." if self.place and not self.place.startswith("[") else "") + self.place
        return self


#: (JSON value) -> value of the type; raises _Wrong.
Convert = Callable[[Any], Any]


def from_json(cls: type[T], data: Any) -> T:
    """An instance of dataclass `cls`. Raises UnusableDocument, naming the place, if a field is missing or wrong."""
    try:
        return cast(T, _converter(cls)(data))  # type: ignore[arg-type]
    except _Wrong as wrong:
        raise UnusableDocument(f"The document is damaged: “{wrong.place or cls.__name__}” {wrong.what}.") from None


@cache
def _converter(hint: Any) -> Convert:
    if hint is Any:
        return lambda value: value
    origin = get_origin(hint)
    if origin is Annotated:
        return _bounded(hint)
    if origin in (Union, types.UnionType):
        others = [_converter(a) for a in get_args(hint) if a not in (type(None), str)]
        text = _converter(str) if str in get_args(hint) else None
        inner = others[0] if others else cast(Convert, text)
        return lambda value: None if value is None else text(value) if text and isinstance(value, str) else inner(value)
    if origin is tuple:
        return _tuple(get_args(hint))
    if origin is dict:
        return _dict(get_args(hint)[1])
    if origin is Literal:
        return _literal(get_args(hint))
    if is_dataclass(hint):
        return _dataclass(hint)  # type: ignore[arg-type]
    return _number(hint) if hint in (int, float) else _scalar(hint)


def _bounded(hint: Any) -> Convert:
    inner, *bounds = get_args(hint)
    convert = _converter(inner)
    if inner in (int, float) and len(bounds) == 1 and isinstance(bounds[0], Within):
        return _bounded_number(inner, bounds[0], convert)

    def bounded(value: Any) -> Any:
        made = convert(value)
        for bound in bounds:
            if isinstance(bound, Within) and not bound.low <= made <= bound.high:
                raise _Wrong(_outside(bound))
            if isinstance(bound, Most) and len(made) > bound.length:
                raise _Wrong(f"should have at most {bound.length} entries or characters")
        return made

    return bounded


def _bounded_number(kind: Any, bound: Within, convert: Convert) -> Convert:
    """What most of a document is: asked as little as possible of what is right."""
    low, high = max(bound.low, -LARGEST), min(bound.high, LARGEST)

    def bounded(value: Any) -> Any:
        if type(value) is kind and low <= value <= high:
            return value
        made = convert(value)
        if not bound.low <= made <= bound.high:
            raise _Wrong(_outside(bound))
        return made

    return bounded


def _outside(bound: Within) -> str:
    return f"should lie between {bound.low:g} and {bound.high:g}"


def _tuple(items: tuple[Any, ...]) -> Convert:
    converters = [_converter(item) for item in items if item is not Ellipsis]

    def convert(value: Any) -> Any:
        if not isinstance(value, (list, tuple)):
            raise _Wrong("should be a list")
        if not value and items[-1] is Ellipsis:
            return ()
        if items[-1] is not Ellipsis and len(items) != len(value):
            raise _Wrong(f"should have {len(items)} entries")
        row = converters * len(value) if items[-1] is Ellipsis else converters
        out = []
        for i, (one, v) in enumerate(zip(row, value)):
            try:
                out.append(one(v))
            except _Wrong as wrong:
                raise wrong.at(f"[{i}]") from None
        return tuple(out)

    return convert


def _dict(item: Any) -> Convert:
    inner = _converter(item)

    def convert(value: Any) -> Any:
        if not isinstance(value, dict):
            raise _Wrong("should be an object")
        out = {}
        for key, v in value.items():
            try:
                out[key] = inner(v)
            except _Wrong as wrong:
                raise wrong.at(str(key)[:40]) from None
        return out

    return convert


def _literal(options: tuple[Any, ...]) -> Convert:
    def convert(value: Any) -> Any:
        if not isinstance(value, (str, int)) or value not in options:
            raise _Wrong(f"can't be “{str(value)[:40]}”")
        return value

    return convert


def _dataclass(cls: type) -> Convert:
    hints = get_type_hints(cls, include_extras=True)
    rows = [(f.name, _converter(hints[f.name]), f.default is MISSING and f.default_factory is MISSING) for f in fields(cls)]

    def convert(value: Any) -> Any:
        if not isinstance(value, dict):
            raise _Wrong("should be an object")
        arguments, name = {}, ""
        try:
            for name, inner, needed in rows:
                if name in value:
                    arguments[name] = inner(value[name])
                elif needed:
                    raise _Wrong("is missing")
        except _Wrong as wrong:
            raise wrong.at(name) from None
        try:
            return cls(**arguments)
        except (ValueError, TypeError) as error:
            raise _Wrong(f"can't be used: {error}") from error

    return convert


def _number(kind: type) -> Convert:
    def convert(value: Any) -> Any:
        # NaN is within no bounds.
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not -LARGEST <= value <= LARGEST:
            raise _Wrong(f"should be {kind.__name__}")
        if kind is int and value != int(value):
            raise _Wrong("should be a whole number")
        return kind(value)

    return convert


def _scalar(kind: Any) -> Convert:
    def convert(value: Any) -> Any:
        if isinstance(kind, type) and not isinstance(value, kind):
            raise _Wrong(f"should be {kind.__name__}")
        return value

    return convert
