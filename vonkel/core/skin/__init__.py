"""How the mesh follows the joints: binding, weights and deforming."""

from .deform import Deformer

__all__ = ["Deformer"]
