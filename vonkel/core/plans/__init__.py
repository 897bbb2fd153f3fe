"""Plans: starting layouts of joints for a body type, fitted to a mesh by its shape."""

from .built_in import PLANS, check_plan, landmarks_of, lay_plan, sketch_of
from .own import OwnPlan, lay_own_plan, save_plan

__all__ = ["PLANS", "OwnPlan", "check_plan", "landmarks_of", "lay_own_plan", "lay_plan", "save_plan", "sketch_of"]
