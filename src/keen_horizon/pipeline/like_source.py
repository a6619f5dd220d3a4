"""Delivering as near to the source as can be had: codec family, container, depth, chroma and bit rate.

A corrected clip takes the original's place in an edit; the nearer it is to it, the less is to be thought about.
"""

from __future__ import annotations

from fractions import Fraction

from keen_horizon.core.media.along import spoken
from keen_horizon.core.media.formats import SEQUENCES, VIDEO_FORMATS
from keen_horizon.core.media.probe import NUMBERED, ClipInfo
from keen_horizon.core.treatment.document import Treatment
from keen_horizon.core.treatment.output import AS_SOURCE, Output

FAMILIES = {"h264": "h264", "hevc": "h265", "prores": "prores", "vp9": "vp9", "av1": "av1", "vp8": "vp9"}
INTRA = ("dnxhd", "mjpeg", "jpeg2000", "cfhd", "v210", "rawvideo", "ffv1", "huffyuv", "qtrle", "png", "tiff", "exr")
OLDER = 2.0  # times the bits that H.264 needs for the same picture: MPEG-2, MPEG-4 part 2, DV
LEAST_KBPS = 200


def like_source(treatment: Treatment, info: ClipInfo) -> Treatment:
    """The treatment with its delivery worked out for this clip, where it asks for the source's."""
    if treatment.output.codec != AS_SOURCE:
        return treatment
    return treatment.model_copy(update={"output": near_source(treatment.output, info)})


def near_source(output: Output, info: ClipInfo) -> Output:
    """The nearest delivery to the source's own; a container that is asked for stays."""
    if info.carried.container == NUMBERED:
        codec = info.codec if info.codec in SEQUENCES else "png"
        return Output.model_validate({"codec": codec, "container": "zip", "sound": output.sound})
    family = FAMILIES.get(info.codec)
    codec = family or ("prores" if info.codec in INTRA or info.carried.alpha else "h264")
    holds = VIDEO_FORMATS[codec].containers
    own = output.container if output.container != AS_SOURCE else _container(info)
    container = own if own in holds else holds[0]
    settings: dict[str, object] = {"codec": codec, "container": container, "sound": output.sound}
    if codec == "prores":
        settings["profile"] = None
    elif info.carried.bit_rate:
        kbps = info.carried.bit_rate / 1000
        settings["bit_rate_kbps"] = round(max(LEAST_KBPS, kbps if family else kbps / OLDER))
    settings["quality"] = VIDEO_FORMATS[codec].usual
    return Output.model_validate(settings)


def what_cannot_be_had(info: ClipInfo) -> tuple[str, ...]:
    """In what a delivery like the source differs from it, for it to be said before rendering."""
    if info.carried.container == NUMBERED:
        return () if info.codec in SEQUENCES else ("JPEG pictures are not written here: PNG is nearest.",)
    near = near_source(Output.model_validate({"codec": AS_SOURCE, "container": AS_SOURCE}), info)
    notes = []
    if FAMILIES.get(info.codec) != near.codec:
        notes.append(f"{spoken(info.codec)} is not written here: {spoken(near.codec)} is nearest.")
    if _container(info) is None or _container(info) != near.container:
        notes.append(f"Its container is not written here: {near.container.upper()} is nearest.")
    if info.reading.pictures_per_frame > 1:
        rate = Fraction(info.rate).limit_denominator(1001)
        notes.append(f"Its fields become whole pictures, {float(rate):.5g} a second.")
    return tuple(notes)


def _container(info: ClipInfo) -> str | None:
    """The name of the source's container, where it is one that is written."""
    suffix = info.name.rpartition(".")[2].lower()
    kinds = {"mov": ("mov", "mp4"), "matroska": ("mkv", "webm")}.get(info.carried.container, ())
    usual = {"m4v": "mp4"}.get(suffix, suffix)
    if usual in kinds:
        return usual
    return {"mov": "mp4", "matroska": "mkv"}.get(info.carried.container)
