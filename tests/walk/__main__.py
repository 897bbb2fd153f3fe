"""`python -m tests.walk COUNT [MEMBER.obj]`: so many random steps, on small meshes or on a finished member of the cast."""

import sys
import tempfile
from pathlib import Path

from tests.walk.starts import small
from tests.walk.walk import walk

count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
if len(sys.argv) > 2:
    from vonkel.demo import DATA, READY
    from vonkel.workshop import Workshop

    with tempfile.TemporaryDirectory() as folder:
        shop = Workshop(Path(folder))
        starts = [shop.character(shop.bring_in(READY, (DATA / READY).read_bytes()))]
else:
    starts = small()
found = walk(starts, count, seed=3)
print(
    f"{sum(found.done.values())} done of {len(found.done)} kinds, {sum(found.refused.values())} refused, slowest {found.slowest}"
)
print("never done:", sorted(set(found.refused) - set(found.done)))
for line in found.faults[:40]:
    print(line)
print(f"{len(found.faults)} faults")
sys.exit(bool(found.faults))
