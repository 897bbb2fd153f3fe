"""Killing the program in the middle of a recipe, an edit or a duplicate.  `python -m tests.store.kills 100` does it often."""

from __future__ import annotations

import os
import random
import signal
import sys
import tempfile
import time
from pathlib import Path

from tests.fuzz.seeds import rigged
from vonkel.core.character import Character
from vonkel.core.soundness import unsound
from vonkel.steps.recipe import Recipe, RecipeStep
from vonkel.workshop import Workshop

STEPS = 12


def recipe() -> Recipe:
    """A dozen steps, each with a mesh of its own to write."""
    return Recipe(name="twelve", steps=[RecipeStep(step="model.stand", params={"turn": 7.0 + i}) for i in range(STEPS)])


def _child(work, shop: Workshop, number: int, ready: int) -> None:  # type: ignore[no-untyped-def]
    """In a forked process: say that the work begins, do it, and end without any tidying up."""
    try:
        os.write(ready, b"x")
        work(shop, number)
    finally:
        os._exit(0)


def killed(work, shop: Workshop, number: int, after: float) -> bool:  # type: ignore[no-untyped-def]
    """Do `work` in a process of its own and kill it `after` seconds; whether it was killed before it was done."""
    read, write = os.pipe()
    child = os.fork()
    if not child:
        _child(work, shop, number, write)
    os.close(write)
    os.read(read, 1)
    os.close(read)
    time.sleep(after)
    os.kill(child, signal.SIGKILL)
    return os.WIFSIGNALED(os.waitpid(child, 0)[1])


def run_recipe(shop: Workshop, number: int) -> None:
    shop.run_recipe(number, recipe())


def edit_early(shop: Workshop, number: int) -> None:
    first = shop.store.ledger(number)[1].id
    shop.edit_step(number, first, {"name": f"Renamed {random.random()}"})


def duplicate(shop: Workshop, number: int) -> None:
    shop.duplicate(number)


def trouble(count: int, seed: int = 1) -> tuple[list[str], int]:
    """`count` kills of each kind of work.  What was found half done, and how many of the kills came in the middle."""
    found: list[str] = []
    early = 0
    rng = random.Random(seed)
    start: Character = rigged()
    for name, work in (("recipe", run_recipe), ("edit", edit_early), ("duplicate", duplicate)):
        with tempfile.TemporaryDirectory() as folder:
            shop = Workshop(Path(folder))
            number = shop.add(start, {}, "Made")
            shop.apply(number, "model.rename", {"name": "Tail"})
            for _ in range(4):
                shop.apply(number, "model.stand", {"turn": 5.0})
            began = time.perf_counter()
            work(shop, number)
            long = time.perf_counter() - began
            for _ in range(count):
                shelf, rows = len(shop.store.characters()), shop.store.ledger(number)
                here = shop.store.position(number).step  # what lies behind it was undone, and goes with the next step
                live = next(i for i, r in enumerate(rows, 1) if r.id == here)
                early += killed(work, Workshop(Path(folder)), number, rng.uniform(0, 1.1 * long))
                again = Workshop(Path(folder))
                now, after = len(again.store.characters()), again.store.ledger(number)
                said = f"{name}: {len(rows)} steps became {len(after)}, {shelf} characters became {now}"
                if name == "recipe" and len(after) not in (len(rows), live + STEPS):
                    found.append(said)
                if name == "edit" and (len(after) != len(rows) or _mixed(rows, after)):
                    found.append(said)
                if name == "duplicate" and (now - shelf not in (0, 1) or _names_twice(again)):
                    found.append(said)
                fault = unsound(again.character(number))
                if fault:
                    found.append(f"{name}: {fault}")
                for c in again.store.characters():
                    if c.id != number:
                        again.store.delete(c.id)
                if len(after) > 60:
                    again.store.go(number, None, after[5].id)
    return found, early


def _mixed(rows, after) -> bool:  # type: ignore[no-untyped-def]
    """Whether some of the line's steps are the old ones and some new: all behind the edited one go together."""
    old = {r.id for r in rows}
    kept = [r.id in old for r in after[1:]]
    return any(kept) and not all(kept)


def _names_twice(shop: Workshop) -> bool:
    names = [c.name for c in shop.store.characters()]
    return len(set(names)) < len(names)


if __name__ == "__main__":
    found, early = trouble(int(sys.argv[1]) if len(sys.argv) > 1 else 100)
    print(f"{early} killed in the middle, {len(found)} half done")
    print("\n".join(found[:20]))
    sys.exit(bool(found))
