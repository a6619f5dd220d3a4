"""Comparing what was found with what was so, and making files with a second implementation."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import av
import numpy as np

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.geometry.similarity import Similarities

SMALL = Size(640, 360)


def corner_errors(found: Similarities, true: Similarities, size: Size) -> np.ndarray:
    """Distances (N, 4) between the corners of a frame moved by two similarities."""
    corners = (size.corners() @ [1, 1j]).astype(complex)
    return np.abs(found.apply(corners) - true.apply(corners))


def pair_truth(poses: Similarities) -> Similarities:
    """next_from_this of poses reference_from_frame."""
    return poses[1:].inverse() @ poses[:-1]


def rms(values: np.ndarray) -> float:
    """Root of the mean square."""
    return float(np.sqrt((np.asarray(values) ** 2).mean()))


def padding(size: int) -> bytes:
    """A box of MP4 that players pass over, to make a file larger."""
    return size.to_bytes(4, "big") + b"free" + bytes(size - 8)


def run_ffmpeg(ffmpeg: str, *arguments: object) -> None:
    """Run ffmpeg, quietly, or fail with what it said."""
    command = [ffmpeg, "-y", "-v", "error", *(str(argument) for argument in arguments)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def ffprobe(path: Path) -> dict[str, Any]:
    """What ffprobe says of a file, and of its first pictures."""

    def told(*options: str) -> dict[str, Any]:
        command = ["ffprobe", "-v", "error", *options, "-of", "json", str(path)]
        found: dict[str, Any] = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        return found

    first = told("-select_streams", "v:0", "-show_frames", "-read_intervals", "%+#4")
    return told("-show_format", "-show_streams", "-show_chapters") | {"frame": first}


def encoded(ffmpeg: str, path: Path, frames: Iterable[np.ndarray], rate: int, *options: object) -> Path:
    """Encode pictures (rows, columns, 3), BGR, as ffmpeg is told to."""
    pictures = list(frames)
    rows, columns = pictures[0].shape[:2]
    command = [
        ffmpeg, "-y", "-v", "error", "-f", "rawvideo", "-pix_fmt", "bgr24", "-s", f"{columns}x{rows}", "-r", str(rate),
        "-i", "-", *(str(option) for option in options), str(path),
    ]  # fmt: skip
    done = subprocess.run(command, input=b"".join(p.tobytes() for p in pictures), capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    return path


def turned(flat: Path, clip: Path, degrees: int) -> None:
    """Copy a film with a rotation flag set, its pictures untouched."""
    with av.open(str(flat)) as source, av.open(str(clip), "w") as out:
        stream = out.add_stream_from_template(source.streams.video[0])
        stream.set_display_rotation(degrees)
        for packet in source.demux(source.streams.video[0]):
            if packet.dts is not None:
                packet.stream = stream
                out.mux(packet)
