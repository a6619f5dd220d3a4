"""Lens profiles: kept, changed, brought in, and given to clips."""

from __future__ import annotations

from dataclasses import asdict

from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.core.finding.fringe import FoundFringe
from keen_horizon.core.lens.calibration import Board, Calibration
from keen_horizon.core.lens.profile import Profile, profile_of, starters
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.found import with_colours
from keen_horizon.core.treatment.optics import FalloffSettings, FringeSettings, LensSettings
from keen_horizon.operations.clips import start_work
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.operations.material import clip_info
from keen_horizon.store.models import Clip, ClipState, StoredProfile, Work


def profiles(session: Session) -> list[StoredProfile]:
    """All of them, one's own first; the starters that are missing are put there."""
    known = set(session.scalars(select(StoredProfile.name)))
    for starter in starters():
        if starter.name not in known:
            session.add(StoredProfile(name=starter.name, document=starter.to_json(), shipped=True))
    session.flush()
    return list(session.scalars(select(StoredProfile).order_by(StoredProfile.shipped, StoredProfile.id)))


def save_profile(
    session: Session,
    clip: Clip,
    name: str,
    lens: LensSettings,
    *,
    focal: float | None,
    readout: float | None,
    falloff: FalloffSettings | None,
    fringe: FringeSettings | None,
) -> StoredProfile:
    """Keep a clip's lens under a name that is not taken, its focal length where one is set, half-diagonals, and its
    readout where one is known, of the clip's frames, how its light falls off, and how its colours lie apart.

    Raises NotPossible, ProfileError.
    """
    if not name.strip():
        raise NotPossible("Give the lens profile a name.")
    info = clip_info(clip)
    seconds = None if readout is None else round(readout / info.rate, 6)
    about = {"focal": focal, "readout_s": seconds, "falloff": falloff, "fringe": fringe}
    return _added(session, profile_of(name, info.display, lens, **about))


def import_profile(session: Session, profile: Profile) -> StoredProfile:
    """Keep a profile that came in a lens file; where its name is taken, a number is put behind it."""
    taken = {stored.name for stored in profiles(session)}
    free = (n for n in (profile.name, *(f"{profile.name[:75]} {i}" for i in range(2, 1000))) if n not in taken)
    return _added(session, profile.model_copy(update={"name": next(free)}))


def request_calibration(session: Session, clip: Clip, board: Board, name: str) -> Work:
    """Queue finding a lens by the board that a clip films; it becomes a profile. Raises NotPossible."""
    if not name.strip():
        raise NotPossible("Give the lens profile a name.")
    _check_free(session, name.strip())
    first, last = Treatment.from_json(clip.draft or {}).frames(clip_info(clip).frames)
    details = {"board": asdict(board), "name": name.strip()[:80]}
    return start_work(session, Work(kind="board", clip_id=clip.id, first=first, last=last, details=details))


def keep_calibration(
    session: Session, clip: Clip, name: str, found: Calibration, colours: FoundFringe
) -> StoredProfile:
    """A profile of what a board told; of its colours, where that brings them nearer. Raises NotPossible where the name
    was taken meanwhile.
    """
    note = f"from {len(found.used)} views of a board in {clip.name}, {len(found.rejected)} left out"
    size = clip_info(clip).display
    kept = colours.worth_undoing
    if kept:
        note += "; colours within {:.2f} (red) and {:.2f} px (blue)".format(
            *(size.half_diagonal * d for d in colours.doubts)
        )
    profile = profile_of(
        name, size, found.lens, note=note[:400], error_px=round(found.error_px, 4), focal=found.focal,
        fringe=with_colours(None, colours.to_json()) if kept else None,
    )  # fmt: skip
    return _added(session, profile)


def change_profile(session: Session, stored: StoredProfile, profile: Profile) -> None:
    """Put another document in a profile's place; the shipped ones stay as they are."""
    if stored.shipped:
        raise NotPossible(f"“{stored.name}” ships with the application. Save one of your own under another name.")
    if profile.name != stored.name:
        _check_free(session, profile.name)
    stored.name, stored.document = profile.name, profile.to_json()


def remove_profile(session: Session, stored: StoredProfile) -> None:
    """Forget a profile of one's own; clips that have its lens keep it."""
    if stored.shipped:
        raise NotPossible(f"“{stored.name}” ships with the application and stays.")
    session.delete(stored)


def apply_profile(session: Session, stored: StoredProfile, clip_ids: list[int]) -> list[Clip]:
    """Give the lens to clips, all or none; each keeps the rest of its treatment. Raises NotPossible, ProfileError."""
    profile, changed = Profile.from_json(stored.document), []
    for clip_id in clip_ids:
        clip = find(session, Clip, clip_id)
        if clip.state is not ClipState.READY:
            raise NotPossible(f"{clip.name} is not ready yet.")
        info = clip_info(clip)
        treatment = profile.applied(Treatment.from_json(clip.draft or {}), clip.name, info.display, info.rate)
        clip.draft = treatment.to_json()
        changed.append(clip)
    return changed


def _added(session: Session, profile: Profile) -> StoredProfile:
    _check_free(session, profile.name)
    stored = StoredProfile(name=profile.name, document=profile.to_json())
    session.add(stored)
    session.flush()
    return stored


def _check_free(session: Session, name: str) -> None:
    if any(stored.name.lower() == name.lower() for stored in profiles(session)):
        raise NotPossible(f"There is a lens profile “{name}” already. Choose another name.")
