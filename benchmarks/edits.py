"""What edits cost on a large character: about 50 k points and 300 joints.  .venv/bin/python benchmarks/edits.py

Each step is timed alone and as the pages do it: done, stored with its snapshot, and its findings read.
"""

import tempfile
import time
from pathlib import Path

import numpy as np
from common import subdivided

from vonkel.core.formats import read_character
from vonkel.core.plans import lay_plan
from vonkel.core.skin.bind import bind_skin
from vonkel.demo import DATA
from vonkel.readings import findings
from vonkel.steps import apply_step
from vonkel.workshop import Workshop


def large():
    """Vesper with every face cut in four, laid, with more chains hung on her until there are 300 joints; bound."""
    c = subdivided(read_character("bat.obj", (DATA / "bat.obj").read_bytes(), "Vesper"))
    c = lay_plan(c, "winged", {"links": 6, "hung": 8, "spine": 8})
    i = 0
    while len(c.joints) < 300:
        root = [j for j in c.joints if j.side == "L" and j.role.startswith(("wing", "membrane"))][i % 20]
        places = np.array(root.place) + np.outer(np.arange(1, 5), [0.004, -0.006, 0.001])
        c, _ = apply_step(
            c, "joints.draw", {"places": places.tolist(), "parent": root.name, "name": f"fringe{i}", "end": False}
        )
        i += 1
    return bind_skin(c)


def main():
    c = large()
    topo_edge = [int(v) for v in c.arrays["face_corners"][:2]]
    p = c.joint("forearm_L").place
    steps = {
        "joints.move": {"joint": "forearm_L", "place": [p[0], p[1] + 0.004, p[2]]},
        "joints.rename": {"joint": "forearm_L", "name": "lower_arm_L"},
        "joints.draw": {"places": [[0.3, 0.3, -0.03], [0.3, 0.25, -0.03]], "parent": "forearm_L", "name": "tassel"},
        "joints.insert": {"joint": "wing_1_2_L", "count": 2},
        "joints.mirror": {"joint": "collar_L"},
        "joints.orient": {"joints": ["collar_L"], "rule": "bend", "down_chain": True},
        "joints.reparent": {"joint": "ear_L", "parent": "neck"},
        "joints.free_by_table": {"table": "people"},
        "joints.replace_names": {"find": "fringe", "put": "tuft"},
        "model.part": {"part": "body", "shading": "hard"},
        "model.slide_loop": {"edge": topo_edge, "at": 0.4},
        "model.resize": {"measure": "height", "metres": 0.9},
        "model.weld": {"millimetres": 2.0},
        "model.symmetrise": {"millimetres": 1.0},
    }
    print(
        f"{len(c.points):,} points, {len(c.joints)} joints\n\n| step | alone, ms | stored, ms | its findings, ms |\n|---|---|---|---|"
    )
    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        for name, params in steps.items():
            number = shop.add(c, {}, "Brought in")
            alone, stored, read = [], [], []
            for _ in range(3):
                try:
                    start = time.perf_counter()
                    made, _ = apply_step(c, name, params)
                    alone.append(time.perf_counter() - start)
                    start = time.perf_counter()
                    position = shop.apply(number, name, params)
                    stored.append(time.perf_counter() - start)
                    start = time.perf_counter()
                    findings(made.with_(about=str(start)))
                    read.append(time.perf_counter() - start)
                    shop.store.back(number, position)
                except Exception as refused:
                    print(f"| {name} | refused: {refused} | | |")
                    break
            else:
                print(f"| {name} | {1000 * min(alone):.0f} | {1000 * min(stored):.0f} | {1000 * min(read):.0f} |")


if __name__ == "__main__":
    main()
