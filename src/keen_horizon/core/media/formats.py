"""What can be delivered: codecs, the containers that hold them, and the pixels they take."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from keen_horizon.core.media.chroma import ANY_SITE, CENTER, LEFT, TOP, TOPLEFT, WrittenChroma

CONTAINERS = {"mp4": "mp4", "mov": "mov", "mkv": "matroska", "webm": "webm"}
SEQUENCES = ("png", "tiff", "exr")

_PCM = {"pcm_s16le", "pcm_s16be", "pcm_s24le", "pcm_s24be", "pcm_s32le", "pcm_f32le"}
COPIED_SOUND = {
    "mp4": {"aac", "mp3", "ac3", "eac3", "alac", "opus", "flac"},
    "mov": {"aac", "mp3", "ac3", "eac3", "alac"} | _PCM,
    "mkv": {"aac", "mp3", "mp2", "ac3", "eac3", "alac", "opus", "flac", "vorbis"} | _PCM,
    "webm": {"opus", "vorbis"},
}
COPIED_SUBTITLES = {
    "mp4": {"mov_text"},
    "mov": {"mov_text"},
    "mkv": {"subrip", "srt", "ass", "ssa", "webvtt", "dvd_subtitle", "dvdsub", "hdmv_pgs_subtitle", "pgssub"},
    "webm": {"webvtt"},
}


@dataclass(frozen=True)
class VideoFormat:
    """A codec: FFmpeg's `encoder`, the containers that hold it, the first one its usual one.

    `options` gives the encoder's settings for a constant rate factor; `chroma` and `depths` are what it takes,
    the first being the nearest substitute for anything else; `alpha` the layouts that it keeps coverage with;
    `usual` is the rate factor to start from; one that does not say a range (`says_range`) holds limited ones.
    `sites` are those of 4:2:0 chroma that it has words for in a container, where they are not all of them.
    """

    encoder: str
    containers: tuple[str, ...]
    options: Callable[[int], dict[str, str]]
    chroma: tuple[str, ...] = ("420", "422", "444")
    depths: tuple[int, ...] = (8, 10)
    usual: int = 18
    tag: str | None = None
    alpha: tuple[str, ...] = ()
    says_range: bool = True
    sites: dict[str, tuple[int, ...]] = field(default_factory=dict)

    def fitting(self, chroma: str, depth: int) -> tuple[str, int]:
        """The chroma layout and bit depth that pictures are brought to: no fewer bits than theirs where it has them."""
        deep_enough = [own for own in self.depths if own >= depth]
        return (
            chroma if chroma in self.chroma else self.chroma[0],
            min(deep_enough) if deep_enough else max(self.depths),
        )

    def written(self, layout: str, container: str) -> WrittenChroma:
        """How chroma of a layout is written in one of the containers."""
        return WrittenChroma(layout, self.sites.get(container, ANY_SITE))


def _x264(quality: int) -> dict[str, str]:
    return {"crf": str(quality), "preset": "veryfast"}


def _x265(quality: int) -> dict[str, str]:
    return {"crf": str(quality), "preset": "fast", "x265-params": "log-level=error"}


def _prores(_: int) -> dict[str, str]:
    return {"vendor": "apl0", "alpha_bits": "16"}


def _vp9(quality: int) -> dict[str, str]:
    return {"crf": str(quality), "b": "0", "deadline": "good", "cpu-used": "5", "row-mt": "1"}


def _av1(quality: int) -> dict[str, str]:
    return {"crf": str(quality), "preset": "9"}


# Matroska's ChromaSitingHorz and ChromaSitingVert know left or middle, and top or middle (RFC 9559, 5.1.4.1.28).
# AV1's stream itself knows two (chroma_sample_position), VP9's none, so that players have it at the left.
_IN_MATROSKA = (0, LEFT, CENTER, TOPLEFT, TOP)
_VP9_SITES = {"webm": _IN_MATROSKA, "mkv": _IN_MATROSKA, "mp4": (LEFT,)}
_AV1_SITES = {"webm": _IN_MATROSKA, "mkv": _IN_MATROSKA, "mp4": (0, LEFT, TOPLEFT)}

VIDEO_FORMATS = {
    "h264": VideoFormat("libx264", ("mp4", "mov", "mkv"), _x264),
    "h265": VideoFormat("libx265", ("mp4", "mov", "mkv"), _x265, depths=(8, 10, 12), usual=20, tag="hvc1"),
    "prores": VideoFormat(
        "prores_ks", ("mov", "mkv"), _prores, chroma=("422", "444"), depths=(10,), alpha=("444",), says_range=False
    ),
    "vp9": VideoFormat(
        "libvpx-vp9", ("webm", "mkv", "mp4"), _vp9, depths=(8,), usual=24, alpha=("420",), sites=_VP9_SITES
    ),
    "av1": VideoFormat("libsvtav1", ("mp4", "mkv", "webm"), _av1, chroma=("420",), usual=24, sites=_AV1_SITES),
}


def written_chroma(codec: str, layout: str, container: str) -> WrittenChroma:
    """How chroma of a layout is written by a codec, or into numbered pictures."""
    return WrittenChroma(layout) if codec in SEQUENCES else VIDEO_FORMATS[codec].written(layout, container)


_BITS_PER_PIXEL = {"h264": 0.30, "h265": 0.22, "vp9": 0.30, "av1": 0.24}


def expected_bytes(codec: str, quality: int, pixels: int, frames: int, deep: bool) -> int:
    """About how large a file becomes: a rule of thumb, for telling whether the disk has room."""
    if codec in ("tiff", "exr"):
        return 6 * pixels * frames
    if codec == "png":
        return (5 if deep else 2) * pixels * frames
    if codec == "prores":
        return round(0.45 * pixels * frames)
    bits = _BITS_PER_PIXEL[codec] * 2 ** ((VIDEO_FORMATS[codec].usual - quality) / 6)
    return round(min(bits, 8.0) / 8 * pixels * frames) + (1 << 16)
