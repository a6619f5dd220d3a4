"""What a page asks of a clip under a treatment, read in one transaction."""

from __future__ import annotations

from keen_horizon.core.treatment.document import Treatment
from keen_horizon.operations import solving
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import of_frames
from keen_horizon.store.models import Clip
from keen_horizon.web.services import services


def asked_of(clip_id: int, treatment: Treatment, *, frames_only: bool = False) -> solving.Question:
    """The question for a clip; spheres are refused where it is about frames only. Raises NotThere, NotPossible."""
    with services().session() as session:
        clip = find(session, Clip, clip_id)
        if frames_only:
            of_frames(clip)
        return solving.asked(session, services().files, clip, treatment)
