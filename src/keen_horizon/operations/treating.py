"""Treating a clip: measuring it, keeping versions, rendering."""

from __future__ import annotations

from pathlib import PurePath
from typing import Any

from sqlalchemy.orm import Session

from keen_horizon.core.lens.over_time import enlargement
from keen_horizon.core.media.formats import expected_bytes
from keen_horizon.core.path.camera_path import CameraPath
from keen_horizon.core.path.ledger import ledger
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.jobs.queue import reprioritise
from keen_horizon.operations.clips import acting, next_letter, start_work
from keen_horizon.operations.errors import NotPossible, NotThere
from keen_horizon.operations.findings import (
    FINER_MOTION,
    LENS,
    MOTION,
    OF_PLAIN,
    Sought,
    ask_for,
    covering,
    the_flat,
    the_pin,
)
from keen_horizon.operations.material import clip_info, of_frames
from keen_horizon.operations.solving import clip_path
from keen_horizon.pipeline.like_source import like_source
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Clip, Render, Version, Work

OFFERED = -1_000_000  # the priority of what nobody waits for: after renders
ASKED_FROM_S = 180.0  # a clip's length: measuring longer ones takes minutes, so an editor says when


def request_measurement(session: Session, clip: Clip, treatment: Treatment, *, anew: bool = False) -> Work | None:
    """Queue measuring of the treatment's range; None when it is measured already, unless `anew` is wanted."""
    return ask_for(session, clip, MOTION, *treatment.frames(clip_info(clip).frames), anew=anew)


def request_finer(session: Session, clip: Clip, treatment: Treatment) -> Work:
    """Queue measuring of the treatment's range with more points in larger pictures, unless that is going on.

    Raises NotPossible for spheres.
    """
    of_frames(clip)
    work = ask_for(session, clip, FINER_MOTION, *treatment.frames(clip_info(clip).frames), anew=True)
    assert work is not None
    return work


def measure_arrived(session: Session, clip: Clip) -> Work | None:
    """Queue measuring of a clip that has just arrived, where its project wants that and it is not long."""
    if not clip.project.measures_itself or clip_info(clip).duration > ASKED_FROM_S:
        return None
    return request_measurement(session, clip, Treatment.from_json(clip.draft or {}))


def request_pins(session: Session, clip: Clip, treatment: Treatment) -> list[Work]:
    """Queue following of the treatment's pinned points, those that were not followed yet."""
    first, last = treatment.frames(clip_info(clip).frames)
    asked = (ask_for(session, clip, the_pin(pin), first, last) for pin in treatment.motion.pin.points)
    return [work for work in asked if work is not None]


def request_flat(session: Session, clip: Clip, treatment: Treatment) -> Work | None:
    """Queue following of the treatment's flat thing; None when it was followed already.

    Raises NotPossible when no corners are set.
    """
    of_frames(clip)
    if treatment.optics.flat is None:
        raise NotPossible(f"{clip.name}: set four corners of a flat thing first.")
    return ask_for(session, clip, the_flat(treatment.optics), *treatment.frames(clip_info(clip).frames))


def request_lens(session: Session, clip: Clip, treatment: Treatment) -> Work:
    """Queue looking for the clip's lens in the treatment's range, unless that is going on."""
    of_frames(clip)
    going_on = (work for work in clip.works if work.kind == LENS.kind and work.state.open)
    frames = treatment.frames(clip_info(clip).frames)
    work = next(going_on, None) or ask_for(session, clip, LENS, *frames, anew=True)
    assert work is not None
    return work


def offer_lens(session: Session, clip: Clip, first: int, last: int) -> Work | None:
    """Queue looking for the lens of a clip that was just measured, after all that editors wait for, so that it can be
    offered; not where one is set or was looked for, or where the project leaves that to its editors.
    """
    treated = Treatment.from_json(clip.draft or {}).optics.lens is not None
    going_on = any(work.kind == LENS.kind and work.state.open for work in clip.works)
    if not clip.project.measures_itself or treated or going_on or covering(session, clip, LENS, first, last):
        return None
    wanted = Work(kind=LENS.kind, clip_id=clip.id, first=first, last=last, details={"offered": True})
    work = start_work(session, wanted)
    reprioritise(session, work, OFFERED)
    return work


def request_glass(session: Session, clip: Clip, treatment: Treatment, sought: Sought) -> Work:
    """Queue measuring the clip's fall-off or fringes in the treatment's range, unless that is going on.

    Raises NotPossible where its motion was not measured, which a plain wall does without.
    """
    of_frames(clip)
    frames = treatment.frames(clip_info(clip).frames)
    if sought != OF_PLAIN and covering(session, clip, MOTION, *frames) is None:
        raise NotPossible(f"{clip.name}: measure the motion first; it tells which places were seen where.")
    going_on = (work for work in clip.works if work.kind == sought.kind and work.state.open)
    work = next(going_on, None) or ask_for(session, clip, sought, *frames, anew=True)
    assert work is not None
    return work


def save_draft(session: Session, clip: Clip, treatment: Treatment) -> None:
    """Keep the treatment the editor is working on."""
    treatment.frames(clip_info(clip).frames)
    clip.draft = treatment.to_json()


def save_version(session: Session, files: FileStore, clip: Clip, treatment: Treatment) -> Version:
    """Keep a treatment under the next letter."""
    first, last = treatment.frames(clip_info(clip).frames)
    zoom = None
    if covering(session, clip, MOTION, first, last) is not None:
        path = clip_path(session, files, clip, treatment)
        zoom = ledger(path).zoom if isinstance(path, CameraPath) else None
    version = Version(clip_id=clip.id, letter=next_letter(clip.versions), treatment=treatment.to_json(), zoom=zoom)
    version.person = acting(session)
    clip.versions.append(version)
    session.flush()
    return version


def find_version(clip: Clip, letter: str) -> Version:
    """A version by letter. Raises NotThere."""
    for version in clip.versions:
        if version.letter == letter:
            return version
    raise NotThere(f"{clip.name} has no version {letter}.")


def chosen_treatment(clip: Clip, which: str) -> Treatment:
    """What is kept for a clip: its "draft", or a version by letter. Raises NotThere."""
    return Treatment.from_json((clip.draft if which == "draft" else find_version(clip, which).treatment) or {})


def request_render(
    session: Session, clip: Clip, treatment: Treatment, versus: dict[str, Any] | None = None
) -> list[Work]:
    """Queue a render of a treatment, and before it what it needs: measuring, following pinned points.

    `versus` makes it a comparison: {"treatment": document, or null for as shot, "layout", "place", "turn"}.
    """
    needed = [request_measurement(session, clip, treatment)]
    if treatment.motion.intent == "pin":
        needed += request_pins(session, clip, treatment)
    other = Treatment.from_json(versus["treatment"]) if versus and versus["treatment"] else None
    if other is not None and other.motion.intent == "pin":
        needed += request_pins(session, clip, other)
    render = Render(clip_id=clip.id, treatment=like_source(treatment, clip_info(clip)).to_json(), versus=versus)
    session.add(render)
    session.flush()
    work = start_work(session, Work(kind="render", clip_id=clip.id, render_id=render.id))
    return [*(work for work in needed if work), work]


def start_on(session: Session, clip: Clip, render: bool) -> list[Work]:
    """Measure a clip for the treatment it has, and render it if wanted."""
    treatment = Treatment.from_json(clip.draft or {})
    if render:
        return request_render(session, clip, treatment)
    work = request_measurement(session, clip, treatment)
    return [work] if work else []


def render_bytes(render: Render) -> int:
    """About how large a render's file becomes."""
    info, treatment = clip_info(render.clip), Treatment.from_json(render.treatment)
    first, last = treatment.frames(info.frames)
    own = treatment.view.size if treatment.view is not None and info.camera == "sphere" else None
    size, output = own or treatment.edges.size or info.coded, treatment.output
    larger = enlargement(treatment.optics, info.display, first, last) ** 2
    pixels = round(size.width * size.height * larger) * (
        2 if render.versus and render.versus["layout"] == "side" else 1
    )
    return expected_bytes(output.codec, output.quality, pixels, last - first + 1, info.bit_depth > 8)


def render_name(render: Render) -> str:
    """The name that a render's file is saved under, with the timecode of its first picture where the clip has one."""
    info = clip_info(render.clip)
    ending = {"plate": "plate", "maps": "maps", "overlay": "over"}.get(render.kind, "steady")
    begins = ""
    if info.timecode is not None and render.kind != "maps":
        first, _ = Treatment.from_json(render.treatment).frames(info.frames)
        begins = "_" + str(info.timecode.plus(first)).replace(":", "-").replace(";", "-")
    return f"{PurePath(render.clip.name).stem}_{ending}{begins}{PurePath(render.key or '').suffix}"
