"""What all values of a study are made of, and one walk through them by what their texts mean."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, Any, Literal, Self, get_args, get_origin

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat
from pydantic.fields import FieldInfo

Meaning = Literal["quantity", "path", "layer"]


@dataclass(frozen=True)
class Mark:
    """Says what a text means."""

    meaning: Meaning


Vector = tuple[FiniteFloat, FiniteFloat, FiniteFloat]
Colour = Annotated[str, Field(pattern=r"^#[0-9A-Fa-f]{6}$")]
Opacity = Annotated[float, Field(ge=0.05, le=1.0)]
Name = Annotated[str, Field(max_length=200)]
Identity = Annotated[str, Field(pattern=r"^[a-z0-9-]{1,40}$")]
QuantityName = Annotated[str, Field(max_length=200), Mark("quantity")]
LayerId = Annotated[str, Field(pattern=r"^[a-z0-9-]{0,40}$"), Mark("layer")]  # another card; none where it is empty
StudyPath = Annotated[str, Field(max_length=4096), Mark("path")]


class Value(BaseModel):
    """Something that is never changed: an edit makes a new one."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    def with_(self, **changes: Any) -> Self:
        """A checked copy with some fields changed."""
        return type(self).model_validate({**{n: getattr(self, n) for n in type(self).model_fields}, **changes})


def walk(value: Value, meaning: Meaning) -> Iterator[str]:
    """All texts of a meaning in a value and the values in it, in their order; those that name a setting by it too."""
    for name, marked in _places(type(value), meaning):
        yield from _texts(getattr(value, name), meaning, marked)


def retold(value: Value, meaning: Meaning, how: Callable[[str], str]) -> Any:
    """The value with each text of a meaning told anew; the same one where nothing changes."""
    changes = {}
    for name, marked in _places(type(value), meaning):
        old = getattr(value, name)
        new = _retold(old, meaning, how, marked)
        if new is not old:
            changes[name] = new
    return value.with_(**changes) if changes else value


@lru_cache(maxsize=1000)
def _places(kind: type[Value], meaning: Meaning) -> tuple[tuple[str, bool], ...]:
    """Fields of a class that may hold texts of a meaning, and whether their own texts, or the keys of their table, have it."""
    found = ((name, Mark(meaning) in _marks(info), info) for name, info in kind.model_fields.items())
    return tuple((name, marked) for name, marked, info in found if marked or _holds_values(info.annotation))


def _holds_values(annotation: Any) -> bool:
    if isinstance(annotation, type) and get_origin(annotation) is None:
        return issubclass(annotation, Value)
    return any(_holds_values(part) for part in get_args(annotation))


def _marks(info: FieldInfo) -> list[Any]:
    return [*info.metadata, *_marks_in(info.annotation)]


def _marks_in(annotation: Any) -> list[Any]:
    if get_origin(annotation) is Annotated:
        base, *more = get_args(annotation)
        return [*more, *_marks_in(base)]
    inner = get_args(annotation)
    return [m for part in (inner[:1] if get_origin(annotation) is dict else inner) for m in _marks_in(part)]


def _texts(part: Any, meaning: Meaning, marked: bool) -> Iterator[str]:
    if isinstance(part, Value):
        yield from walk(part, meaning)
    elif isinstance(part, str):
        if marked and part:
            yield part
    elif isinstance(part, tuple):
        for one in part:
            yield from _texts(one, meaning, marked)
    elif isinstance(part, dict):
        for key, one in part.items():
            if marked:
                yield key
            yield from _texts(one, meaning, False)


def _retold(part: Any, meaning: Meaning, how: Callable[[str], str], marked: bool) -> Any:
    if isinstance(part, Value):
        return retold(part, meaning, how)
    if isinstance(part, str):
        return how(part) if marked and part else part
    if isinstance(part, tuple):
        new = tuple(_retold(one, meaning, how, marked) for one in part)
        return part if all(a is b for a, b in zip(new, part, strict=True)) else new
    if isinstance(part, dict):
        table = {(how(key) if marked else key): _retold(one, meaning, how, False) for key, one in part.items()}
        return part if table == part and list(table) == list(part) else table
    return part
