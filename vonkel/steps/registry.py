"""The registry of steps: one door for the web, the command line, recipes, tests and undo."""

from __future__ import annotations

import base64
import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any, TypeVar

import numpy as np
from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, PlainSerializer, ValidationError, WithJsonSchema

from ..core.character import Character
from ..core.errors import BadParameters, Failure, NotFound, StepRefused, VonkelError, first_fault
from ..core.formats.reading import array_from_npy, npy
from ..core.soundness import unsound
from ..core.tolerances import FARTHEST
from ..core.upkeep import kept_up

log = logging.getLogger("vonkel.steps")

Coordinate = Annotated[float, Field(ge=-FARTHEST, le=FARTHEST)]
Place = tuple[Coordinate, Coordinate, Coordinate]  # metres, in the character's space


class Params(BaseModel):
    """A step's parameters.  Subclasses add fields; numbers must be finite."""

    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True, allow_inf_nan=False)


def _array(value: Any) -> np.ndarray:
    """From an array, or from {"npy": base64 of the .npy bytes} as recipes hold it."""
    if isinstance(value, Mapping) and set(value) == {"npy"} and isinstance(value["npy"], str):
        try:
            value = array_from_npy(base64.b64decode(value["npy"]))
        except ValueError:
            value = None
        if value is None:
            raise ValueError("not a readable array")
    if not isinstance(value, np.ndarray):
        raise ValueError("an array is wanted")
    if value.dtype.kind == "f" and not np.isfinite(value).all():
        raise ValueError("some of its numbers are not finite")
    return value


def _inline(array: np.ndarray) -> dict[str, str]:
    return {"npy": base64.b64encode(npy(array)).decode()}


Array = Annotated[
    np.ndarray,
    BeforeValidator(_array),
    PlainSerializer(_inline, when_used="json"),
    WithJsonSchema({"type": "object", "properties": {"npy": {"type": "string", "contentEncoding": "base64"}}}),
]


@dataclass(frozen=True)
class StepKind:
    """One kind of step: its name, parameters, what it does, and the sentence the ledger shows."""

    name: str
    about: str
    params: type[Params]
    run: Callable[[Character, Any], Character]
    sentence: Callable[[Character, Any], str]
    long: bool  # run as a job, off the request
    figures: Callable[[Character, Character], str] | None = None  # before and after, for the sentence's end
    renames: bool = False  # may give controls or shapes other names


STEPS: dict[str, StepKind] = {}


P = TypeVar("P", bound=Params)
Run = Callable[[Character, P], Character]


def step(
    name: str,
    params: type[P],
    sentence: Callable[[Character, P], str],
    long: bool = False,
    figures: Callable[[Character, Character], str] | None = None,
    renames: bool = False,
) -> Callable[[Run[P]], Run[P]]:
    """Register a pure function (character, params) → character as the step `name`."""

    def register(run: Run[P]) -> Run[P]:
        if name in STEPS:
            raise ValueError(f"two steps are called {name}")
        about = (run.__doc__ or "").strip().split("\n")[0]
        STEPS[name] = StepKind(name, about, params, run, sentence, long, figures, renames)
        return run

    return register


def parsed(name: str, params: Mapping[str, Any]) -> tuple[StepKind, Params]:
    """The kind of a step and its checked parameters.  Raises NotFound and BadParameters."""
    kind = STEPS.get(name)
    if kind is None:
        raise NotFound(f"There is no step “{name}”.", "", "`vonkel steps` lists them.")
    try:
        return kind, kind.params.model_validate(dict(params))
    except ValidationError as error:
        field, why = first_fault(error, "parameters")
        raise BadParameters(f"“{field}”: {why}.", name, "Set it and try again.") from None


def apply_step(character: Character, name: str, params: Mapping[str, Any]) -> tuple[Character, str]:
    """Do one step.  Returns the new character, which is sound, and the ledger's sentence.

    Raises VonkelError only: a step that can't be done says what, where and what to do.  A step that would leave the
    character unsound is refused; what was wrong with it before the step is not held against the step.
    """
    kind, checked = parsed(name, params)
    try:
        with np.errstate(all="ignore"):
            result = kept_up(kind.run(character, checked), character)
        fault = unsound(result, character)
        if fault and fault != unsound(character):
            log.warning("%s would leave a character unsound: %s", name, fault)
            raise StepRefused(
                f"That can't be done here: {fault}.", name, "Nothing was changed. Try it with other values."
            )
        said = kind.sentence(character, checked)
        return result, f"{said}: {kind.figures(character, result)}" if kind.figures else said
    except VonkelError:
        raise
    except ValidationError as error:
        field, why = first_fault(error)
        raise BadParameters(f"“{field}”: {why}.", name, "Set it and try again.") from None
    except MemoryError:
        raise StepRefused(
            "There is no room in memory for that.", name, "Nothing was changed. Lighten the mesh."
        ) from None
    except Exception as error:
        log.exception("the step %s failed", name)
        raise Failure("Something went wrong inside Vonkel.", name, "Nothing was changed. The log says more.") from error
