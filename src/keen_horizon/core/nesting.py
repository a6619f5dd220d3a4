"""How deep a text is nested, told before anything that follows the nesting reads it.

Readers go down one call a level. Near the bottom of the stack any code may fail, what tidies up among it.
"""

from __future__ import annotations

import re

DEEPEST = 32  # of what is no edit; a treatment has 7 levels, OpenLensIO's description 6
JSON_STEPS = re.compile(r'"(?:[^"\\]++|\\.)*+"?|(?P<down>[\[{])|(?P<up>[\]}])', re.DOTALL)


def levels(text: str, steps: re.Pattern[str] = JSON_STEPS) -> int:
    """How many objects and arrays lie within each other at most; `steps` finds what goes `down` and `up`."""
    depth = deepest = 0
    for found in steps.finditer(text):
        if found.lastgroup is None:
            continue
        depth += 1 if found.lastgroup == "down" else -1
        deepest = max(deepest, depth)
    return deepest
