"""Loops are compiled at set-up, so that nobody waits for them later."""

from __future__ import annotations

import subprocess
import sys

ASK = """
import gc
import importlib
import pkgutil
import vonkel.core
from numba.core.registry import CPUDispatcher
from vonkel.core.warm import warm

warm()
for module in pkgutil.walk_packages(vonkel.core.__path__, "vonkel.core."):
    importlib.import_module(module.name)
loops = [o for o in gc.get_objects() if isinstance(o, CPUDispatcher) and o.py_func.__module__.startswith("vonkel")]
warmed = [set(loop.signatures) for loop in loops]

from vonkel.core.formats import read_character
from vonkel.core.face.estimate import estimate_face
from vonkel.core.trials import run_trials
from vonkel.demo import DATA
from vonkel.steps import load_recipe, run_recipe

body, _ = run_recipe(read_character("bust.obj", (DATA / "bust.obj").read_bytes(), "Bust"), load_recipe("head"))
estimate_face(body)
run_trials(body)
for loop, before in zip(loops, warmed, strict=True):
    name = loop.py_func.__module__ + "." + loop.py_func.__name__
    if set(loop.signatures) - before:
        print(name, set(loop.signatures) - before)
print(len(loops), "loops")
"""


def test_a_first_head_finds_every_loop_compiled_for_what_it_is_called_with():
    said = subprocess.run([sys.executable, "-c", ASK], capture_output=True, text=True, timeout=600, check=True).stdout
    told = said.splitlines()
    assert told[:-1] == [] and int(told[-1].split()[0]) > 60
