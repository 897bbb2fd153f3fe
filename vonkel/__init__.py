"""Vonkel: a workbench for character riggers."""

import os

# One thread per linear-algebra call: with the compiled loops beside them, more threads fight over few cores.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.3.0"
