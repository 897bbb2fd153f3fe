"""Steps: everything that changes a character.  Importing this package registers them all."""

from . import (
    boards,
    controls,
    face,
    handover,
    joints,
    keys,
    limbs,
    model,
    motion,
    poses,
    regions,
    rules,
    shapes,
    skin,
    surgery,
    trials,
)
from .recipe import BUILT_IN, Recipe, load_recipe, run_recipe
from .registry import STEPS, Params, StepKind, apply_step

__all__ = [
    "BUILT_IN",
    "STEPS",
    "Params",
    "Recipe",
    "StepKind",
    "apply_step",
    "boards",
    "controls",
    "face",
    "handover",
    "joints",
    "keys",
    "limbs",
    "load_recipe",
    "model",
    "motion",
    "poses",
    "regions",
    "rules",
    "run_recipe",
    "shapes",
    "skin",
    "surgery",
    "trials",
]
