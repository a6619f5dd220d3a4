"""What the process does with memory that it is done with."""

from __future__ import annotations

import subprocess
import sys

FAULTS = """
import resource
import numpy as np
from keen_horizon.memory import keep_freed_memory

KEPT = {kept}
if KEPT:
    keep_freed_memory()
def tables():
    return [np.ones(250_000) for _ in range(8)]
tables()
before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
for _ in range(20):
    tables()
print(resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before)
"""


def test_tables_that_are_made_again_cost_no_pages() -> None:
    kept, usual = (
        int(subprocess.run([sys.executable, "-c", FAULTS.format(kept=kept)], capture_output=True, check=True).stdout)
        for kept in (True, False)
    )
    assert kept < 200
    assert usual > 5 * max(kept, 1)
