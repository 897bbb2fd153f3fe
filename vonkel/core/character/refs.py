"""References: how one thing of a character speaks of another, and the one walker that finds and rewrites them.

A reference is a word `kind:name` (or `ground`), and equal to it as plain text.  Fields that hold a bare name say what it
is the name of in their type (`JointName`, `ControlName` …).  Whatever is declared so is found, renamed, mirrored and
checked here, without a line of its own.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Self, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel, GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

Visit = Callable[[str, str, bool], str]
"""(kind, name, whether the thing itself is called so here rather than spoken of) → the name it has from now on."""
Walker = Callable[[Any, Visit], Any]
T = TypeVar("T")


class Ref(str):
    """A thing by its kind and name: `joint:hand_L`, `control:hand_L`, `shape:smile`, or `ground`."""

    __slots__ = ()

    @classmethod
    def of(cls, kind: str, name: str) -> Self:
        return cls(f"{kind}:{name}")

    @classmethod
    def joint(cls, name: str) -> Self:
        return cls("joint:" + name)

    @classmethod
    def control(cls, name: str) -> Self:
        return cls("control:" + name)

    @classmethod
    def shape(cls, name: str) -> Self:
        return cls("shape:" + name)

    @classmethod
    def board(cls, name: str) -> Self:
        return cls(BOARD + name)

    @property
    def kind(self) -> str:
        """`joint`, `control`, `shape` … or `ground`."""
        return self.partition(":")[0]

    @property
    def name(self) -> str:
        """The thing's own name; the ground is called so."""
        return self.partition(":")[2] or str(self)

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return _schema(None)


def _schema(pattern: str | None) -> CoreSchema:
    text = core_schema.str_schema(pattern=pattern, max_length=100)
    return core_schema.no_info_after_validator_function(
        Ref, text, serialization=core_schema.plain_serializer_function_ser_schema(str, return_schema=text)
    )


class To:
    """Said of a reference: what kinds of things it may name."""

    def __init__(self, *kinds: str) -> None:
        self.pattern = "^(" + "|".join(k if k == "ground" else f"{k}:.+" for k in kinds) + ")$"

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return _schema(self.pattern)


GROUND = Ref("ground")


class Names:
    """Said of a text field: it is the name of a thing of this kind.  `own`: the field names its own thing.

    Subclasses read what isn't a plain name.
    """

    def __init__(self, kind: str, own: bool = False) -> None:
        self.kind, self.own = kind, own

    def walk(self, value: Any, visit: Visit) -> Any:
        return visit(self.kind, value, self.own) if value else value


class _Posed(Names):
    """A pose: control → channel → value; shapes' strengths stand under `shapes`, a board's bead under `board:<name>`."""

    def __init__(self) -> None:
        super().__init__("control")

    def walk(self, value: Mapping[str, Mapping[str, Any]], visit: Visit) -> dict[str, dict[str, Any]]:
        def posed(control: str) -> str:
            if control.startswith(BOARD):
                return BOARD + visit("board", control.removeprefix(BOARD), False)
            return control if control == SHAPES else visit("control", control, False)

        return {
            posed(c): {visit("shape", k, False) if c == SHAPES else k: v for k, v in given.items()}
            for c, given in value.items()
        }


SHAPES = "shapes"
"""What stands for a control where a pose gives the strengths of morph targets."""
BOARD = "board:"
"""What begins the word that stands for a control where a pose says where the bead of a board is."""

JointName = Annotated[str, Names("joint")]
ControlName = Annotated[str, Names("control")]
ShapeName = Annotated[str, Names("shape")]
RegionName = Annotated[str, Names("region")]
KitName = Annotated[str, Names("kit")]
POSED = _Posed()
Inputs = Annotated[dict[str, dict[str, float]], POSED]
"""What the animator has set: control → channel → value (metres, radians or plain numbers)."""


def renaming(names: Mapping[Ref, Ref] | Mapping[str, str]) -> Visit:
    """The visit that gives things their new names."""

    def visit(kind: str, name: str, own: bool) -> str:
        now = names.get(Ref.of(kind, name))
        return now.partition(":")[2] if now else name

    return visit


def rewritten(value: T, names: Mapping[Ref, Ref] | Mapping[str, str]) -> T:
    """The model with every reference in it, and what its things are called themselves, under new names.

    What holds none of them comes back as the very same object.
    """

    walker = _walker_of(type(value))
    return walker(value, renaming(names)) if walker else value


def spoken_of(value: object) -> set[Ref]:
    """Every thing that a model speaks of; the ground is among them where it is named."""
    found: set[Ref] = set()

    def visit(kind: str, name: str, own: bool) -> str:
        if not own:
            found.add(Ref.of(kind, name) if kind != GROUND else GROUND)
        return name

    walker = _walker_of(type(value))
    if walker:
        walker(value, visit)
    return found


# -- the walker, put together once for each model from its fields' types ------------------------------------------
_walkers: dict[type, Walker | None] = {}


def _walker_of(model: type) -> Walker | None:
    if model not in _walkers:
        _walkers[model] = _of_model(model) if issubclass(model, BaseModel) else None
    return _walkers[model]


def _of_model(model: type[BaseModel]) -> Walker | None:
    walkers: dict[str, Walker] = {}
    for name, field in model.model_fields.items():
        walker = _walker(field.annotation, tuple(field.metadata))
        if walker:
            walkers[name] = walker
    if not walkers:
        return None

    def walk(value: BaseModel, visit: Visit) -> BaseModel:
        changed = {}
        for name, inner in walkers.items():
            was = getattr(value, name)
            now = inner(was, visit)
            if now is not was and now != was:
                changed[name] = now
        return value.model_copy(update=changed) if changed else value

    return walk


def _reference(value: str, visit: Visit) -> str:
    kind, _, name = value.partition(":")
    if not name:
        visit(kind, name, False)
        return value
    now = visit(kind, name, False)
    return value if now == name else Ref.of(kind, now)


def _walker(annotation: Any, metadata: tuple[Any, ...] = ()) -> Walker | None:
    names = next((m for m in metadata if isinstance(m, Names)), None)
    if names is not None:
        return names.walk
    if annotation is Ref:
        return lambda value, visit: _reference(value, visit) if value else value
    origin, arguments = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        return _walker(arguments[0], tuple(arguments[1:]))
    if origin in (Union, types.UnionType):
        return _one_of([a for a in arguments if a is not type(None)])
    if origin is tuple and len(arguments) == 2 and arguments[1] is Ellipsis:
        inner = _walker(arguments[0])
        return inner and (lambda value, visit: _each(inner, value, visit))
    if origin is dict:
        return _pairs(_walker(arguments[0]), _walker(arguments[1]))
    return _walker_of(annotation) if isinstance(annotation, type) else None


def _one_of(choices: list[Any]) -> Walker | None:
    """Of several models that of the value; of one type that may be absent its own."""
    if all(isinstance(c, type) and issubclass(c, BaseModel) for c in choices):
        if not any(_walker_of(c) for c in choices):
            return None

        def by_type(value: Any, visit: Visit) -> Any:
            walker = _walker_of(type(value))
            return walker(value, visit) if walker else value

        return by_type
    walkers = [w for w in map(_walker, choices) if w]
    if not walkers:
        return None
    only = walkers[0]
    return lambda value, visit: value if value is None else only(value, visit)


def _each(inner: Walker, value: tuple[Any, ...], visit: Visit) -> tuple[Any, ...]:
    now = tuple(inner(v, visit) for v in value)
    return value if all(a is b for a, b in zip(now, value, strict=True)) else now


def _pairs(key: Walker | None, inner: Walker | None) -> Walker | None:
    if key is None and inner is None:
        return None

    def walk(value: dict[Any, Any], visit: Visit) -> dict[Any, Any]:
        return {key(k, visit) if key else k: inner(v, visit) if inner else v for k, v in value.items()}

    return walk
