"""What a measuring run gathers besides points: how well frames could be matched, and the frames matched to."""

from __future__ import annotations

from dataclasses import dataclass

from keen_horizon.core.motion.living import Lived, Lookout


@dataclass
class Key:
    """A frame that later ones are matched to, and its points."""

    number: int
    picture: Lookout
    points: Lived


@dataclass
class PairQuality:
    """How frames n and n + 1 could be matched at once."""

    tracked: int
    cut: bool
    blind: bool
    repeated: bool
