"""The Python door: open a character, do steps, read, deform, export.

    import vonkel

    c = vonkel.open("figure.obj")
    c = vonkel.run(c, "biped")
    points = vonkel.deform(c, {"hand_L": {"move y": -0.2}})
    vonkel.export(c, "figure.glb")

Steps, readings and refusals are the page's own.  A character is a value: every step gives a new one.  Metres, radians,
right-handed, Y up, facing +Z.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from .core.character import Character, Inputs
from .core.errors import BadFile, NotFound
from .core.formats import read_character
from .core.formats.beside import Beside
from .core.handover import written
from .core.joints.names import joint_names
from .core.rig import compile_rig
from .core.skin import Deformer
from .readings.registry import READINGS
from .steps import STEPS, apply_step, load_recipe, run_recipe
from .workshop.package import ENDING, opened

__all__ = ["Character", "apply", "deform", "export", "list_readings", "list_steps", "open", "pose", "read", "run"]


def open(path: str | Path, name: str = "") -> Character:
    """A character from a mesh, a rigged .glb that Vonkel wrote, or a whole character (.vonkel: its newest state).

    Raises BadFile or TooLarge with what, where and what to do.
    """
    file = Path(path)
    try:
        data = file.read_bytes()
    except OSError as error:
        raise BadFile("The file can't be read.", str(path), str(error.strerror or error)) from None
    if file.suffix.lower() == ENDING:
        return opened(data, file.name).last
    return read_character(file.name, data, name, Beside(file))


def list_steps() -> dict[str, str]:
    """Every step by name, and what it does."""
    return {name: kind.about for name, kind in sorted(STEPS.items())}


def apply(character: Character, step: str, **params: Any) -> Character:
    """The character after one step, such as `apply(c, "joints.move", joint="hand_L", place=(0.7, 1.4, 0.0))`.

    Arrays are numpy's.  Raises VonkelError: what, where, what to do.
    """
    return apply_step(character, step, params)[0]


def run(character: Character, recipe: str | Path) -> Character:
    """The character after all steps of a recipe: a built-in one's name, or a file."""
    return run_recipe(character, load_recipe(str(recipe)))[0]


def list_readings() -> dict[str, str]:
    """Every reading by name, and what it tells."""
    return {name: r.about for name, r in READINGS.items()}


def read(character: Character, reading: str) -> Any:
    """What a reading tells, as it would be written to JSON.  Raises NotFound."""
    if reading not in READINGS:
        raise NotFound(f"There is no reading “{reading}”.", character.name, f"There are: {', '.join(READINGS)}.")
    return READINGS[reading].read(character)


def pose(character: Character, values: Inputs | None = None) -> dict[str, np.ndarray]:
    """Where every joint is at these values: joint → (3, 4), its rigid world frame.  values: control → channel → value."""
    found = compile_rig(character).evaluate(values or {})
    return dict(zip((j.name for j in character.joints), found.joints, strict=True))


def deform(character: Character, values: Inputs | None = None, method: str = "") -> np.ndarray:
    """(n, 3) float64, metres: the points at these values, control → channel → value, `shapes` → shape → strength.

    method: “linear” or “dual”; the skin's own where it isn't given.
    """
    found = compile_rig(character).evaluate(values or {})
    deformer = Deformer(character)
    return np.array(deformer.deform(found, method) if method else deformer.deform(found), float)


def export(character: Character, path: str | Path, names: str = "") -> Path:
    """Write the character in the format of the path's ending.  names: “hanim”, or a pattern such as {side}_{part}{n}."""
    out = Path(path)
    data = written(character, out.suffix, joint_names(character, names))
    out.write_bytes(data)
    return out
