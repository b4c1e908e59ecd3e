"""Tables of columns: frozen dataclasses whose columns are declared with `column`, and what is the same for
all of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import Field, field, fields, replace
from typing import Any, TypeVar, cast

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")
Chosen = NDArray[np.int64] | NDArray[np.int32] | NDArray[np.bool_] | slice


def column(dtype: str, width: int = 1, shared: bool = False, **options: Any) -> Any:
    """A column of numbers (n,), or (n, `width`), kept as `dtype`. One row of a `shared` column may stand for
    all rows."""
    return field(metadata={"dtype": dtype, "width": width, "shared": shared}, **options)


def table(**options: Any) -> Any:
    """A field that holds a table of the same length."""
    return field(metadata={"table": True}, **options)


def columns_of(kind: type) -> list[Field[Any]]:
    """The declared columns of a table, in their order."""
    return [f for f in fields(kind) if "dtype" in f.metadata]


def rows(whole: T, chosen: Chosen) -> T:
    """The chosen rows of every column; what is no column stays as it is."""
    if isinstance(chosen, np.ndarray) and chosen.dtype == np.bool_:
        chosen = np.flatnonzero(chosen)
    picked: dict[str, Any] = {}
    for f in _fields(whole):
        value = getattr(whole, f.name)
        if "table" in f.metadata:
            picked[f.name] = rows(value, chosen)
        elif "dtype" in f.metadata and value is not None and not _for_all(f, value):
            picked[f.name] = value[chosen]
    return _with(whole, picked)


def concat(parts: Sequence[T]) -> T:
    """Tables one after the other; what is no column is that of the first."""
    picked: dict[str, Any] = {}
    for f in _fields(parts[0]):
        values = [getattr(p, f.name) for p in parts]
        if "table" in f.metadata:
            picked[f.name] = concat(values)
        elif "dtype" in f.metadata and values[0] is not None:
            if all(_for_all(f, v) and np.array_equal(v, values[0]) for v in values):
                continue
            sized = zip(values, [len(cast(Any, p)) for p in parts], strict=True)
            picked[f.name] = np.concatenate(
                [np.repeat(v, n, axis=0) if _for_all(f, v) else v for v, n in sized]
            )
    return _with(parts[0], picked)


def to_arrays(whole: Any) -> dict[str, NDArray[Any]]:
    """The columns by name in their declared types, those of a table inside too."""
    out: dict[str, NDArray[Any]] = {}
    for f in _fields(whole):
        value = getattr(whole, f.name)
        if "table" in f.metadata:
            out |= to_arrays(value)
        elif "dtype" in f.metadata and value is not None:
            out[f.name] = np.ascontiguousarray(value, dtype=f.metadata["dtype"])
    return out


def from_arrays(kind: type[T], arrays: dict[str, NDArray[Any]], **others: Any) -> T:
    """The inverse of `to_arrays`; `others` are the fields that are no columns, tables among them."""
    columns: dict[str, Any] = {f.name: arrays[f.name] for f in columns_of(kind) if f.name in arrays}
    return kind(**columns, **others)


def in_parts(counts: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows that are cut into so many parts (n,): the row (m,) of each part, and its number in it, from 0."""
    owner = np.repeat(np.arange(len(counts)), counts)
    return owner, np.arange(len(owner)) - np.repeat(np.cumsum(counts) - counts, counts)


def _for_all(declared: Field[Any], value: NDArray[Any]) -> bool:
    """Whether one row stands for all."""
    return bool(declared.metadata["shared"]) and len(value) == 1


def _fields(whole: Any) -> tuple[Field[Any], ...]:
    return fields(whole)


def _with(whole: T, values: dict[str, Any]) -> T:
    changed: Any = replace(whole, **values)  # type: ignore[type-var]
    return cast(T, changed)
