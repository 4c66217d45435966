"""The objects of the wire and what decides: an enumeration is written once."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterator
from enum import StrEnum
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel

import nestrel.core
from nestrel.core.objects import WireObject
from nestrel.service import models, order_models, retention_models, webhook_models
from nestrel.service.fields import Request

_REQUESTS = (models, order_models, retention_models, webhook_models)

_FEW = 2
"""One value alone is a mark and no enumeration."""


def modules() -> Iterator[Any]:
    for found in pkgutil.iter_modules(nestrel.core.__path__):
        yield importlib.import_module(f"nestrel.core.{found.name}")


def test_all_requests_are_looked_at() -> None:
    assert len(list(below(Request))) > 30


def below(model: type[BaseModel]) -> Iterator[type[BaseModel]]:
    for one in model.__subclasses__():
        yield one
        yield from below(one)


def literals(annotation: Any) -> Iterator[frozenset[str]]:
    if get_origin(annotation) is Literal:
        yield frozenset(get_args(annotation))
    for part in get_args(annotation):
        if not isinstance(part, str):
            yield from literals(part)


def test_no_enumeration_of_the_core_is_written_again_beside_it() -> None:
    enums: list[type[StrEnum]] = [one for module in modules() for one in vars(module).values()
             if isinstance(one, type) and issubclass(one, StrEnum) and one is not StrEnum]  # fmt: skip
    known = {frozenset(one): one for one in enums}
    assert len(known) > 8
    seen = 0
    for model in {*below(WireObject), *below(Request)}:
        for name, field in model.model_fields.items():
            for values in literals(field.annotation):
                seen += 1
                near = [whole for whole in known if len(values & whole) >= _FEW]
                if issubclass(model, WireObject):
                    assert not near, f"{model.__name__}.{name}: name the enumeration itself"
                assert near in ([], [values]), f"{model.__name__}.{name} has {values}, and not all of {near}"
    assert seen > 5
