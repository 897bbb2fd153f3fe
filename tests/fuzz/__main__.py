"""`python -m tests.fuzz COUNT [READER …]`: so many damaged files for each reader, with what came of them."""

import resource
import sys

from tests.fuzz.run import fuzz
from tests.fuzz.seeds import seeds

count = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
bad = 0
for reader in sys.argv[2:] or seeds():
    found = fuzz(reader, count)
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{reader}: {found.read} read, {found.refused} refused, slowest {found.slowest:.2f} s, {most:.0f} MB at most",
        flush=True,
    )
    for line in found.faults[:10]:
        print("  ", line, flush=True)
    bad += len(found.faults)
print(f"{bad} faults")
sys.exit(bool(bad))
