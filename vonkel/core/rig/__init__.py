"""The rig: kits and controls in, a flat list of operations out, evaluated in a stated order."""

from .compile import compile_rig
from .program import Clock, PartialEvaluator, Pose, RigProgram

__all__ = ["Clock", "PartialEvaluator", "Pose", "RigProgram", "compile_rig"]
