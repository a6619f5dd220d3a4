"""What goes along with a render, in which form, and what cannot: told before rendering, and obeyed by the writer.

Each thing that a file carries has a place in some containers and none in others; this module is the one that knows.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import av

from keen_horizon.core.media.carried import Carried, SoundFacts, SubtitleFacts
from keen_horizon.core.media.chroma import NAMES, turned_site
from keen_horizon.core.media.formats import COPIED_SOUND, COPIED_SUBTITLES, SEQUENCES, VIDEO_FORMATS, written_chroma
from keen_horizon.core.media.probe import NUMBERED, ClipInfo
from keen_horizon.core.media.sound_encoders import takes

EDIT_LISTS = ("mp4", "mov")  # can say that a file begins inside a packet and ends inside another
ENCODED_SOUND = {"mp4": "aac", "mov": "aac", "mkv": "flac", "webm": "libopus"}  # each cut to the sample there
LOSSLESS_SOUND = ("flac", "alac", "truehd", "mlp", "wavpack", "tta")
MOV_LOSSLESS = "pcm_s24le"
USUAL_LAYOUTS = {1: "mono", 2: "stereo", 3: "2.1", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
LIGHT_TELLING = ("h265", "av1")  # encoders that write static light levels into the stream

Outcome = Literal["kept", "changed", "lost"]


@dataclass(frozen=True)
class Fate:
    """What becomes of one thing that the clip carries."""

    what: str
    outcome: Outcome
    how: str = ""


@dataclass(frozen=True, kw_only=True)
class Delivery:
    """What the writer does with what a clip carries. `sounds` and `subtitles` hold, a track each, "copy", the encoder
    to use, or None where the track is left out.
    """

    sounds: tuple[str | None, ...] = ()
    subtitles: tuple[str | None, ...] = ()
    timecode: str | None = None
    tags: tuple[tuple[str, str], ...] = ()
    chapters: bool = False


def sound_way(sound: SoundFacts, container: str, whole: bool) -> str | None:
    """Either "copy", the encoder, or None where a sound track cannot go into a container; `whole`: nothing is cut."""
    if sound.codec is None:
        return None
    if sound.codec in COPIED_SOUND[container] and (whole or container in EDIT_LISTS):
        return "copy"
    layout = sound_layout(sound)
    if layout is None:
        return None
    lossless = sound.codec.startswith("pcm_") or sound.codec in LOSSLESS_SOUND
    encoder = MOV_LOSSLESS if container == "mov" and lossless else ENCODED_SOUND[container]
    return encoder if takes(encoder, sound.rate, layout) else None


def sound_layout(sound: SoundFacts) -> str | None:
    """The channel layout to encode with; files that only count their channels mean the usual one."""
    if sound.layout.endswith(" channels"):
        return USUAL_LAYOUTS.get(sound.channels)
    return sound.layout or USUAL_LAYOUTS.get(sound.channels)


def subtitle_way(subtitle: SubtitleFacts, container: str) -> str | None:
    """The word "copy" where a container takes the subtitles as they are."""
    return "copy" if subtitle.codec in COPIED_SUBTITLES[container] else None


def delivery(info: ClipInfo, container: str, *, sound: bool, first: int, whole: bool, note: str) -> Delivery:
    """What goes along into a film of frames from `first` on. `note` says what was done to the clip."""
    carried = info.carried
    timecode = info.timecode
    tags = {name: value for name, value in carried.tags.items() if name != "file_time"}
    tags.setdefault("creation_time", carried.tags.get("file_time", ""))
    tags["processing"] = note
    return Delivery(
        sounds=tuple(sound_way(track, container, whole) if sound else None for track in carried.sounds),
        subtitles=tuple(subtitle_way(track, container) for track in carried.subtitles),
        timecode=str(timecode.plus(first)) if timecode else None,
        tags=tuple((name, value) for name, value in tags.items() if value),
        chapters=carried.chapters > 0,
    )


def fates(
    info: ClipInfo, *, codec: str, container: str, sound: bool, whole: bool, clear: bool = False
) -> tuple[Fate, ...]:
    """What becomes of everything that the clip carries, thing by thing; `clear`: gaps are wanted clear."""
    carried = info.carried
    pictures = codec in SEQUENCES
    lines = [_pixels(info, codec, clear), *_chroma_places(info, codec, container, clear)]
    if info.codec == "exr":
        lines.append(Fate("light above white", "lost", "pictures are read up to white"))
    if info.reading.first_field:
        lines.append(Fate("interlaced fields", "changed", f"whole pictures, {info.rate:.5g} a second"))
    lines += _sounds(carried, container, sound, whole, pictures)
    for number, subtitle in enumerate(carried.subtitles, 1):
        what = f"subtitles {number}{_named(subtitle.language, subtitle.title)}"
        way = None if pictures else subtitle_way(subtitle, container)
        lines.append(
            Fate(what, "kept") if way else Fate(what, "lost", f"{subtitle.codec} does not go into {container}")
        )
    if carried.chapters:
        lines.append(Fate("chapters", "lost", "pictures have none") if pictures else Fate("chapters", "kept"))
    if carried.timecode:
        lines.append(_timecode(info, pictures))
    lines += _tags(carried, pictures)
    if carried.light:
        keeps = codec in LIGHT_TELLING
        lines.append(
            Fate("HDR light levels", "kept")
            if keeps
            else Fate("HDR light levels", "lost", "only H.265 and AV1 write them here")
        )
    lines += [Fate(f"HDR {name}", "lost", "they fit the pictures as shot only") for name in carried.dynamic]
    if carried.alpha:
        lines.append(_alpha(info, codec))
    elif clear and not keeps_alpha(info, codec, clear):
        lines.append(Fate("clear gaps", "lost", f"{spoken(codec)} has no alpha; they have the gaps' colour"))
    lines += [Fate(other, "lost", "a render has no place for it") for other in carried.others]
    return tuple(lines)


def summary(lines: tuple[Fate, ...]) -> str:
    """One line: what goes along, what does not."""
    kept = [line.what for line in lines if line.outcome == "kept"]
    changed = [f"{line.what} ({line.how})" for line in lines if line.outcome == "changed"]
    lost = [f"{line.what} ({line.how})" if line.how else line.what for line in lines if line.outcome == "lost"]
    parts = [f"Kept: {', '.join(kept)}" if kept else "", f"changed: {', '.join(changed)}" if changed else ""]
    parts.append(f"not kept: {', '.join(lost)}" if lost else "")
    return "; ".join(part for part in parts if part) + "."


def kept_pixels(info: ClipInfo, codec: str, clear: bool = False) -> tuple[str, int]:
    """Chroma layout and depth of the output for pictures stored upright as the clip's; `clear` as `keeps_alpha`."""
    stored = chroma_of(info)
    if codec in SEQUENCES:
        return "444", 8 if info.bit_depth == 8 else 16
    format_ = VIDEO_FORMATS[codec]
    chroma, depth = format_.fitting(stored, info.bit_depth)
    if keeps_alpha(info, codec, clear):
        chroma = chroma if chroma in format_.alpha else format_.alpha[0]
    return chroma, depth


def chroma_of(info: ClipInfo) -> str:
    """The upright clip's chroma layout; 4:2:2 that is stored turned has no name, and becomes 4:2:0."""
    for layout in ("420", "422", "444"):
        if f"{layout}p" in info.pixel_format:
            return "420" if layout == "422" and info.turns % 2 else layout
    if info.pixel_format.startswith(("nv12", "nv21", "p010", "p012", "p016")):
        return "420"
    if info.pixel_format.startswith(("yuyv", "uyvy", "nv16", "p21", "y21")):
        return "420" if info.turns % 2 else "422"
    return "444"


def _stored_chroma(info: ClipInfo) -> str:
    """The chroma layout that the file itself has, also where it is read as another."""
    told = re.search(r"yuva?j?(\d{3})p", info.pixel_format)
    return told[1] if told and not (told[1] == "422" and info.turns % 2) else chroma_of(info)


def keeps_alpha(info: ClipInfo, codec: str, clear: bool = False) -> bool:
    """Whether coverage is written: the clip's own, or with `clear` that of its gaps, where the codec has a place."""
    return (info.carried.alpha or clear) and (codec in SEQUENCES or bool(VIDEO_FORMATS[codec].alpha))


def _pixels(info: ClipInfo, codec: str, clear: bool) -> Fate:
    stored, (chroma, depth) = _stored_chroma(info), kept_pixels(info, codec, clear)
    rgb = info.carried.container == NUMBERED or av.VideoFormat(info.pixel_format).is_rgb
    narrowed = info.carried.full_range and not rgb and codec not in SEQUENCES and not VIDEO_FORMATS[codec].says_range
    own = f"{'R G B' if rgb else ':'.join(stored)} at {info.bit_depth} bits{', full range' if narrowed else ''}"
    if codec == "exr":
        return Fate(own, "changed", "as linear light, half floats")
    if codec in SEQUENCES:
        if rgb and (codec == "tiff" or depth == info.bit_depth) and info.codec != "exr":
            return Fate(own, "kept")
        return Fate(own, "changed", f"as R G B at {16 if codec == 'tiff' else depth} bits")
    if (chroma, depth) == (stored, info.bit_depth) and not rgb and not narrowed:
        return Fate(own, "kept")
    matrix = ", BT.709" if rgb else ", limited range" if narrowed else ""
    return Fate(own, "changed", f"{':'.join(chroma)} at {depth} bits{matrix}")


def _chroma_places(info: ClipInfo, codec: str, container: str, clear: bool) -> list[Fate]:
    """What becomes of where chroma samples lie, where they are not made anew anyway."""
    layout, site = kept_pixels(info, codec, clear)[0], turned_site(info.reading.site, info.turns)
    if layout != _stored_chroma(info) or written_chroma(codec, layout, container).keeps(site):
        return []
    lies = f" ({NAMES[site]})" if site < len(NAMES) else ""
    return [Fate(f"chroma's place{lies}", "changed", f"{spoken(codec)} in {container} has no word for it: left")]


def _sounds(carried: Carried, container: str, sound: bool, whole: bool, pictures: bool) -> list[Fate]:
    lines = []
    for number, track in enumerate(carried.sounds, 1):
        what = f"sound {number}" if len(carried.sounds) > 1 else "sound"
        what += _named(spoken(track.codec or ""), sound_layout(track) or track.layout, track.language, track.title)
        if pictures:
            lines.append(Fate(what, "lost", "pictures have none"))
            continue
        way = sound_way(track, container, whole)
        if not sound:
            lines.append(Fate(what, "lost", "as asked"))
        elif track.codec is None:
            lines.append(Fate(what, "lost", "damaged, or of a kind that cannot be read here"))
        elif way is None:
            lines.append(Fate(what, "lost", _refusal(track, container)))
        elif way == "copy":
            lines.append(Fate(what, "kept"))
        else:
            lines.append(Fate(what, "changed", f"encoded as {spoken(way)}"))
    return lines


def _refusal(sound: SoundFacts, container: str) -> str:
    layout = sound_layout(sound)
    if layout is None:
        return f"{sound.channels} channels of no named layout"
    return f"{spoken(ENCODED_SOUND[container])} does not take {layout} at {sound.rate} Hz"


def _timecode(info: ClipInfo, pictures: bool) -> Fate:
    if info.timecode is None:
        return Fate("timecode", "lost", f"“{info.carried.timecode}” does not fit {float(info.stored_rate):.3f} fps")
    return Fate("timecode", "changed", "in the table of times") if pictures else Fate("timecode", "kept")


def _tags(carried: Carried, pictures: bool) -> list[Fate]:
    names = [_TAG_NAMES.get(name, name) for name in carried.tags if name != "file_time"]
    if not names:
        return []
    what = ", ".join(names)
    return [Fate(what, "lost", "pictures have no place for them")] if pictures else [Fate(what, "kept")]


def _alpha(info: ClipInfo, codec: str) -> Fate:
    return Fate("alpha", "kept") if keeps_alpha(info, codec) else Fate("alpha", "lost", f"{spoken(codec)} has none")


def _named(*parts: str) -> str:
    told = [part for part in parts if part]
    return f" ({', '.join(told)})" if told else ""


def spoken(codec: str) -> str:
    """A codec's name as editors say it."""
    if codec.startswith("pcm_"):
        bits = "".join(letter for letter in codec.split("_")[1] if letter.isdigit())
        return f"PCM {bits} bits" if bits else "PCM"
    return _SPOKEN.get(codec, codec)


_SPOKEN = {
    "aac": "AAC", "ac3": "AC-3", "eac3": "E-AC-3", "mp2": "MPEG layer II", "mp3": "MP3", "flac": "FLAC", "alac": "ALAC",
    "opus": "Opus", "libopus": "Opus", "vorbis": "Vorbis", "h264": "H.264", "h265": "H.265", "hevc": "H.265",
    "mpeg2video": "MPEG-2", "mpeg1video": "MPEG-1", "mpeg4": "MPEG-4 part 2", "dvvideo": "DV", "prores": "ProRes",
    "dnxhd": "VC-3", "mjpeg": "Motion JPEG", "vp8": "VP8", "vp9": "VP9", "av1": "AV1", "rawvideo": "uncompressed",
}  # fmt: skip
_TAG_NAMES = {"creation_time": "creation time", "make": "camera make", "model": "camera model", "location": "place"}
