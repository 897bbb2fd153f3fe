"""Plans: starting layouts of joints for a body type, fitted to a mesh by its shape, in any pose."""

from .acceptance import Fault, acceptance, boneless
from .anatomy.doubt import LOST, SURE, verdict
from .built_in import PLANS, Found, check_plan, find_landmarks, landmarks_of, lay_plan, sketch_of
from .own import OwnPlan, lay_own_plan, save_plan
from .propose import Proposals, propose

__all__ = [
    "LOST", "PLANS", "SURE", "Fault", "Found", "OwnPlan", "Proposals", "acceptance", "boneless", "check_plan", "find_landmarks",
    "landmarks_of", "lay_own_plan", "lay_plan", "propose", "save_plan", "sketch_of", "verdict",
]  # fmt: skip
