"""Reading damaged files: what may come of it, and what may not."""

from __future__ import annotations

import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from tests.fuzz.damage import damaged
from tests.fuzz.seeds import seeds
from vonkel.core.errors import Failure, VonkelError
from vonkel.core.formats import read_character
from vonkel.core.soundness import unsound
from vonkel.steps.recipe import parse_recipe
from vonkel.workshop import Workshop

LONGEST = 5.0  # seconds for one file


@dataclass
class Tally:
    read: int = 0
    refused: int = 0
    slowest: float = 0.0
    faults: list[str] = field(default_factory=list)


def fuzz(reader: str, count: int, seed: int = 1) -> Tally:
    """Read `count` damaged files.  Faults: exceptions outside the tree, unsound characters, what takes too long, what is
    left behind by a refusal."""
    tally = Tally()
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        files = seeds()[reader]
        for i in range(count):
            rng = np.random.default_rng([seed, i])
            name, data = files[i % len(files)]
            broken = damaged(data, rng)
            began = time.perf_counter()
            try:
                _read(reader, name, broken, shop)
                tally.read += 1
            except Failure as error:
                tally.faults.append(f"{reader} {i}: {error!r} from {error.__cause__!r}")
            except VonkelError as error:
                tally.refused += 1
                if not (error.what and error.where):
                    tally.faults.append(f"{reader} {i}: refused without words: {error!r}")
            except AssertionError as error:
                tally.faults.append(f"{reader} {i}: {error}")
            except BaseException as error:
                tally.faults.append(f"{reader} {i}: {error!r}")
            spent = time.perf_counter() - began
            tally.slowest = max(tally.slowest, spent)
            if spent > LONGEST:
                tally.faults.append(f"{reader} {i}: took {spent:.1f} s")
    return tally


def _read(reader: str, name: str, data: bytes, shop: Workshop) -> None:
    if reader == "recipe":
        parse_recipe(data, name)
    elif reader == "plan":
        plan = shop.take_plan(data, name)
        shop.store.delete_plan(plan)
    elif reader == "vonkel":
        before = [c.id for c in shop.store.characters()]
        try:
            number = shop.bring_in(name, data)
        except VonkelError:
            assert [c.id for c in shop.store.characters()] == before, "a refused file left something behind"
            raise
        assert not unsound(shop.character(number)), unsound(shop.character(number))
        shop.store.delete(number)
    else:
        made = read_character(name, data)
        assert not unsound(made), unsound(made)
        assert made.model_dump_json()
