"""Trials: poses made for the skeleton, and what the skin does in them."""

from ..poses import TrialPose, trial_poses
from .named import trial_pose
from .run import HANDED_OVER, Card, run_trials

__all__ = ["HANDED_OVER", "Card", "TrialPose", "run_trials", "trial_pose", "trial_poses"]
