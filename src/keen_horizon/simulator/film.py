"""Taking pictures: rays of a coarse grid through the lens, the rotation of their row's moment, and what
they meet; then grain, fall-off and fringes. The grid is exact at its nodes, 8 px apart, and linear
between them, which is below 0.01 px of error for the lenses used here.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.audio.frame
import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.picture import Size
from keen_horizon.core.media.encode import EncodeSettings, write_video
from keen_horizon.core.media.stored import Tags
from keen_horizon.simulator.camera import Flight, Lens, Sensor
from keen_horizon.simulator.layers import Layer
from keen_horizon.simulator.light import Glass
from keen_horizon.simulator.panorama import Panorama

Floats = NDArray[np.float64]
Picture = NDArray[np.uint8]

GRID_PX = 8
BLUR_SAMPLES = 5
GRAIN_MARGIN = 64
BT601 = Tags(1, 1, 6, 1)
SOUND_RATE = 48_000


@dataclass(frozen=True)
class Shot:
    """Everything one clip needs: the world, the camera's path and its glass."""

    name: str
    size: Size
    rate: int
    frames: int
    world: Panorama
    layers: list[Layer]
    flight: Flight
    lens: Lens
    sensor: Sensor
    glass: Glass | None = None

    def truth(self) -> dict[str, Any]:
        """The truth that goes beside the file."""
        return {
            "clip": self.name,
            "width": self.size.width,
            "height": self.size.height,
            "rate": self.rate,
            "lens": asdict(self.lens),
            "sensor": asdict(self.sensor),
            "glass": self.glass and self.glass.to_json(),
            "frames": self.flight.to_json(self.frames, self.rate),
        }


def take(shot: Shot) -> Iterator[Picture]:
    """Yield the shot's BGR pictures."""
    camera = _Camera(shot)
    pictures = (camera.picture(number / shot.rate) for number in range(shot.frames))
    yield from pictures if shot.glass is None else shot.glass.seen(pictures, shot.size)


def write_shot(shot: Shot, folder: Path, quality: int = 19) -> Path:
    """Write the clip (H.264 and AAC in MP4) and its truth (JSON); return the clip's path."""
    folder.mkdir(parents=True, exist_ok=True)
    clip = folder / f"{shot.name}.mp4"
    silent = folder / f".{shot.name}-silent.mp4"
    write_pictures(take(shot), shot.size, shot.rate, silent, quality)
    add_sound(silent, clip, shot.frames / shot.rate, shot.sensor.seed)
    silent.unlink()
    (folder / f"{shot.name}.truth.json").write_text(json.dumps(shot.truth()))
    return clip


def write_pictures(pictures: Iterator[Picture], size: Size, rate: int, path: Path, quality: int) -> None:
    """Encode BGR pictures without sound."""
    settings = EncodeSettings(
        size,
        8,
        "420",
        Fraction(rate),
        Fraction(1, rate * 512),
        quality=quality,
        preset="superfast",
        tags=BT601,
        threads=2,
    )
    with write_video(path, settings) as writer:
        for number, picture in enumerate(pictures):
            packed = cv2.cvtColor(picture, cv2.COLOR_BGR2YUV_I420).ravel()
            luma = size.width * size.height
            halves = (size.height // 2, size.width // 2)
            planes = (
                packed[:luma].reshape(size.height, size.width),
                packed[luma : luma * 5 // 4].reshape(halves),
                packed[luma * 5 // 4 :].reshape(halves),
            )
            writer.write(planes, Fraction(number, rate))


def add_sound(silent: Path, clip: Path, seconds: float, seed: int, *, front: bool = True) -> None:
    """Copy the pictures of one file into another, with the sound of sea and gulls; its index goes to the `front`."""
    options = {"movflags": "+faststart"} if front else {}
    with av.open(str(silent)) as source, av.open(str(clip), "w", options=options) as out:
        pictures = source.streams.video[0]
        video = out.add_stream_from_template(pictures)
        audio = out.add_stream("aac", rate=SOUND_RATE)
        audio.layout = "mono"
        for packet in source.demux(pictures):
            if packet.dts is not None:
                packet.stream = video
                out.mux(packet)
        wave = _sea_sound(seconds, seed)
        for start in range(0, len(wave), 1024):
            frame = av.audio.frame.AudioFrame.from_ndarray(wave[None, start : start + 1024], "fltp", "mono")
            frame.sample_rate, frame.pts = SOUND_RATE, start
            out.mux(audio.encode(frame))
        out.mux(audio.encode(None))


def _sea_sound(seconds: float, seed: int) -> NDArray[np.float32]:
    random = np.random.default_rng(seed)
    count = int(seconds * SOUND_RATE)
    frequency = np.fft.rfftfreq(count, 1 / SOUND_RATE)
    spectrum = np.fft.rfft(random.standard_normal(count)) / (1 + (frequency / 300) ** 1.2)
    sea = np.fft.irfft(spectrum, count)
    when = np.arange(count) / SOUND_RATE
    wave = 0.06 * sea / sea.std() * (0.7 + 0.3 * np.sin(2 * np.pi * when / 4.1))
    for at in random.uniform(0, seconds, 4):
        call = np.clip((when - at) / 0.45, 0, 1)
        wave += 0.07 * np.sin(2 * np.pi * (1500 * when + 260 * np.sin(6 * when))) * np.sin(np.pi * call) ** 2
    return wave.astype(np.float32)


class _Camera:
    """Takes pictures of a shot; keeps what does not change between them."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot
        size = shot.size
        columns = np.arange(0, size.width + GRID_PX, GRID_PX, dtype=np.float64)
        rows = np.arange(0, size.height + GRID_PX, GRID_PX, dtype=np.float64)
        x, y = np.meshgrid(columns - size.centre.real, rows - size.centre.imag)
        offsets = np.stack([x, y], -1)
        radius = np.hypot(x, y)[..., None] / size.half_diagonal
        spread = shot.lens.fringe_px / size.half_diagonal
        self.rays = [shot.lens.rays(offsets * (1 + s * radius**2)) for s in (-spread, 0.0, spread)]
        self.row_times = rows / size.height * shot.sensor.readout_s
        self.gain = self._falloff_gain()
        self.random = np.random.default_rng(shot.sensor.seed)
        grain = self.random.normal(0, shot.sensor.noise, (size.height + GRAIN_MARGIN, size.width + GRAIN_MARGIN))
        self.grain = cv2.merge([np.round(grain).astype(np.int16)] * 3)

    def picture(self, time: float) -> Picture:
        """The picture that starts at `time`."""
        exposure = self.shot.sensor.exposure_s
        if not exposure:
            return self._developed(self._sharp(time))
        total = np.zeros((self.shot.size.height, self.shot.size.width, 3), np.float32)
        for moment in np.linspace(0, exposure, BLUR_SAMPLES):
            cv2.accumulate(self._sharp(time + float(moment)), total)
        return self._developed(cv2.convertScaleAbs(total, alpha=1 / BLUR_SAMPLES))

    def _sharp(self, time: float) -> Picture:
        turned = self.shot.flight.rotation_at(time + self.row_times).as_matrix()
        position = self.shot.flight.position_at(time)
        if not self.shot.lens.fringe_px:
            return self._seen(np.einsum("rij,rcj->rci", turned, self.rays[1]), position, time)
        parts = [self._seen(np.einsum("rij,rcj->rci", turned, rays), position, time) for rays in self.rays]
        return np.stack([parts[channel][..., channel] for channel in range(3)], -1)

    def _seen(self, rays: Floats, position: Floats, time: float) -> Picture:
        world = self.shot.world
        whole = slice(0, self.shot.size.height)
        picture = self._sampled(world.picture, world.pixels(rays), whole, cv2.BORDER_REPLICATE)
        for layer in self.shot.layers:
            nodes = layer.pixels(rays, position, time)
            part = self._rows_of(layer.texture, nodes)
            if part.stop <= part.start:
                continue
            front = self._sampled(layer.texture, nodes, part, cv2.BORDER_CONSTANT)
            clear = cv2.merge([255 - front[..., 3]] * 3)
            behind = cv2.multiply(picture[part], clear, scale=1 / 255)
            picture[part] = cv2.add(behind, cv2.cvtColor(front, cv2.COLOR_BGRA2BGR))
        return picture

    def _rows_of(self, texture: Picture, nodes: tuple[Floats, Floats]) -> slice:
        """The rows of the picture that a layer's texture can reach, whole grid cells."""
        columns, rows = nodes
        inside = (columns > -9) & (columns < texture.shape[1] + 9) & (rows > -9) & (rows < texture.shape[0] + 9)
        hit = np.flatnonzero(inside.any(1))
        if not len(hit):
            return slice(0, 0)
        return slice(max(0, int(hit[0]) - 1) * GRID_PX, min(self.shot.size.height, (int(hit[-1]) + 1) * GRID_PX))

    def _sampled(self, texture: Picture, nodes: tuple[Floats, Floats], rows: slice, border: int) -> Picture:
        spread = np.array([[1 / GRID_PX, 0, 0], [0, 1 / GRID_PX, 0]])
        size = (self.shot.size.width, rows.stop - rows.start)
        first = rows.start // GRID_PX
        x, y = (
            cv2.warpAffine(n[first:].astype(np.float32), spread, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
            for n in nodes
        )
        return np.asarray(cv2.remap(texture, x, y, cv2.INTER_LINEAR, borderMode=border), np.uint8)

    def _falloff_gain(self) -> NDArray[np.float32] | None:
        if not self.shot.lens.falloff:
            return None
        size = self.shot.size
        x, y = np.arange(size.width) - size.centre.real, np.arange(size.height) - size.centre.imag
        radius2 = (x[None, :] ** 2 + y[:, None] ** 2) / size.half_diagonal**2
        gain = ((1 - self.shot.lens.falloff * radius2) ** (1 / 2.2)).astype(np.float32)
        return cv2.merge([gain] * 3)

    def _developed(self, picture: Picture) -> Picture:
        if self.gain is not None:
            picture = cv2.multiply(picture, self.gain, dtype=cv2.CV_8U)
        if self.shot.sensor.noise:
            down, across = self.random.integers(0, GRAIN_MARGIN, 2)
            grain = self.grain[down : down + picture.shape[0], across : across + picture.shape[1]]
            picture = cv2.add(picture, grain, dtype=cv2.CV_8U)
        return picture
