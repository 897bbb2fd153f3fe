"""Shapes (morph targets): kept, sculpted, split, mirrored, blended; only the points that move are kept."""

from .bringing import add_shape, moved_whole
from .moves import moves_of, shape_named, with_moves, with_shape, without_shape

__all__ = ["add_shape", "moved_whole", "moves_of", "shape_named", "with_moves", "with_shape", "without_shape"]
